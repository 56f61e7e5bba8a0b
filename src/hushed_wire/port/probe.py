"""The probe's firmware: an I2C master on two pins behind a serial port, in the language that `scan --link` and `send --link` speak (docs/probe.md)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from fractions import Fraction

from ..errors import HushedError
from ..version import VERSION
from .render import Emitted, filled
from .targets import Target
from .wired import Pin
from .written import text_literal

__all__ = ["probe_of"]

BAUD = 115200
ROOM = 64  # bytes of a transfer: a line of it and an answer fit into a kilobyte of RAM
EDGES = 200  # that a probe that watches keeps until its bus rests: three bytes each
HALF_US = 5  # microseconds of half a clock: 100 kHz, which every part takes
WITH_SERIAL = ("c", "avr", "python")  # targets that have a serial port here


def probe_of(target: Target, pins: Mapping[str, str], cpu: Fraction | None = None) -> Emitted:
    """The source. pins: role to pin: scl, sda, and any other line that `line` may set. Raises HushedError where the target has no serial port here."""
    if target.name not in WITH_SERIAL:
        raise HushedError(
            f"the probe's firmware is not emitted for {target.title}",
            where="--for",
            remedy="take avr or python, or c and fill in its functions",
        )
    roles = ["scl", "sda", *(role for role in pins if role not in ("scl", "sda"))]
    own: list[Pin] = []
    for role in roles:
        if not re.fullmatch(r"[a-z][a-z0-9_]*", role):
            raise HushedError(
                f"'{role}' is no name for a line", where="--pin", remedy="small letters and digits, like --pin reset=PB0"
            )
        pin = Pin(role, pins.get(role, role.upper()), True, role in ("scl", "sda"))
        if target.pin:
            found = re.fullmatch(target.pin, pins.get(role, ""))
            if found is None:
                raise HushedError(
                    f"the pin of {role} is not said", where="--pin", remedy=f"say --pin {role}={target.pin_example}"
                )
            pin.at = found.groups()
        elif target.family == "python":
            if role not in pins:
                raise HushedError(
                    f"the pin of {role} is not said", where="--pin", remedy=f"say --pin {role}=5, as the interpreter calls it"
                )
            pin.at = (pins[role] if pins[role].isdecimal() else text_literal(pins[role]),)
        own.append(pin)
    hertz = target.hertz(cpu)
    d = {
        "n": "probe", "N": "PROBE", "hush": f"hushed-wire {VERSION}", "pins": own, "hertz": hertz, "bus": "i2c", "hard": "", "bang": True, "has_dc": False,
        "bus_pins_open_drain": True, "mode": 0, "msb": True, "half_us": HALF_US, "serial": BAUD, "probe_room": ROOM, "probe_name": "two-pins",
        "probe_watches": target.watches, "probe_edges": EDGES,
        "probe_lines": [pin.role for pin in own if not pin.open_drain],
    }  # fmt: skip
    names = [("probe.py.j2", "probe.py")]
    if target.family == "c":
        names = [("probe.c.j2", "probe.c"), (f"target/{target.port}.h.j2", "probe_port.h")]
        if target.name == "c":
            names.append((f"target/{target.port}.c.j2", "probe_port.c"))
    return Emitted(
        {name: filled(target, template, d) for template, name in names},
        3 * ROOM + 4 * ROOM + 80 + (3 * EDGES if target.watches else 0),
        0,
        0,
        [],
    )
