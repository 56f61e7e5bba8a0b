"""What a rig file says: which lines play which roles, what hangs on the bus. `rig_file` reads and writes it; what types cannot say is in `check`."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Annotated, Any, Literal

import msgspec

from ..bus.base import BUSES, Settings, kind_with
from ..bus.scan_roles import ADDRESS, Lamps, axes, coloured
from ..errors import HushedError, nearest
from ..part import Panel, Part, load
from ..part.catalogs import UNKNOWN
from ..part.describe import chips_of
from ..part.orientation import box_of
from ..part.wrap import BUS_OF, WRAPS

if TYPE_CHECKING:
    from ..sequence import Step, Target

__all__ = ["Bridge", "Bus", "Device", "Driver", "Rig", "Shifter", "behind", "lamps_of", "settings_of"]


class Shifter(msgspec.Struct, forbid_unknown_fields=True):
    """What sits in a line between driver and display. driver, device: volts of its two sides. inverts: what goes in high comes out low."""

    called: str = "a level shifter"
    inverts: bool = False
    driver: str = ""
    device: str = ""


class Driver(msgspec.Struct, forbid_unknown_fields=True):
    """The driving side of a bus. pull_up_to: volts that the pull-ups lead to, where it is not the driver's supply."""

    supply: str = "3.3V"
    pull_up: str = "4.7kOhm"
    pull_up_to: str = ""
    capacitance: str = "50pF"
    longest_write: int = 0  # bytes behind the address in one transaction; 0: no limit
    pin_map: str = ""
    pin_scheme: Literal["", "header", "gpio"] = ""
    bit_banged: bool = False
    supply_current: str = ""


class Bus(msgspec.Struct, forbid_unknown_fields=True):
    """A bus: kind, clock, and which line of a capture plays which role. probed: on which side of what is in its lines captures are taken."""

    name: str
    kind: str  # a name of `bus.base.BUSES`
    clock: str = ""
    driver: Driver = msgspec.field(default_factory=Driver)
    lines: dict[str, str] = {}
    pins: dict[str, str | int] = {}
    through: dict[str, str | Shifter] = {}
    probed: Literal["driver", "device"] = "driver"
    mode: Literal[0, 1, 2, 3] = 0
    bits: Annotated[int, msgspec.Meta(ge=0, le=32)] = 0  # of an SPI word; parts say it themselves, nine without a D/C line
    order: Literal["msb", "lsb"] = "msb"
    select: Literal["low", "high"] = "low"  # the level that selects
    rows: Literal["low", "high"] = "high"  # the level at which a row (or digit) of scanned LEDs is on
    columns: Literal["low", "high"] = "high"  # the same of a column (or segment)

    @property
    def shifters(self) -> dict[str, Shifter]:
        """What is in its lines, by role."""
        return {
            role: Shifter(what, "invert" in what.lower()) if isinstance(what, str) else what
            for role, what in self.through.items()
        }

    @property
    def turned(self) -> frozenset[str]:
        """The lines that captures have the other way round than what the display gets."""
        if self.probed == "device":
            return frozenset()
        return frozenset(self.lines[role] for role, what in self.shifters.items() if what.inverts and role in self.lines)


class Bridge(msgspec.Struct, forbid_unknown_fields=True):
    """A chip between a bus and what hangs on its outputs. drives: role of the bus behind it to output pin.

    count: how many of it in a chain; the outputs of the second go on counting behind those of the first. active: the level
    at which what hangs on its outputs lights. rows, columns: as of a bus. direct: roles of the bus behind it whose lines come
    from the driver itself; they stand among the lines of the bus that the bridge hangs on.
    """

    name: str
    on: str
    part: str
    drives: dict[str, str] = {}
    address: int | None = None
    count: int = 1
    select: str = ""
    supply: str = ""
    mode: Literal[0, 1, 2, 3] = 0
    level: Literal["low", "high"] = "low"
    active: Literal["low", "high"] = "high"
    rows: Literal["low", "high"] = "high"
    columns: Literal["low", "high"] = "high"
    direct: list[str] = []
    plugged: dict[str, str | int] = {}

    @property
    def chip(self) -> Part:
        """Its part, at its supply."""
        return load(self.part).supplied(self.supply)


