"""The rig file: which lines play which roles, what hangs on the bus. Read, checked, written back.

The schema is the types below; what types cannot say is in `check`. Errors name the file, the key and the reason.
"""

from __future__ import annotations

import re
import tomllib
from fractions import Fraction
from pathlib import Path
from typing import Any, Literal

import msgspec

from ..errors import HushedError, nearest
from ..part import Panel, Part, load
from ..sequence import Target
from ..units import parse

__all__ = ["Bus", "Device", "Driver", "Rig", "load_rig", "rig_toml", "the_bus"]

ROLES = {"i2c": ("scl", "sda")}  # roles that a bus cannot do without
OPTIONAL_ROLES = {"i2c": ("reset",)}


class Driver(msgspec.Struct, forbid_unknown_fields=True):
    """The driving side of a bus."""

    supply: str = "3.3V"
    pull_up: str = "4.7kOhm"
    capacitance: str = "50pF"
    longest_write: int = 0  # bytes behind the address in one transaction; 0: no limit
    pin_map: str = ""
    pin_scheme: Literal["", "header", "gpio"] = ""
    bit_banged: bool = False
    supply_current: str = ""


class Bus(msgspec.Struct, forbid_unknown_fields=True):
    """A bus: kind, clock, and which line of a capture plays which role."""

    name: str
    kind: Literal["i2c", "spi", "parallel", "shift", "matrix"]
    clock: str = ""
    driver: Driver = msgspec.field(default_factory=Driver)
    lines: dict[str, str] = {}
    pins: dict[str, str | int] = {}
    through: dict[str, str] = {}


class Device(msgspec.Struct, forbid_unknown_fields=True):
    """A part on a bus, with its panel: the name of a ready one, or a table (`ready` names what the table starts from)."""

    name: str
    on: str
    part: str
    address: int | None = None
    panel: str | dict[str, Any] = ""
    supply: str = ""
    current: str = ""
    plugged: dict[str, str | int] = {}


class Rig(msgspec.Struct, forbid_unknown_fields=True):
    """A rig."""

    title: str = ""
    bus: list[Bus] = []
    bridge: list[dict[str, Any]] = []
    device: list[Device] = []

    def bus_named(self, name: str) -> Bus:
        """The bus of that name."""
        return next(bus for bus in self.bus if bus.name == name)

    def target(self, device: Device) -> Target:
        """A device with its part and its panel worked out."""
        part = load(device.part)
        return Target(device.name, part, panel_of(part, device))

    def devices_on(self, bus: Bus) -> list[Device]:
        """The devices of a bus, in the file's order."""
        return [device for device in self.device if device.on == bus.name]


def panel_of(part: Part, device: Device) -> Panel:
    """The panel of a device; the part's first ready panel when the rig says nothing."""
    if isinstance(device.panel, str):
        return part.panel(device.panel or next(iter(part.panels)))
    keys = dict(device.panel)
    ready = keys.pop("ready", "")
    base = msgspec.to_builtins(part.panel(str(ready))) if ready else {}
    try:
        panel = msgspec.convert({**base, **keys}, Panel)
    except msgspec.ValidationError as error:
        raise HushedError(f"panel: {error}", remedy="keys are those of docs/rig.md") from error
    if not panel.name:
        panel.name = f"{panel.width}x{panel.height}"
    limit = part.memory
    if not (0 < panel.width <= limit.columns - panel.column_offset and 0 < panel.height <= limit.pages * 8):
        raise HushedError(
            f"panel: {panel.width}x{panel.height} at column {panel.column_offset} does not fit into the memory of {part.name}",
            remedy=f"its memory has {limit.columns}x{limit.pages * 8} pixels",
        )
    if panel.rotate % 90:
        raise HushedError(f"panel: rotate = {panel.rotate}", remedy="0, 90, 180 or 270")
    for band in panel.bands:
        if not 0 <= band.first <= band.last < panel.height:
            raise HushedError(f"panel: a band from {band.first} to {band.last}", remedy=f"lines run from 0 to {panel.height - 1}")
    return panel


def load_rig(path: str | Path, lenient: bool = False) -> Rig:
    """Reads and checks a rig file. lenient: wiring that cannot work is let through, for the rules that explain it."""
    where = str(path)
    try:
        text = Path(path).read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise HushedError("no such file", where=where, remedy="check the path of the rig") from error
    except (OSError, UnicodeDecodeError) as error:
        raise HushedError(
            f"cannot be read as text: {error}", where=where, remedy="a rig is a TOML file; see docs/rig.md"
        ) from error
    try:
        rig = msgspec.convert(tomllib.loads(text), Rig)
    except tomllib.TOMLDecodeError as error:
        raise HushedError(f"not TOML: {error}", where=where, remedy="mend the file at that place") from error
    except msgspec.ValidationError as error:
        what, _, key = str(error).partition(" - at ")
        key = re.sub(r"^\$\.?", "", key.strip("`")) or "the file"
        unknown = re.search(r"unknown field `(\w+)`", what)
        remedy = "docs/rig.md lists all keys"
        if unknown:
            section = {"bus": Bus, "device": Device, "driver": Driver}.get(re.split(r"[.\[]", key)[-2 if "[" in key else -1], Rig)
            remedy = nearest(unknown[1], section.__struct_fields__)
        raise HushedError(f"{key}: {what[0].lower()}{what[1:]}", where=where, remedy=remedy) from error
    check(rig, where, lenient)
    return rig


