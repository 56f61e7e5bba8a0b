"""What a part description says. A part is data only: everything here is a table looked up. `catalogs` reads the files."""

from __future__ import annotations

from fractions import Fraction
from functools import cached_property
from typing import Literal

import msgspec

from ..errors import HushedError, nearest
from ..units import parse
from .command import Command, Field, Value
from .describe_memory import GROUPS, Memory

__all__ = [
    "PLACING",
    "Band",
    "BringUp",
    "Command",
    "Field",
    "Panel",
    "Part",
    "Value",
    "turns_of",
]

PLACING = {  # effects of commands that say where data goes, or bring it
    "address", "cell", "column", "column-high", "column-low", "column-window", "glyph", "home", "page", "page-window", "row-window", "write",
}  # fmt: skip


class Band(msgspec.Struct, forbid_unknown_fields=True, rename={"first": "from", "last": "to"}):
    """Lines `from` to `to` (inclusive, 0 at the top) of a glass whose colour differs."""

    first: int
    last: int
    colour: str


class Panel(msgspec.Struct, forbid_unknown_fields=True):
    """The glass: its size, where it lies in memory, how it is bonded and mounted, its colours, its supply.

    Sizes are in pixels; of character panels in characters, of digits in digits. needs: registers that have to have these
    values for this glass. memory: columns and rows of the controller's memory, where pins of the chip fit them to the glass. upright:
    states of the memory's roles under which a picture stands upright. cells: for each row of a character panel (first address, count)
    pairs, 0x100 a controller; of digits the address of each, leftmost first, 0x100 a driver of a chain, of which 0 is the nearest to who
    drives it. segments: what the bits of a digit light, bit 0 first; of more than eight, the address behind its own has the others. colons:
    (after how many digits from the left, address, mask of bits) of marks between digits. round: only the circle within is glass.
    first_common: the output that its first common line hangs on.
    begin, run, serpentine: of LEDs in a chain where it begins, along what it runs, and whether it turns back at each end.
    module_turn: how far each 8x8 module of a chain is turned, clockwise.
    """

    width: int
    height: int
    column_offset: int = 0
    row_offset: int = 0
    memory: list[int] = []
    upright: dict[str, str] = {}
    needs: dict[str, Value] = {}
    com_pins: str = "alternative"
    com_left_right: str = "off"
    supply: str = "charge-pump"
    rotate: int = 0
    mirror: bool = False
    colour: str = "white"
    bands: list[Band] = []
    cells: list[list[int]] = []
    form: str = ""
    segments: list[str] = []
    module_turn: int = 0
    colons: list[list[int]] = []
    round: bool = False
    first_common: int = 0
    begin: Literal["top-left", "top-right", "bottom-left", "bottom-right"] = "top-left"
    run: Literal["rows", "columns"] = "rows"
    serpentine: bool = False
    name: str = ""


def chips_of(panel: Panel) -> int:
    """Over how many controllers or drivers in a chain the cells of a panel go."""
    per_row = (row[0::2] if panel.form == "" else row for row in panel.cells)
    return 1 + max((cell >> 8 for row in per_row for cell in row), default=0)


class BringUp(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What must be true when the panel is expected to show something.

    Either a register against a value (`must`, `must_not`), a panel's key (`must_equal`) or what this panel `needs` (must_equal =
    "needs"); or a command (`step`) that has to be sent, or, with `before`, to come ahead of another.
    """

    finding: str
    summary: str
    remedy: str
    source: str
    register: str = ""
    must: Value | None = None
    must_not: Value | None = None
    must_equal: str = ""
    panel: dict[str, str] = {}
    step: str = ""
    before: str = ""
    framing: dict[str, Value] = {}


class Beyond(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What to look at when everything on the wires is right; for panels whose keys match, or a register below a value."""

    look: str
    source: str
    panel: dict[str, str] = {}
    register: str = ""
    below: int = 0