class Device(msgspec.Struct, forbid_unknown_fields=True):
    """A part on a bus or bridge, with its panel: the name of a ready one, or a table (`ready` names what it starts from).

    part: of the catalog, or unknown: then its words are sent and told, not understood.

    position: in a chain of parts that share a select, 0 nearest to the driver. select: the role of its select line.
    """

    name: str
    on: str
    part: str = UNKNOWN
    address: int | None = None
    panel: str | dict[str, Any] = ""
    supply: str = ""
    current: str = ""
    plugged: dict[str, str | int] = {}
    position: int = 0
    select: str = ""


class Rig(msgspec.Struct, forbid_unknown_fields=True):
    """A rig."""

    title: str = ""
    bus: list[Bus] = []
    bridge: list[Bridge] = []
    device: list[Device] = []

    def bus_named(self, name: str) -> Bus:
        """The bus of that name."""
        return next(bus for bus in self.bus if bus.name == name)

    @property
    def turned(self) -> frozenset[str]:
        """The lines that captures have the other way round than what the displays get."""
        return frozenset().union(*(bus.turned for bus in self.bus))

    def bridge_named(self, name: str) -> Bridge | None:
        """The bridge of that name, None where there is none."""
        return next((bridge for bridge in self.bridge if bridge.name == name), None)

    def bus_for(self, steps: Sequence[Step]) -> Bus:
        """The bus that a sequence speaks on. Raises HushedError where it speaks on several, or does nothing."""
        devices = {device.name: device for device in self.device}
        first: Bus | None = None
        for step in steps:
            bus = self.way_to(devices[step.device])[0]
            if first is not None and bus.name != first.name:
                raise HushedError(
                    f"device '{step.device}' is on bus '{bus.name}', what came before was on '{first.name}'",
                    where=step.place,
                    remedy="one sequence drives one bus: split it",
                )
            first = bus
        if first is None:
            raise HushedError("the sequence does nothing", remedy="write a command; see docs/sequence.md")
        return first

    def way_to(self, device: Device) -> tuple[Bus, list[Bridge]]:
        """The bus that leads to a device, and the bridges on the way, nearest to the bus first."""
        bridges: list[Bridge] = []
        on = device.on
        while (bridge := self.bridge_named(on)) is not None and len(bridges) <= len(self.bridge):
            bridges.insert(0, bridge)
            on = bridge.on
        return self.bus_named(on), bridges

    def roles_at(self, device: Device) -> tuple[str, set[str], int]:
        """Kind, roles and word length of what a device hangs on directly."""
        bridge = self.bridge_named(device.on)
        if bridge is not None:
            roles = {*bridge.drives, *bridge.direct}
            return kind_with(roles), roles, 0
        bus = self.bus_named(device.on)
        return bus.kind, set(bus.lines), bus.bits

    def root_of(self, name: str) -> Bus | None:
        """The bus that leads to what hangs on a bus or bridge of that name; None where it leads nowhere."""
        for _ in range(len(self.bridge) + 1):
            bridge = self.bridge_named(name)
            if bridge is None:
                return next((bus for bus in self.bus if bus.name == name), None)
            name = bridge.on
        return None

    def target(self, device: Device) -> Target:
        """A device with its part, its panel and its framing worked out."""
        from ..sequence import Target

        part = load(device.part).supplied(device.supply)
        kind, roles, bits = self.roles_at(device)
        if part.memory.kind == "scanned":
            return Target(device.name, part, scanned_panel(part, device, roles), framing_of(part, kind, roles, bits))
        sharing = [
            other for other in self.device if (other.on, other.select, other.part) == (device.on, device.select, device.part)
        ]
        chain = (
            max(other.position + chips_of(panel_of(part, other)) for other in sharing)
            if any(WRAPS[name].chains for name in part.framings)
            else 1
        )
        panel = panel_of(part, device)
        side_by_side = sum(role in roles for role in ("cs1", "cs2", "cs3")) if part.memory.kind == "unknown" else 0
        return Target(
            device.name, part, panel, framing_of(part, kind, roles, bits), device.position, chain, selected_apart=side_by_side
        )

    def devices_on(self, bus: Bus) -> list[Device]:
        """The devices directly on a bus, in the file's order."""
        return [device for device in self.device if device.on == bus.name]


