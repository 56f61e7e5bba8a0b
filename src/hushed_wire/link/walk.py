"""The walk test: outputs driven one by one, and a person's answers turned into a segment map with polarity.

For a bridge its output pins are driven; for a digit driver the bits of a digit, then the digits. The core only asks and drives: who
answers is the caller's business. `walk` is a generator of questions; each answer is sent into it; what it returns is the map.
"""

from __future__ import annotations

from collections.abc import Generator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..errors import HushedError, nearest
from ..part.output_pins import pins_of
from ..rig.encoder import RigEncoder
from ..rig.schema import Bridge, Bus, Device, Rig
from ..sequence import expand, parse_text
from .send import play, send

__all__ = ["SEGMENTS", "Map", "bus_of", "walk"]

SEGMENTS = ("a", "b", "c", "d", "e", "f", "g", "dp")
NONE = ("-", "none", "")
Walk = Generator[str, str, "Map"]


@dataclass
class Map:
    """What was found. lights: output to segment, in the order of the walk. active: the level that lights. digits: for each digit
    of the driver its place on the panel, from 1 at the left. twice: segments that were named for several outputs."""

    name: str
    lights: dict[str, str] = field(default_factory=dict)
    active: str = "high"
    digits: dict[int, int] = field(default_factory=dict)
    is_bridge: bool = True

    def twice(self) -> list[str]:
        """Segments that were answered for more than one output."""
        named = list(self.lights.values())
        return sorted({name for name in named if named.count(name) > 1})

    def toml(self) -> str:
        """The lines for the rig file."""
        if self.is_bridge:
            drives = ", ".join(
                f'segment_{name} = "{pin}"' for pin, name in sorted(self.lights.items(), key=lambda entry: entry[1])
            )
            return f'# [[bridge]] {self.name}\ndrives = {{ {drives} }}\nactive = "{self.active}"\n'
        segments = ", ".join(f'"{self.lights.get(f"bit {bit}", "")}"' for bit in range(8))
        places = sorted(self.digits, key=lambda digit: self.digits[digit])
        cells = f", cells = [[{', '.join(map(str, places))}]], width = {len(places)}" if places else ""
        return f'# [[device]] {self.name}\npanel = {{ ready = "{{ready}}", segments = [{segments}]{cells} }}\n'


def bus_of(rig: Rig, name: str) -> Bus:
    """The bus that leads to a bridge or digit driver; raises HushedError where it can be none."""
    entry = _entry(rig, name)
    if isinstance(entry, Device):
        return rig.way_to(entry)[0]
    place = entry.on
    while (outer := rig.bridge_named(place)) is not None:
        place = outer.on
    return rig.bus_named(place)


def _entry(rig: Rig, name: str) -> Bridge | Device:
    bridge = rig.bridge_named(name)
    if bridge is not None:
        return bridge
    device = next((device for device in rig.device if device.name == name), None)
    if device is None:
        names = [entry.name for entry in (*rig.bridge,)] + [entry.name for entry in rig.device]
        raise HushedError(f"the rig has no bridge or device '{name}'", where="--walk", remedy=nearest(name, names))
    if rig.target(device).part.memory.kind != "digit":
        raise HushedError(
            f"'{name}' has no outputs that could be walked",
            where="--walk",
            remedy="name an expander, a shift register or a digit driver",
        )
    return device


def walk(rig: Rig, name: str, link: Any) -> Walk:
    """Drives and asks. Yields questions; wants answers sent in; returns the map."""
    entry = _entry(rig, name)
    if isinstance(entry, Bridge):
        return (yield from _bridge(rig, entry, link))
    return (yield from _digits(rig, entry, link))


def _bridge(rig: Rig, bridge: Bridge, link: Any) -> Walk:
    bus = bus_of(rig, bridge.name)
    mover = RigEncoder(rig)
    pins = pins_of(bridge.chip, bridge.count)
    everything = (1 << len(pins)) - 1

    def drive(state: int) -> None:
        play(mover.port_moves(bridge.name, state, bus), bus, link)

    found = Map(bridge.name)
    drive(0)
    lit_low = _yes((yield "all outputs are low: is anything lit? (yes, no)"))
    drive(everything)
    lit_high = _yes((yield "all outputs are high: is anything lit? (yes, no)"))
    if lit_low == lit_high:
        drive(0)
        raise HushedError(
            "something is lit at either level" if lit_low else "nothing is lit at either level", where="--walk",
            remedy="other outputs hold some of it: walk their bridge first" if lit_low
            else "check the supply of the display, its common pin and the resistors",
        )  # fmt: skip
    found.active = "low" if lit_low else "high"
    rest = everything if found.active == "low" else 0
    for pin, bit in pins.items():
        drive(rest ^ 1 << bit)
        answer = yield f"output {pin}: which segment is lit? ({' '.join(SEGMENTS)}, - for none)"
        if (named := _segment(answer)) is not None:
            found.lights[pin] = named
    drive(rest)
    return found


SET_UP = {
    "max7219": "shutdown on\ndisplay-test off\ndecode-mode none\nscan-limit 8\nintensity 7\nshutdown off",
    "ht16k33": "system-setup on\nrow-int pin=row level=low\ndimming 16\ndisplay-address address=0 0x00*16\ndisplay blink=off state=on",
}


def _digits(rig: Rig, device: Device, link: Any) -> Walk:
    target = rig.target(device)
    part = target.part

    def drive(text: str) -> None:
        send(
            expand(parse_text(f"device {device.name}\n{text}", "walk"), [rig.target(other) for other in rig.device], Path()),
            rig,
            link,
        )

    def byte(cell: int, value: int) -> str:
        return f"digit-{cell} {value}" if f"digit-{cell}" in part.by_name else f"display-address address={cell} {value}"

    cells = [k for k in range(part.memory.columns) if part.memory.columns == 8 or k % 2 == 0]
    dark = "\n".join(byte(cell, 0) for cell in cells)
    drive(SET_UP[part.name] + "\n" + dark)
    found = Map(device.name, is_bridge=False)
    for bit in range(8):
        drive("\n".join(byte(cell, 1 << bit) for cell in cells))
        answer = yield f"bit {bit} of all digits: which segment is lit? ({' '.join(SEGMENTS)}, - for none)"
        if (named := _segment(answer)) is not None:
            found.lights[f"bit {bit}"] = named
    for cell in cells:
        drive(dark + "\n" + byte(cell, 0xFF))
        answer = (yield f"byte {cell}: which digit is lit, counted from 1 at the left? (- for none)").strip()
        if answer in NONE:
            continue
        if not answer.isdecimal() or not 1 <= int(answer) <= 16:
            raise HushedError(
                f"'{answer}' is no place of a digit", where="--walk", remedy="1 for the leftmost, 2 for the next, - for none"
            )
        found.digits[cell] = int(answer)
    drive(dark)
    return found


def _yes(answer: str) -> bool:
    text = answer.strip().lower()
    if text in ("y", "yes", "n", "no"):
        return text[0] == "y"
    raise HushedError(f"'{answer.strip()}' is neither yes nor no", where="--walk", remedy="answer yes or no")


def _segment(answer: str) -> str | None:
    text = answer.strip().lower()
    if text in NONE:
        return None
    if text not in SEGMENTS:
        raise HushedError(f"'{text}' is no segment", where="--walk", remedy=f"one of {', '.join(SEGMENTS)}, or - for none")
    return text
