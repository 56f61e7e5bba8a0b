"""The wire list of a rig: every wire from a driver's pin, or from an output of a bridge, to a pin of a display, with what is in it."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from ..bus.base import BUSES, kind_with
from ..part import Part, load
from ..rig.pinmap import Pin
from ..rig.schema import Bus, Rig

__all__ = ["GROUND", "SUPPLY", "Seat", "Wire", "seats_on", "wires_of"]

SUPPLY, GROUND = ("VCC", "VDD", "VIN", "V+", "3V3", "5V"), ("GND", "VSS")  # what modules have printed beside these pins


@dataclass(frozen=True)
class Wire:
    """One wire: signal, from the driver's pin, to a device's pin, its level, and what it goes through."""

    bus: str
    signal: str
    driver: str
    device: str
    level: str
    through: str


@dataclass(frozen=True)
class Seat:
    """Whatever hangs on a bus: a device or a bridge."""

    name: str
    part: Part
    supply: str
    address: int | None
    plugged: dict[str, str | int]


def seats_on(rig: Rig, place: str) -> list[Seat]:
    """What hangs on a bus or bridge, in the file's order."""
    out = [Seat(b.name, b.chip, b.supply, b.address, b.plugged) for b in rig.bridge if b.on == place]
    return out + [
        Seat(d.name, load(d.part).supplied(d.supply), d.supply, d.address, d.plugged) for d in rig.device if d.on == place
    ]


def wires_of(rig: Rig, bus: Bus, seats: list[Seat], pins: dict[str, Pin]) -> list[Wire]:
    """All wires of a bus, of what hangs on it and behind it. pins: of the driver, by role."""
    out: list[Wire] = []
    kind = BUSES[bus.kind]
    past = {role: bridge.name for bridge in rig.bridge if bridge.on == bus.name for role in bridge.direct}
    for role in dict.fromkeys([*bus.lines, *kind.needs]):
        pin = pins.get(role)
        label = pin.label if pin is not None and pin.position != pin.name else (pin.name if pin is not None else "not said")
        # A line that goes past a bridge ends at what hangs behind it.
        ends = seats_on(rig, past[role]) if role in past else seats
        level, how = _in_the_line(bus, role, pin)
        out += [Wire(bus.name, role.upper(), label, f"{seat.name} {role.upper()}", level, how) for seat in ends]
    out += _behind(rig, bus, seats)
    for seat in seats:
        out += _fed(bus.name, seat, seat.supply or bus.driver.supply, bus.lines, bus.kind)
    return out


def _in_the_line(bus: Bus, role: str, pin: Pin | None) -> tuple[str, str]:
    """The level of a line, and what is in it."""
    parts, level = [], bus.driver.supply
    shifter = bus.shifters.get(role)
    if shifter is not None:
        sides = f" from {shifter.driver or level} to {shifter.device}" if shifter.device else ""
        parts.append(
            shifter.called + (", which inverts" if shifter.inverts and "invert" not in shifter.called.lower() else "") + sides
        )
        level = shifter.device or level
    if role in BUSES[bus.kind].pulled_up:
        beside = f" beside {pin.pull_up} at the driver's pin" if pin is not None and pin.pull_up else ""
        parts.append(f"pull-up {bus.driver.pull_up} to {bus.driver.pull_up_to or bus.driver.supply}{beside}")
    return level, ", ".join(parts) or "a wire"


def _fed(bus: str, seat: Seat, level: str, roles: Collection[str], kind: str) -> list[Wire]:
    """Supply and ground, and the pins of a module beside the bus."""
    said = {key.upper(): str(pin) for key, pin in seat.plugged.items()}
    supply = next((said[name] for name in SUPPLY if name in said), seat.supply or "not said")
    out = [Wire(bus, "VCC", supply, f"{seat.name} VCC", level, "a wire")]
    ground = next((said[name] for name in GROUND if name in said), "GND")
    out.append(Wire(bus, "GND", ground, f"{seat.name} GND", "0 V", "a wire"))
    beside = [pin for pin in seat.part.module_pins if pin.unless not in roles and (not pin.on or kind in pin.on)]
    return out + [
        Wire(bus, pin.signal, pin.to, f"{seat.name} {pin.signal}", pin.level or level, pin.through or "a wire") for pin in beside
    ]


def _behind(rig: Rig, bus: Bus, seats: list[Seat]) -> list[Wire]:
    """The wires from a bridge's outputs to what hangs on them, and what feeds that."""
    out: list[Wire] = []
    for seat in seats:
        bridge = rig.bridge_named(seat.name)
        if bridge is None:
            continue
        inner = seats_on(rig, bridge.name)
        level = seat.supply or bus.driver.supply
        for role, pin in bridge.drives.items():
            targets = [target.name for target in inner] or ["the glass"]
            out += [
                Wire(bridge.name, role.upper(), f"{bridge.name} {pin.upper()}", f"{name} {role.upper()}", level, "a wire")
                for name in targets
            ]
        out += _behind(rig, bus, inner)
        roles = {*bridge.drives, *bridge.direct}
        for target in inner:
            if target.part.memory.kind != "scanned":
                out += _fed(bridge.name, target, target.supply or level, roles, kind_with(roles))
    return out