def framing_of(part: Part, kind: str, roles: set[str], bits: int = 0) -> str:
    """The framing that a part uses on these wires; raises HushedError where it has none for that kind of bus."""
    fitting = [name for name in part.framings if BUS_OF[name] == kind]
    if not fitting:
        kinds = " or ".join(dict.fromkeys(BUS_OF[name] for name in part.framings))
        raise HushedError(f"{part.name} cannot hang on a bus of kind {kind}", remedy=f"it takes {kinds}")
    wide = kind == "parallel" and "d15" in roles
    for name in fitting:
        row = WRAPS[name]
        if wide and row.bits == 16:
            return name
        if part.memory.kind == "unknown" and row.said and bits != row.bits:
            continue  # how long its words are nothing tells but the rig
        if (row.bits == 4 and "d0" not in roles) or (row.said and (bits == row.bits or BUSES[kind].marks not in roles)):
            return name
    return fitting[0]


ANY_PANEL = ("width", "height", "needs", "supply", "colour", "name")
TURNED = ("rotate", "mirror", "bands")
PANEL_KEYS: dict[str, tuple[str, ...]] = {
    "paged": (*ANY_PANEL, *TURNED, "column_offset", "row_offset", "upright", "com_pins", "com_left_right", "first_common"),
    "pixel": (*ANY_PANEL, *TURNED, "column_offset", "row_offset", "upright", "memory"),
    "dimmed": (*ANY_PANEL, "rotate", "mirror"),
    "chain": (*ANY_PANEL, "rotate", "mirror", "begin", "run", "serpentine"),
    "lettered": (*ANY_PANEL, *TURNED, "cells", "form"),
    "paper": (*ANY_PANEL, "rotate", "mirror", "column_offset", "row_offset", "memory"),
    "character": (*ANY_PANEL, "cells"),
    "digit": (*ANY_PANEL, *TURNED, "cells", "form", "segments", "module_turn", "colons"),
    "scanned": (*ANY_PANEL, *TURNED, "cells", "form", "segments"),
}


def panel_of(part: Part, device: Device) -> Panel:
    """The panel of a device; the part's first ready panel when the rig says nothing."""
    if isinstance(device.panel, str):
        if not part.panels and not device.panel:
            return Panel(0, 0)
        return part.panel(device.panel or next(iter(part.panels)))
    keys = dict(device.panel)
    ready = keys.pop("ready", "")
    known = PANEL_KEYS.get(part.memory.kind, Panel.__struct_fields__)
    for key in keys:
        if key not in known:
            what = "is nothing that a panel has" if key not in Panel.__struct_fields__ else f"plays no role on a {part.name}"
            raise HushedError(
                f"panel: '{key}' {what}", remedy=f"{nearest(key, ('ready', *known))}; docs/rig.md tells what each is"
            )
    base = msgspec.to_builtins(part.panel(str(ready))) if ready else {}
    try:
        panel = msgspec.convert({**base, **keys}, Panel)
    except msgspec.ValidationError as error:
        raise HushedError(f"panel: {error}", remedy="keys are those of docs/rig.md") from error
    if not panel.name:
        panel.name = f"{panel.width}x{panel.height}"
    if panel.memory and (part.memory.kind not in ("pixel", "paper") or len(panel.memory) != 2 or min(panel.memory) < 1):
        raise HushedError(
            f"panel: memory = {panel.memory}", remedy="[columns, rows], of a colour controller whose memory depends on the glass"
        )
    limit, sits = part.fitted(panel).memory, box_of(panel)
    columns, rows = limit.columns * (3 if limit.chips > 1 else 1), limit.pages * 8 or limit.rows
    fits = 0 <= sits.left < sits.right <= columns and 0 <= sits.top < sits.bottom <= rows
    if limit.kind in ("paged", "pixel", "paper") and not fits:
        raise HushedError(
            f"panel: {panel.width}x{panel.height} at column {panel.column_offset}, row {panel.row_offset} does not fit into the memory of {part.name}",
            remedy=f"its memory has {columns}x{rows} pixels",
        )
    if limit.kind in ("character", "digit") and len(panel.cells) < panel.height:
        raise HushedError(
            "panel: 'cells' has to name the addresses of each row", remedy='start from a ready one: { ready = "…" }'
        )
    if panel.rotate % 90:
        raise HushedError(f"panel: rotate = {panel.rotate}", remedy="0, 90, 180 or 270")
    for band in panel.bands:
        if not 0 <= band.first <= band.last < panel.height:
            raise HushedError(f"panel: a band from {band.first} to {band.last}", remedy=f"lines run from 0 to {panel.height - 1}")
    return panel