class I2cSide(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """How a part answers on I2C. family: parts that are mistaken for one another, as they differ in nothing but addresses."""

    addresses: list[int]
    source: str
    strap: str = ""
    family: str = ""
    write_only: bool = False


class Opcode(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What a part behind an opcode is told apart by: the addresses that its pins can give, 0 to 7."""

    addresses: list[int]
    strap: str
    source: str


class Levels(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """Logic levels. vih, vil: shares of the supply, or volts like "3.5V". above_supply: how far an input may exceed it."""

    vih: float | str
    vil: float | str
    supply_least: str
    supply_most: str
    above_supply: str
    source: str

    def high_from(self, supply: float) -> float:
        """The volts from which on an input counts as high."""
        return _volts(self.vih, supply)

    def logic_at(self, supply: float) -> float:
        """The volts that the logic runs at: a module's regulator brings a higher supply down to what the part takes."""
        return min(supply, float(parse(self.supply_most, "V")))

    def low_to(self, supply: float) -> float:
        """The volts up to which an input counts as low."""
        return _volts(self.vil, supply)


def _volts(level: float | str, supply: float) -> float:
    return float(parse(level, "V")) if isinstance(level, str) else level * supply


class AtSupply(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What differs at a supply below some volts, or above: limits, waits, levels in place of those that the part has else, lines of its ready
    bring-up in place of others, and rules that hold there alone."""

    source: str
    below: str = ""
    above: str = ""
    limits: dict[str, str] = {}
    waits: dict[str, str] = {}
    vih: float | str | None = None
    vil: float | str | None = None
    start: dict[str, str] = {}
    bring_up: list[BringUp] = []

    def holds(self, volts: Fraction) -> bool:
        """Whether a supply is one of those."""
        return volts < parse(self.below, "V") if self.below else volts > parse(self.above, "V")


class Halves(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """The upper halves of the commands that switch the interface to halves of words, and back to whole ones."""

    halves: int
    whole: int
    source: str


class ModulePin(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """A pin of a module beside its bus. to: where it belongs, where no line of the role `unless` leads there; on: kinds of bus, "" any."""

    signal: str
    to: str
    source: str
    unless: str = ""
    on: list[str] = []
    level: str = ""
    through: str = ""


class Busy(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """The line with which a part says that it takes nothing. active: its level then."""

    active: Literal["low", "high"]
    source: str


class Oscillator(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """What the display's frame rate follows from."""

    typical: str
    source: str
    pulse: int = 0


class Response(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """How long the glass that hangs on a part takes to change, from dark to light and back."""

    time: str
    source: str


# What waits are for: between the first commands of a bring-up, behind power-on, between data, a reset pulse, and behind it.
# How long a refresh of e-paper takes.
WAITS = ("start_1", "start_2", "power_on", "data", "reset_low", "after_reset", "refresh")


class Part(msgspec.Struct, forbid_unknown_fields=True, frozen=True, dict=True):
    """A part of the catalog. parameters: whether a command's parameters come as command or as data words. spi_modes: in which it takes data.
    bit_order: which bit of a word it takes first. select: the level at which it listens.

    makers_own: first and last of the codes that the standard leaves to makers, whose drivers send more than datasheets tell. base: a
    standard or a part that it stands on, of whose commands `without` lists those that it lacks, and `takes` the times that it needs. also:
    parts that are the same to a driver.
    """

    name: str
    title: str
    source: str
    framings: list[str]
    command: list[Command]
    memory: Memory
    base: str = ""
    without: list[str] = []
    takes: dict[str, str] = {}
    also: list[str] = []
    parameters: Literal["command", "data"] = "command"
    makers_own: list[int] = []
    spi_modes: list[int] = []
    bit_order: Literal["msb", "lsb"] = "msb"
    select: Literal["low", "high"] = "low"
    halves: Halves | None = None
    i2c: I2cSide | None = None
    opcode: Opcode | None = None
    levels: Levels | None = None
    limits: dict[str, str] = {}
    waits: dict[str, str] = {}
    at_supply: list[AtSupply] = []
    busy: Busy | None = None
    oscillator: Oscillator | None = None
    response: Response | None = None
    start_up: list[str] = []
    start: list[str] = []
    start_by: dict[str, list[str]] = {}
    bring_up: list[BringUp] = []
    beyond: list[Beyond] = []
    module_pins: list[ModulePin] = []
    panels: dict[str, Panel] = {}
    example: str = ""

    @cached_property
    def _variants(self) -> dict[tuple[int, ...] | str, Part]:
        return {}

    def fitted(self, panel: Panel) -> Part:
        """The part as its pins set it up for a glass: with the memory that this has."""
        size = tuple(panel.memory)
        if not size:
            return self
        if size not in self._variants:
            memory = msgspec.structs.replace(self.memory, columns=size[0], rows=size[1])
            self._variants[size] = msgspec.structs.replace(self, memory=memory)
        return self._variants[size]

    def supplied(self, supply: str) -> Part:
        """The part at a supply like "3.3V" ("" where nothing is known of it), with what it has there: of several entries the nearest."""
        volts = parse(supply, "V") if supply else None
        able = [entry for entry in self.at_supply if volts is not None and entry.holds(volts)]
        entry = min(able, key=lambda entry: abs(parse(entry.below or entry.above, "V") - (volts or 0)), default=None)
        if entry is None:
            return self
        key = f"{entry.below} {entry.above}"
        if key not in self._variants:
            limits = {**self.limits, **entry.limits, **({"source": entry.source} if entry.limits else {})}
            waits = {**self.waits, **entry.waits, **({"source": entry.source} if entry.waits else {})}
            levels = self.levels
            if levels is not None:
                levels = msgspec.structs.replace(
                    levels, vih=levels.vih if entry.vih is None else entry.vih, vil=levels.vil if entry.vil is None else entry.vil
                )
            start, rules = [entry.start.get(line, line) for line in self.start], [*self.bring_up, *entry.bring_up]
            self._variants[key] = msgspec.structs.replace(
                self, limits=limits, waits=waits, levels=levels, start=start, bring_up=rules
            )
        return self._variants[key]

    @property
    def top_bit(self) -> Literal["little", "big"]:
        """Of bytes that stand upright: which bit is on top, the lowest (little) or the highest, as NumPy calls it."""
        return "big" if self.memory.layout is not None and self.memory.layout.first == "high" else "little"

    @property
    def usual_mode(self) -> str:
        """How a paged memory takes data where nothing set it: through windows, where there is no pointer to a page."""
        effects = {command.effect for command in self.command}
        windows = "page-window" in effects and "page" not in effects
        return str(self.reset.get(self.memory.registers.get("mode", ""), "horizontal" if windows else "page"))

    @property
    def usual_format(self) -> str:
        """How many bits a pixel has where no command sets it."""
        bits = self.memory.layout.bits if self.memory.layout is not None else 1
        return f"{bits}-bit" if bits > 1 else "16-bit"

    @cached_property
    def pixels_an_address(self) -> int:
        """How many pixels lie side by side at one column address of a memory of pixels."""
        windows = (command for command in self.command if command.effect == "column-window")
        return max((field.step for command in windows for field in command.fields.values()), default=1)

    @property
    def grey(self) -> bool:
        """Whether its pixels have shades, and no colours."""
        layout = self.memory.layout
        return self.memory.kind == "pixel" and layout is not None and layout.colours == "grey"

    @cached_property
    def modes(self) -> tuple[str, ...]:
        """Registers that change what codes mean."""
        return tuple(sorted({register for command in self.command for register in command.when}))

    @cached_property
    def at_reset(self) -> tuple[Value, ...]:
        """The modes after a reset."""
        return tuple(self.reset.get(register, "") for register in self.modes)

    @cached_property
    def _tables(self) -> dict[tuple[Value, ...], list[int]]:
        return {}

    def table(self, state: tuple[Value, ...] | None = None) -> list[int]:
        """256 entries: the index of the command that each first word opens in a state of the modes, -1 where none does."""
        state = self.at_reset if state is None else state
        if state not in self._tables:
            now = dict(zip(self.modes, state, strict=True))
            out = [-1] * 256
            for index, command in enumerate(self.command):
                if all(now[register] == value for register, value in command.when.items()):
                    mask, expected = command.fixed[0]
                    free = ~mask & 0xFF
                    bits = free
                    while True:  # every way to fill the bits that are not fixed
                        out[expected | bits] = index
                        if not bits:
                            break
                        bits = (bits - 1) & free
            self._tables[state] = out
        return self._tables[state]

    @cached_property
    def by_name(self) -> dict[str, int]:
        """Command index by name."""
        return {command.name: index for index, command in enumerate(self.command)}

    @cached_property
    def reset(self) -> dict[str, Value]:
        """Registers ("command.field") after a reset."""
        return {
            f"{command.owner}.{field.name}": field.reset
            for command in self.command
            for field in command.fields.values()
            if field.reset is not None
        }

    def raw_of(self, register: str, value: Value | None) -> int:
        """A register's value as its field's number; 0 where it has none."""
        if isinstance(value, int):
            return value
        for command in self.command:
            for field in command.fields.values():
                if f"{command.owner}.{field.name}" == register:
                    return field.values.get(str(value), 0)
        return 0

    def field_of(self, register: str) -> Field:
        """The field of a register ("command.field")."""
        return next(
            field for command in self.command for field in command.fields.values() if f"{command.owner}.{field.name}" == register
        )

    def find(self, name: str) -> Command:
        """The command of that name; raises HushedError with the nearest ones."""
        if name not in self.by_name:
            raise HushedError(f"{self.name} has no command '{name}'", remedy=nearest(name, self.by_name))
        return self.command[self.by_name[name]]

    def panel(self, name: str) -> Panel:
        """The ready panel of that name; raises HushedError naming those there are."""
        if not self.panels:
            if self.memory.kind == "unknown":
                raise HushedError("of an unknown part nobody knows how its panel lies in memory", remedy="leave the panel out")
            raise HushedError(f"{self.name} drives no panel of its own", remedy="it is a bridge: put a display behind it")
        if name not in self.panels:
            raise HushedError(f"{self.name} has no ready panel '{name}'", remedy=nearest(name, self.panels))
        return msgspec.structs.replace(self.panels[name], name=name)


def turns_of(part: Part, panel: Panel) -> int:
    """How many rows, digits or groups of rows take turns."""
    groups = part.memory.groups
    if groups is None:
        return panel.width if panel.form == "digits" else panel.height
    return panel.height // 2 if groups.colour else GROUPS
