"""How a driver is wired, and what it moves itself: the pins of the target, the bus and an adapter on it, for the templates."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from ..bus.base import ANSWERS, BUSES
from ..errors import HushedError
from ..part.output_pins import pins_of
from ..part.wrap import WRAPS
from ..rig.schema import lamps_of
from ..units import parse
from ..version import VERSION
from .names import identifier, remark
from .plan import Plan
from .scanning import Scan
from .targets import Target
from .written import as_python

__all__ = ["Pin", "context", "pins_moved"]

STARTS_HIGH = {"cs", "cs1", "cs2", "cs3", "reset", "wr", "rd"}


@dataclass
class Pin:
    """role, line: as the rig has them. idle: its level at rest. must: it has to be so before anything else. at: where it is on the target."""

    role: str
    line: str
    idle: bool
    open_drain: bool = False
    must: bool = False
    at: tuple[str, ...] = ()
    bit: int = 0


EMITTED = (
    "i2c-control-byte", "i2c-first-byte", "i2c-register", "i2c-plain", "i2c-continued", "dc-line", "nine-bit", "register-pairs", "rs-line", "nibbles",
)  # fmt: skip


def _by_pins(made: Plan, target: Target, bang: bool | None) -> bool:
    """Whether the bus is moved bit by bit on its pins; raises HushedError where the target cannot do what is asked for."""
    wired, framing = made.bus.kind, made.target.framing
    can = wired in target.hardware
    if framing not in EMITTED:
        what = f"drivers are not emitted for parts that are wired by {framing}"
        raise HushedError(what, where=made.source, remedy="hushed-wire build --as c writes the words")
    selects = [role for role in made.bus.lines if role in ("cs1", "cs2", "cs3")]
    if made.target.chips > 1 and wired == "parallel" and len(selects) < made.target.chips:
        what = f"this panel is on {made.target.chips} controllers, each on a strobe of its own"
        raise HushedError(
            what, where=made.source, remedy="drivers are emitted for controllers that are told apart by select lines"
        )
    if bang is False and not can:
        raise HushedError(f"{target.title} has no peripheral for {BUSES[wired].title}", where="--bus", remedy="take --bus pins")
    if bang and target.family == "python" and can:
        raise HushedError("Python drives buses by its objects", where="--bus", remedy="take --bus hardware, or another target")
    return bang if bang is not None else target.usual == "pins" or not can


def context(made: Plan, target: Target, bang: bool | None, given: Mapping[str, str], cpu: Fraction | None) -> dict[str, Any]:
    """What every template of a family is filled in with, but for what is sent and drawn."""
    bang = _by_pins(made, target, bang)
    part, own, bridge = made.part, made.target, made.bridge
    name = identifier(made.device.name)
    pins = pins_moved(made, target, bang, given)
    hertz = target.hertz(cpu)
    out: dict[str, Any] = {
        "n": name, "N": name.upper(), "cls": "".join(word.capitalize() for word in name.split("_")), "title": remark(made.rig.title or made.device.name),
        "part": part.name.upper(), "panel": remark(own.panel.name), "wired": remark(_wired(made)), "source": remark(made.source),
        "hush": f"hushed-wire {VERSION}", "datasheet": remark(part.source), "pins": pins, "hertz": hertz, "frame_bytes": 0,
        "word_wait": made.word_wait, "serial": 0, "bridge": None, "parameters_are_data": part.parameters == "data",
    }  # fmt: skip
    out |= _bus_facts(made, bang, pins)
    if bridge is not None:
        out |= {"bridge": _bridge(made, bang), "data_pins": [Pin(f"d{k}", "", False) for k in range(4, 8)]}
    return out


def _bus_facts(made: Plan, bang: bool, pins: list[Pin]) -> dict[str, Any]:
    """How the bus is moved, and how the part is spoken to on it."""
    own, bus, bridge = made.target, made.bus, made.bridge
    framing, roles = WRAPS[own.framing], {pin.role for pin in pins}
    inner = bus.kind if bridge is None else "parallel"
    clock = parse(bus.clock, "Hz", "clock") if bus.clock else Fraction(100_000 if bus.kind == "i2c" else 1_000_000)
    address = made.device.address if bridge is None else bridge.address
    parallel = bridge is None and inner == "parallel"
    data_pins = [pin for pin in pins if re.fullmatch(r"d\d+", pin.role)] if parallel else []
    for pin in data_pins:
        pin.bit = 1 << int(pin.role[1:])
    control = own.framing == "i2c-control-byte"
    return {
        "bus": inner, "bang": bang, "hard": "" if bang else bus.kind, "framing": own.framing, "chips": own.chips, "address": address or 0,
        "mode": bus.mode, "msb": bus.order == "msb", "nine": framing.bits == 9, "halved": framing.halves, "select_high": bus.select == "high",
        "has_select": "cs" in roles and inner == "spi", "has_dc": own.framing == "dc-line", "clock": int(clock),
        "half_us": max(1, -int(-Fraction(500_000) / clock // 1)), "room": max(0, bus.driver.longest_write - 1) if control else 0,
        "data_pins": data_pins, "select_pins": [role for role in ("cs1", "cs2", "cs3") if role in roles and parallel],
        "all_chips": "0U" if own.chips > 1 else "", "chips0": "0U, " if own.chips > 1 else "",
        "bus_pins_open_drain": any(pin.open_drain for pin in pins), "linux_room": max(64, 2 + _longest(made)),
        "idle_bits": sum(1 << number for number, pin in enumerate(pins) if pin.idle),
        "open_drain_bits": sum(1 << number for number, pin in enumerate(pins) if pin.open_drain),
    }  # fmt: skip


def _longest(made: Plan) -> int:
    """Bytes of the longest transfer that is sent, or drawn."""
    sent = [sum(len(run.raw) for run in runs) for piece in [*made.start, *made.show] for _, runs in piece.transfers]
    return max([*sent, made.target.panel.width])


def _wired(made: Plan) -> str:
    if made.bridge is not None:
        at = "" if made.bridge.address is None else f" at 0x{made.bridge.address:02X}"
        return f", behind a {made.bridge.part.upper()}{at}"
    return f", I2C address 0x{made.device.address or 0:02X}" if made.bus.kind == "i2c" else f", {BUSES[made.bus.kind].title}"


def pins_moved(made: Plan | Scan, target: Target, bang: bool, given: Mapping[str, str]) -> list[Pin]:
    """The pins that the driver moves itself, in the order of the rig."""
    bus = made.bus
    roles = dict(bus.lines)
    if not bang:
        roles = {role: line for role, line in roles.items() if role not in ("scl", "sda", "sck", "mosi", "miso")}
    roles = {role: line for role, line in roles.items() if role not in ANSWERS}
    for role in given:
        if role not in bus.lines:
            raise HushedError(f"no pin of the driver is '{role}'", where="--pin", remedy=f"it has {', '.join(bus.lines)}")
    out = []
    for role, line in roles.items():
        pin = Pin(role, remark(line), _at_rest(made, role), role in ("scl", "sda"), role in STARTS_HIGH and _at_rest(made, role))
        if target.pin:
            text = given.get(role) or str(bus.pins.get(role, "")) or line
            found = re.fullmatch(target.pin, text)
            if found is None:
                what = f"the pin of {role} is '{remark(text)}', which is none of {target.title}"
                raise HushedError(
                    what,
                    where="--pin",
                    remedy=f'say --pin {role}={target.pin_example}, or write it into the rig: pins = {{ {role} = "{target.pin_example}" }}',
                )
            pin.at = found.groups()
            pin.line = remark(text)
        elif role in given or role in bus.pins:
            pin.line = remark(given.get(role) or str(bus.pins[role]))
        out.append(pin)
    places = [pin.at for pin in out if pin.at]
    double = next((place for place in places if places.count(place) > 1), None)
    if double is not None:
        names = " and ".join(pin.role for pin in out if pin.at == double)
        raise HushedError(f"{names} are on one pin", where="--pin", remedy="give each a pin of its own")
    return out


def _at_rest(made: Plan | Scan, role: str) -> bool:
    """The level of a line when nothing goes on."""
    if role in ("cs", "cs1", "cs2", "cs3"):
        return made.bus.select == "low"
    if role == "sck":
        return made.bus.mode in (2, 3)
    if isinstance(made, Scan):  # dark: rows and enable off
        row = role.startswith(("row", "digit")) or role == "enable"
        column = role.startswith(("column", "segment"))
        lamps = lamps_of(made.target, made.bus)
        return lamps.row == 0 if row else lamps.column == 0 if column else False
    return role in ("scl", "sda", "reset", "wr", "rd")


def _bridge(made: Plan, bang: bool) -> dict[str, Any]:
    """An I2C expander of one port, or a register with a latch, whose outputs are a parallel bus of four data lines."""
    bridge = made.bridge
    assert bridge is not None
    part = bridge.chip
    able = {"i2c": "i2c-plain", "shift": "load"}.get(made.bus.kind) in part.framings and (
        made.bus.kind == "i2c" or "latch" in made.bus.lines
    )
    if not able or len(pins_of(part, bridge.count)) != 8 or bridge.direct:
        raise HushedError(
            f"drivers are not emitted through a {part.name}",
            where=made.source,
            remedy="they are through an I2C expander of eight plain outputs, like pcf8574, or one 74hc595 that drives rs, e and d4 to d7",
        )
    where = {role: pins_of(part, bridge.count)[pin] for role, pin in bridge.drives.items()}
    if not all(f"d{k}" in where for k in range(4, 8)) or "e" not in where or "rs" not in where:
        raise HushedError(
            "the adapter drives no bus of four data lines", where=made.source, remedy="its drives need rs, e and d4 to d7"
        )
    data = [where[f"d{k}"] for k in range(4, 8)]
    straight = data == list(range(data[0], data[0] + 4))
    if straight and data[0] == 4:
        nibble = "(half & 0xF0U)"
    elif straight:
        nibble = f"((half >> {4 - data[0]}) & 0x{0xF << data[0]:02X}U)"
    else:
        nibble = (
            "(" + " | ".join(f"((half & 0x{16 << k:02X}U) != 0U ? 0x{1 << bit:02X}U : 0x00U)" for k, bit in enumerate(data)) + ")"
        )
    own = sum(1 << bit for bit in data) | 1 << where["e"] | 1 << where["rs"] | (1 << where["rw"] if "rw" in where else 0)
    return {
        "layer": made.bus.kind, "bang": bang, "address": bridge.address or 0, "nibble": nibble, "rs": f"0x{1 << where['rs']:02X}U",
        "e": f"0x{1 << where['e']:02X}U", "keep": f"0x{0xFF & ~own:02X}U", "rest": f"0x{1 << where['backlight'] if 'backlight' in where else 0:02X}U",
        "bits": where, "rest_value": 1 << where["backlight"] if "backlight" in where else 0,
        "nibble_python": as_python(nibble) if straight else "(" + " | ".join(f"(half >> {4 + k} & 1) << {bit}" for k, bit in enumerate(data)) + ")",
    }  # fmt: skip