def check(rig: Rig, where: str, lenient: bool = False) -> None:
    """What the types cannot say."""

    def fail(key: str, reason: str, remedy: str = "") -> None:
        raise HushedError(f"{key}: {reason}", where=where, remedy=remedy)

    names: set[str] = set()
    for kind, name in [*(("bus", bus.name) for bus in rig.bus), *(("device", device.name) for device in rig.device)]:
        if name in names:
            fail(f"{kind} '{name}'", "the name is taken already", "give each bus and device a name of its own")
        names.add(name)
    if not rig.bus:
        fail("bus", "the rig has none", "add a [[bus]] with name, kind and lines")
    if rig.bridge:
        fail("bridge", "bridges cannot be decoded by this version", "leave the [[bridge]] out to work on the rest")
    for bus in rig.bus:
        key = f"bus '{bus.name}'"
        if bus.clock:
            _quantity(bus.clock, "Hz", f"{where}: {key}: clock")
        for name, unit in (("supply", "V"), ("pull_up", "Ohm"), ("capacitance", "F")):
            _quantity(getattr(bus.driver, name), unit, f"{where}: {key}: driver.{name}")
        if bus.driver.supply_current:
            _quantity(bus.driver.supply_current, "A", f"{where}: {key}: driver.supply_current")
        if bus.driver.longest_write < 0 or bus.driver.longest_write == 1:
            fail(
                f"{key}: driver.longest_write", "a control byte and at least one more have to fit", "2 or more, or 0 for no limit"
            )
        if bus.kind not in ROLES:
            continue
        allowed = ROLES[bus.kind] + OPTIONAL_ROLES[bus.kind]
        for role in bus.lines:
            if role not in allowed:
                fail(f"{key}: lines.{role}", f"a bus of kind {bus.kind} has no such role", nearest(role, allowed))
        for role in ROLES[bus.kind]:
            if role not in bus.lines and not lenient:
                fail(f"{key}: lines", f"the role '{role}' is missing", f'add {role} = "name of the line in the capture"')
        if len(set(bus.lines.values())) < len(bus.lines) and not lenient:
            fail(f"{key}: lines", "one line plays two roles", "each role needs a line of its own")
    taken: dict[tuple[str, int], str] = {}
    for device in rig.device:
        key = f"device '{device.name}'"
        for text, unit, name in ((device.supply, "V", "supply"), (device.current, "A", "current")):
            if text:
                _quantity(text, unit, f"{where}: {key}: {name}")
        if device.on not in [bus.name for bus in rig.bus]:
            fail(f"{key}: on", f"there is no bus '{device.on}'", nearest(device.on, [bus.name for bus in rig.bus]))
        try:
            target = rig.target(device)
        except HushedError as error:
            error.where, error.what = where, f"{key}: {error.what}"
            raise
        if rig.bus_named(device.on).kind != "i2c" or target.part.i2c is None:
            continue
        possible = ", ".join(f"{address:#04x}" for address in target.part.i2c.addresses)
        if device.address is None:
            fail(f"{key}: address", "is missing", f"{device.part} can have {possible}")
        elif device.address not in target.part.i2c.addresses:
            doubled = " (that is the 8-bit form: halve it)" if device.address // 2 in target.part.i2c.addresses else ""
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


def the_bus(rig: Rig, path: str = "the rig") -> Bus:
    """The bus that is decoded: the rig's first I2C bus."""
    for bus in rig.bus:
        if bus.kind == "i2c":
            return bus
    kinds = " and ".join(sorted({bus.kind for bus in rig.bus}))
    raise HushedError(f"its bus is {kinds}; this version decodes I2C", where=path, remedy="give the rig of an I2C bus")


def rig_toml(rig: Rig) -> str:
    """A rig as a rig file; the twin of `load_rig`."""
    out = [f"title = {_toml(rig.title)}"] if rig.title else []
    sections = [*(("bus", bus) for bus in rig.bus), *(("device", device) for device in rig.device)]
    for section, entry in sections:
        out += ["", f"[[{section}]]"]
        for key, value in msgspec.to_builtins(entry).items():
            if value in ("", {}, None, 0) or (key == "driver" and value == msgspec.to_builtins(Driver())):
                continue
            out.append(f"{key} = {value:#04x}" if key == "address" else f"{key} = {_toml(value)}")
    return "\n".join(out) + "\n"


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {_toml(entry)}" for key, entry in value.items()) + " }"
    if isinstance(value, list):
        return "[" + ", ".join(_toml(entry) for entry in value) + "]"
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, int):
        return str(value)
    return msgspec.json.encode(str(value)).decode()


def _key(key: str) -> str:
    return key if re.fullmatch(r"[A-Za-z0-9_-]+", key) else msgspec.json.encode(key).decode()
