"""What types cannot say about a rig: names, places, roles, outputs, addresses. Each error names the file, the key and the reason."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

from ..bus.base import BUSES, KIND_NAMES, kind_with
from ..errors import HushedError, nearest
from ..part import Part
from ..part.output_pins import pins_of
from ..units import parse
from .schema import Bridge, Bus, Device, Rig

__all__ = ["check"]

LONGEST_CHAIN = 7  # registers whose outputs fit into one signed word of 64 bits


def check(rig: Rig, where: str, lenient: bool = False) -> None:
    """What the types cannot say."""

    def fail(key: str, reason: str, remedy: str = "") -> None:
        raise HushedError(f"{key}: {reason}", where=where, remedy=remedy)

    # A bus may be called as the device on it: what hangs somewhere names buses and bridges, what is spoken to bridges and devices.
    sections: list[tuple[str, list[Any]]] = [("bus", rig.bus), ("bridge", rig.bridge), ("device", rig.device)]
    taken_by: dict[str, set[str]] = {}
    for kind, name in [(kind, entry.name) for kind, entries in sections for entry in entries]:
        if taken_by.get(name, set()) - ({"bus"} if kind == "device" else set()):
            fail(f"{kind} '{name}'", "the name is taken already", "give each bus, bridge and device a name of its own")
        taken_by.setdefault(name, set()).add(kind)
    if not rig.bus:
        fail("bus", "the rig has none", "add a [[bus]] with name, kind and lines")
    for bus in rig.bus:
        _check_bus(rig, bus, where, lenient, fail)
    places = [bus.name for bus in rig.bus] + [bridge.name for bridge in rig.bridge]
    for bridge in rig.bridge:
        _check_bridge(rig, bridge, places, fail)
    taken: dict[tuple[str, int], str] = {}
    for device in rig.device:
        key = f"device '{device.name}'"
        for text, unit, name in ((device.supply, "V", "supply"), (device.current, "A", "current")):
            if text:
                _quantity(text, unit, f"{where}: {key}: {name}")
        if device.on not in places:
            fail(f"{key}: on", f"there is no bus or bridge '{device.on}'", nearest(device.on, places))
        try:
            target = rig.target(device)
        except HushedError as error:
            error.where, error.what = where, f"{key}: {error.what}"
            raise
        roles = rig.roles_at(device)[1]
        if device.select and device.select not in roles:
            fail(f"{key}: select", f"'{device.on}' has no role '{device.select}'", nearest(device.select, roles))
        if not 0 <= device.position < 64:
            fail(f"{key}: position", f"{device.position} is no place in a chain", "0 is nearest to the driver, at most 63")
        if not BUSES[target.bus_kind].addressed or target.part.i2c is None:
            continue
        _check_address(key, device, target.part, taken, lenient, fail)


Fail = Callable[[str, str, str], None]


def _check_bus(rig: Rig, bus: Bus, where: str, lenient: bool, fail: Fail) -> None:
    key = f"bus '{bus.name}'"
    if bus.kind not in BUSES:
        fail(
            f"{key}: kind",
            f"there is no kind of bus '{bus.kind}'",
            f"{nearest(bus.kind, KIND_NAMES)}; docs/rig.md tells what each has",
        )
    if bus.clock:
        _quantity(bus.clock, "Hz", f"{where}: {key}: clock")
    for name, unit in (("supply", "V"), ("pull_up", "Ohm"), ("capacitance", "F")):
        _quantity(getattr(bus.driver, name), unit, f"{where}: {key}: driver.{name}")
    if bus.driver.supply_current:
        _quantity(bus.driver.supply_current, "A", f"{where}: {key}: driver.supply_current")
    if bus.driver.longest_write < 0 or bus.driver.longest_write == 1:
        fail(f"{key}: driver.longest_write", "a control byte and at least one more have to fit", "2 or more, or 0 for no limit")
    kind = BUSES[bus.kind]
    direct = {role for bridge in rig.bridge if bridge.on == bus.name for role in bridge.direct}
    allowed = (*kind.roles, *sorted(direct))
    for role in bus.lines:
        if role not in allowed:
            fail(f"{key}: lines.{role}", f"a bus of kind {bus.kind} has no such role", nearest(role, allowed))
    if lenient:
        return
    for role in kind.missing(bus.lines):
        named = "name them, or a, b, clock, data, latch and enable of a panel with row groups"
        fail(f"{key}: lines", kind.lacks(role), named if kind.scanned else f'add {role} = "name of the line in the capture"')
    if len(set(bus.lines.values())) < len(bus.lines):
        fail(f"{key}: lines", "one line plays two roles", "each role needs a line of its own")


def _check_bridge(rig: Rig, bridge: Bridge, places: list[str], fail: Fail) -> None:
    key = f"bridge '{bridge.name}'"
    if bridge.on not in places or bridge.on == bridge.name:
        fail(f"{key}: on", f"there is no bus or other bridge '{bridge.on}'", nearest(bridge.on, places))
    seen, on = {bridge.name}, bridge.on
    while (outer := rig.bridge_named(on)) is not None:
        if outer.name in seen:
            fail(f"{key}: on", "bridges hang on one another in a ring", "the last of them has to hang on a bus")
        seen.add(outer.name)
        on = outer.on
    try:
        part = bridge.chip
    except HushedError as error:
        fail(f"{key}: part", error.what, error.remedy)
    if not 1 <= bridge.count <= LONGEST_CHAIN:
        fail(f"{key}: count", f"a chain of {bridge.count}", f"1 to {LONGEST_CHAIN}")
    pins = pins_of(part, bridge.count)
    if not pins:
        fail(f"{key}: part", f"{bridge.part} is no bridge", "bridges are expanders and shift registers, like pcf8574 or 74hc595")
    roles = {*bridge.drives, *bridge.direct}
    kind = BUSES[kind_with(roles)]
    root = rig.root_of(bridge.name)
    for role in bridge.direct:
        if root is not None and role not in root.lines:
            fail(f"{key}: direct", f"bus '{root.name}' has no line for '{role}'", f'add {role} = "name of the line" to its lines')
    used: dict[str, str] = {}
    for role, pin in bridge.drives.items():
        if role not in kind.roles:
            fail(f"{key}: drives.{role}", f"a bus of kind {kind.name} has no such role", nearest(role, kind.roles))
        if pin not in pins:
            fail(f"{key}: drives.{role}", f"{bridge.part} has no output '{pin}'", nearest(pin, pins))
        if role in bridge.direct:
            fail(f"{key}: direct", f"the bridge drives '{role}' itself", "take it out of one of the two")
        if used.setdefault(pin, role) != role:
            fail(f"{key}: drives.{role}", f"output '{pin}' drives '{used[pin]}' already", "each role needs an output of its own")
    if bridge.name in {*(entry.on for entry in rig.device), *(entry.on for entry in rig.bridge)}:
        for role in kind.missing(roles):
            fail(f"{key}: drives", kind.lacks(role), f'add {role} = "name of the output"')
    _check_strapped(key, bridge, part, fail)


def _check_strapped(key: str, bridge: Bridge, part: Part, fail: Fail) -> None:
    """The address that a bridge's pins give, on I2C or in an opcode."""
    if part.i2c is not None and bridge.address not in part.i2c.addresses:
        possible = ", ".join(f"{address:#04x}" for address in part.i2c.addresses)
        fail(
            f"{key}: address",
            "is missing" if bridge.address is None else f"{bridge.part} cannot have {bridge.address:#04x}",
            f"it can have {possible}",
        )
    if part.opcode is not None and bridge.address is not None and bridge.address not in part.opcode.addresses:
        possible = ", ".join(map(str, part.opcode.addresses))
        fail(f"{key}: address", f"{bridge.part} cannot have {bridge.address}", f"it can have {possible} ({part.opcode.strap})")


def _check_address(key: str, device: Device, part: Part, taken: dict[tuple[str, int], str], lenient: bool, fail: Fail) -> None:
    addresses = part.i2c.addresses if part.i2c else []
    possible = ", ".join(f"{address:#04x}" for address in addresses)
    if device.address is None:
        fail(f"{key}: address", "is missing", f"{device.part} can have {possible}")
    elif device.address not in addresses:
        doubled = " (that is the 8-bit form: halve it)" if device.address // 2 in addresses else ""
        fail(f"{key}: address", f"{device.part} cannot have {device.address:#04x}{doubled}", f"it can have {possible}")
    else:
        other = taken.setdefault((device.on, device.address), device.name)
        if other != device.name and not lenient:
            fail(f"{key}: address", f"{device.address:#04x} is that of '{other}' too", "strap one of them to another address")


def _quantity(text: str, unit: str, where: str) -> Fraction:
    value = parse(text, unit, where)
    if value <= 0:
        raise HushedError(f"'{text}' is not above zero", where=where)
    return value
