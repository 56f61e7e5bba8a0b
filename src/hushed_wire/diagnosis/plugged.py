"""Modules that are plugged pin by pin: is each of their pins where it belongs?"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ..errors import HushedError
from ..finding import Finding, finding_of
from ..rig.pinmap import Pin, PinMap
from ..rig.schema import Bus
from ..units import parse
from .wire_list import GROUND, SUPPLY, Seat

__all__ = ["plugged"]

PRINTED = {  # what modules have printed beside their pins, by role
    "din": "mosi", "sdi": "mosi", "sdo": "miso", "clk": "sck", "d/c": "dc", "a0": "dc", "ce": "cs", "sce": "cs", "load": "cs", "rst": "reset",
    "res": "reset", "bl": "backlight", "led": "backlight", "blk": "backlight", "r/w": "rw", "en": "e", "bsy": "busy",
}  # fmt: skip


def plugged(bus: Bus, device: Seat, pin_map: PinMap | None) -> Iterator[Finding]:
    """A module plugged pin by pin: supply and ground where they belong, signals where the bus has them, each pin once; or turned round."""
    if not device.plugged:
        return
    names = [name.upper() for name in device.plugged]
    for wanted, known in (("VCC", SUPPLY), ("GND", GROUND)):
        if not any(name in known for name in names):
            yield _found("rig.open-supply", "", device, pin=wanted)
    own = list(zip(names, device.plugged.values(), strict=True))
    if pin_map is not None:
        try:
            as_is, turned = (
                _right(own, bus, pin_map),
                _right([*zip(names[::-1], device.plugged.values(), strict=True)], bus, pin_map),
            )
        except HushedError as error:
            yield _found("rig.pin-function", "unplaced", device, why=error.what, mend=error.remedy or "correct the pin")
            return
        if turned > as_is:
            yield finding_of(
                "rig.pin-function", "turned", turned=turned, pins=len(names), as_is=as_is, device=device.name, confidence="likely",
                evidence={"right_as_it_is": as_is, "right_when_turned": turned, "order": names},
            )  # fmt: skip
            return
    taken: dict[str, str] = {}
    for name, at in own:
        found = pin_map.find(at, bus.driver.pin_scheme) if pin_map is not None else None
        label = found.label if found is not None else str(at)
        if name not in SUPPLY and name not in GROUND:
            if label in taken:
                yield _found(
                    "rig.doubled-pin",
                    "",
                    device,
                    pin=label,
                    one=f"{taken[label]} of '{device.name}'",
                    other=f"{name} of '{device.name}'",
                )
            taken.setdefault(label, name)
        yield from _pin(bus, device, name, at, found, pin_map)


def _found(code: str, said: str, device: Seat, **values: Any) -> Finding:
    return finding_of(
        code, said, device=device.name, evidence={"plugged": {key: str(pin) for key, pin in device.plugged.items()}}, **values
    )


def _pin(bus: Bus, device: Seat, name: str, at: str | int, found: Pin | None, pin_map: PinMap | None) -> Iterator[Finding]:
    """What is wrong with one pin."""
    label = found.label if found is not None else str(at)
    if found is not None and name in GROUND:
        if not found.ground:
            yield _found("rig.pin-function", "plugged", device, name=name, pin=label, what=_what(found), wanted="a ground pin")
    elif found is not None and name in SUPPLY:
        levels = device.part.levels
        if not found.supply:
            yield _found("rig.pin-function", "plugged", device, name=name, pin=label, what=_what(found), wanted="a supply pin")
        elif levels is not None and float(parse(found.supply, "V")) < float(parse(levels.supply_least, "V")):
            yield _found("rig.level-mismatch", "supply", device, supply=found.supply, least=levels.supply_least)
    elif name not in GROUND and name not in SUPPLY:
        role = PRINTED.get(name.lower(), name.lower())
        meant = bus.pins.get(role)
        if found is not None and (found.supply or found.ground):
            yield _found("rig.pin-function", "plugged", device, name=name, pin=label, what=_what(found), wanted="a signal pin")
        elif meant is not None and not _same(meant, at, bus, pin_map):
            shown = pin_map.find(meant, bus.driver.pin_scheme).label if pin_map is not None else str(meant)
            yield _found(
                "rig.pin-function", "disagrees", device, name=name, pin=label, role=role.upper(), meant=shown, of=bus.name
            )


def _what(pin: Pin) -> str:
    return "ground" if pin.ground else f"{pin.supply}" if pin.supply else "a signal pin"


def _same(one: str | int, other: str | int, bus: Bus, pin_map: PinMap | None) -> bool:
    if pin_map is None:
        return str(one).strip().lower() == str(other).strip().lower()
    try:
        return pin_map.find(one, bus.driver.pin_scheme) is pin_map.find(other, bus.driver.pin_scheme)
    except HushedError:
        return True  # told where the bus's own pins are looked at


def _right(order: list[tuple[str, str | int]], bus: Bus, pin_map: PinMap) -> int:
    """How many pins meet what they need."""
    count = 0
    for name, at in order:
        found = pin_map.find(at, bus.driver.pin_scheme)
        meant = bus.pins.get(PRINTED.get(name.lower(), name.lower()))
        signal = meant is not None and _same(meant, at, bus, pin_map)
        count += found.ground if name in GROUND else bool(found.supply) if name in SUPPLY else signal
    return count