def scanned_panel(part: Part, device: Device, roles: set[str]) -> Panel:
    """The panel of scanned LEDs: as the rig says, else as many rows and columns (or digits) as there are lines for."""
    groups = part.memory.groups
    if (groups is not None and groups.colour) != coloured(roles):
        raise HushedError(
            f"{part.name} cannot be on these lines",
            remedy="panels in colours have the roles r1 g1 b1 r2 g2 b2, a to e, clock, latch and enable; others none of the colours",
        )
    if groups is not None and groups.colour:
        return _of_colours(part, device, sum(role in roles for role in ADDRESS))
    if device.panel or groups is not None:
        return panel_of(part, device)
    rows, columns = (len(lines) for lines in axes(dict.fromkeys(roles, 0)))
    if next(iter(part.panels.values())).form == "digits":
        ready = {panel.width: name for name, panel in part.panels.items()}
        if rows in ready:
            return part.panel(ready[rows])
        base = part.panel(next(iter(part.panels)))
        return msgspec.structs.replace(base, name=f"{rows}-digits", width=rows, cells=[list(range(rows))[::-1]])
    base = part.panel(next(iter(part.panels)))
    return msgspec.structs.replace(base, name=f"{columns}x{rows}", width=columns, height=rows)


def _of_colours(part: Part, device: Device, wires: int) -> Panel:
    """A panel of two halves whose rows are told by so many address lines: where nothing says which, the first ready one of as many rows."""
    high = 2 << wires
    fitting = next((name for name, panel in part.panels.items() if panel.height == high), "")
    if fitting and not device.panel:
        return part.panel(fitting)
    panel = panel_of(part, device)
    if panel.height != high:
        raise HushedError(
            f"panel: {panel.height} rows, and address lines for {high}",
            remedy="two rows light at a time: three lines (a to c) are for 16 rows, four for 32, five for 64",
        )
    return panel


def behind(bridge: Bridge) -> Bus:
    """What a bridge's outputs make, and the lines that go past it: a bus, its roles for its lines."""
    roles = {role: role for role in (*bridge.drives, *bridge.direct)}
    kind = kind_with(roles)
    return Bus(bridge.name, kind, lines=roles, mode=bridge.mode, select=bridge.level, rows=bridge.rows, columns=bridge.columns)


def settings_of(bus: Bus) -> Settings:
    """How a bus is driven, as its decoder takes it."""
    high = {"low": 0, "high": 1}
    return Settings(bus.mode, bus.bits, bus.order == "msb", high[bus.select], high[bus.rows], high[bus.columns])


def lamps_of(target: Target, bus: Bus) -> Lamps:
    """How the lines of a bus light a scanned display."""
    groups = target.part.memory.groups
    if groups is not None:
        up, left = groups.first_row == "bottom", groups.first_column == "left"
        levels = [1 if level == "high" else 0 for level in (groups.enable, groups.lit)]
        return Lamps(levels[0], levels[1], target.panel.height, target.panel.width, groups.block, up, left, groups.colour)
    return Lamps(1 if bus.rows == "high" else 0, 1 if bus.columns == "high" else 0)
