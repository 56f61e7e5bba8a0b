"""What types cannot say about a rig: names, places, roles, outputs, addresses. Each error names the file, the key and the reason."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

from ..bus.role_table import GROUPED, axes, missing_roles
from ..errors import HushedError, nearest
from ..part import Part, load
from ..units import parse
from .schema import OPTIONAL_ROLES, ROLES, Bridge, Bus, Device, Rig, kind_of, pins_of

__all__ = ["check"]

LONGEST_CHAIN = 7  # registers whose outputs fit into one signed word of 64 bits


def check(rig: Rig, where: str, lenient: bool = False) -> None:
    """What the types cannot say."""

    def fail(key: str, reason: str, remedy: str = "") -> None:
        raise HushedError(f"{key}: {reason}", where=where, remedy=remedy)

    names: set[str] = set()
    sections: list[tuple[str, list[Any]]] = [("bus", rig.bus), ("bridge", rig.bridge), ("device", rig.device)]
    for kind, name in [(kind, entry.name) for kind, entries in sections for entry in entries]:
        if name in names:
            fail(f"{kind} '{name}'", "the name is taken already", "give each bus, bridge and device a name of its own")
        names.add(name)
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
        if target.bus_kind != "i2c" or target.part.i2c is None:
            continue
        _check_address(key, device, target.part, taken, lenient, fail)


Fail = Callable[[str, str, str], None]


def _check_bus(rig: Rig, bus: Bus, where: str, lenient: bool, fail: Fail) -> None:
    key = f"bus '{bus.name}'"
    if bus.clock:
        _quantity(bus.clock, "Hz", f"{where}: {key}: clock")
    for name, unit in (("supply", "V"), ("pull_up", "Ohm"), ("capacitance", "F")):
        _quantity(getattr(bus.driver, name), unit, f"{where}: {key}: driver.{name}")
    if bus.driver.supply_current:
        _quantity(bus.driver.supply_current, "A", f"{where}: {key}: driver.supply_current")
    if bus.driver.longest_write < 0 or bus.driver.longest_write == 1:
        fail(f"{key}: driver.longest_write", "a control byte and at least one more have to fit", "2 or more, or 0 for no limit")
    if bus.kind not in ROLES:
        return
    direct = {role for bridge in rig.bridge if bridge.on == bus.name for role in bridge.direct}
    allowed = (*ROLES[bus.kind], *OPTIONAL_ROLES[bus.kind], *sorted(direct))
    for role in bus.lines:
        if role not in allowed:
            fail(f"{key}: lines.{role}", f"a bus of kind {bus.kind} has no such role", nearest(role, allowed))
    if lenient:
        return
    for role in missing_roles(bus.kind, bus.lines):
        fail(f"{key}: lines", f"the role '{role}' is missing", f'add {role} = "name of the line in the capture"')
    if bus.kind == "parallel" and not {"e", "wr"} & set(bus.lines):
        fail(f"{key}: lines", "the role 'e' (or 'wr') is missing", 'add e = "name of the line in the capture"')
    if bus.kind == "matrix":
        _check_matrix(f"{key}: lines", set(bus.lines), fail)
    if len(set(bus.lines.values())) < len(bus.lines):
        fail(f"{key}: lines", "one line plays two roles", "each role needs a line of its own")


def _check_matrix(key: str, roles: set[str], fail: Fail) -> None:
    """Rows and columns, or what a panel with row groups has."""
    if set(GROUPED) <= roles:
        return
    rows, columns = axes(dict.fromkeys(roles, 0))
    if not rows or not columns:
        missing = "rows (row0 … or digit0 …)" if not rows else "columns (column0 … or segment_a …)"
        fail(key, f"there are no {missing}", "name them, or a, b, clock, data, latch and enable of a panel with row groups")


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
        part = load(bridge.part)
    except HushedError as error:
        fail(f"{key}: part", error.what, error.remedy)
    if not 1 <= bridge.count <= LONGEST_CHAIN:
        fail(f"{key}: count", f"a chain of {bridge.count}", f"1 to {LONGEST_CHAIN}")
    pins = pins_of(part, bridge.count)
    if not pins:
        fail(f"{key}: part", f"{bridge.part} is no bridge", "bridges are expanders and shift registers, like pcf8574 or 74hc595")
    kind = kind_of({*bridge.drives, *bridge.direct})
    allowed = ROLES.get(kind, ()) + OPTIONAL_ROLES.get(kind, ())
    if kind == "matrix" and any(device.on == bridge.name for device in rig.device):
        _check_matrix(f"{key}: drives", {*bridge.drives, *bridge.direct}, fail)
    root = next((bus for bus in rig.bus if bus.name == _root(rig, bridge)), None)
    for role in bridge.direct:
        if root is not None and role not in root.lines:
            fail(f"{key}: direct", f"bus '{root.name}' has no line for '{role}'", f'add {role} = "name of the line" to its lines')
    for role in missing_roles(kind, {*bridge.drives, *bridge.direct}) if kind == "parallel" else ():
        fail(f"{key}: drives", f"the role '{role}' is missing", f'add {role} = "name of the output"')
    used: dict[str, str] = {}
    for role, pin in bridge.drives.items():
        if kind in ROLES and role not in allowed:
            fail(f"{key}: drives.{role}", f"a bus of kind {kind} has no such role", nearest(role, allowed))
        if pin not in pins:
            fail(f"{key}: drives.{role}", f"{bridge.part} has no output '{pin}'", nearest(pin, pins))
        if role in bridge.direct:
            fail(f"{key}: direct", f"the bridge drives '{role}' itself", "take it out of one of the two")
        if used.setdefault(pin, role) != role:
            fail(f"{key}: drives.{role}", f"output '{pin}' drives '{used[pin]}' already", "each role needs an output of its own")
    if part.i2c is not None and bridge.address not in part.i2c.addresses:
        possible = ", ".join(f"{address:#04x}" for address in part.i2c.addresses)
        fail(
            f"{key}: address",
            "is missing" if bridge.address is None else f"{bridge.part} cannot have {bridge.address:#04x}",
            f"it can have {possible}",
        )


def _root(rig: Rig, bridge: Bridge) -> str:
    """The bus at the end of a bridge's way."""
    on = bridge.on
    while (outer := rig.bridge_named(on)) is not None:
        on = outer.on
    return on


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
