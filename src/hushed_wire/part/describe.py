"""Part descriptions: the catalog's TOML files as checked objects. A part is data only: everything here is a table looked up.

A description may stand on a base (`base = "mipi-dcs"`): it has the base's commands beside its own, which win over those of
the same name or code. Files of the catalog are checked when they are written (by the tests); a user's when they are read.
"""

from __future__ import annotations

from functools import cached_property, lru_cache
from pathlib import Path
from typing import Any, Literal

import msgspec

from ..compiled import fast_form, write_compiled
from ..errors import HushedError, nearest
from .command import Command, Field, Value
from .layout import Layout

__all__ = [
    "Band",
    "BringUp",
    "Command",
    "Field",
    "Panel",
    "Part",
    "Value",
    "add_folder",
    "catalog_names",
    "load",
    "load_file",
]

CATALOG = Path(__file__).parent / "catalog"


class Band(msgspec.Struct, forbid_unknown_fields=True, rename={"first": "from", "last": "to"}):
    """Lines `from` to `to` (inclusive, 0 at the top) of a glass whose colour differs."""

    first: int
    last: int
    colour: str


class Panel(msgspec.Struct, forbid_unknown_fields=True):
    """The glass: its size, where it lies in memory, how it is bonded and mounted, its colours, its supply.

    Sizes are in pixels; of character panels in characters, of digits in digits. needs: registers that have to have these
    values for this glass. cells: for each row of a character panel (first address, count) pairs, 0x100 a controller; of
    digits the address of each, leftmost first. segments: what the bits of a digit light, bit 0 first.
    """

    width: int
    height: int
    column_offset: int = 0
    row_offset: int = 0
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
    name: str = ""


class BringUp(msgspec.Struct, forbid_unknown_fields=True):
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


class Beyond(msgspec.Struct, forbid_unknown_fields=True):
    """What to look at when everything on the wires is right; for panels whose keys match, or a register below a value."""

    look: str
    source: str
    panel: dict[str, str] = {}
    register: str = ""
    below: int = 0


class I2cSide(msgspec.Struct, forbid_unknown_fields=True):
    """How a part answers on I2C. family: parts that are mistaken for one another, as they differ in nothing but addresses."""

    addresses: list[int]
    source: str
    strap: str = ""
    family: str = ""
    write_only: bool = False


class Levels(msgspec.Struct, forbid_unknown_fields=True):
    """Logic levels. vih, vil: shares of the supply. above_supply: how far an input may exceed it."""

    vih: float
    vil: float
    supply_least: str
    supply_most: str
    above_supply: str
    source: str


class Groups(msgspec.Struct, forbid_unknown_fields=True):
    """A panel that takes its rows in groups, its columns from a register. lit: the level of a bit that lights. enable: the level

    that lets it light. block: bits for one row before the next row of the group has its turn; first_row, first_column: which of
    a group's rows, and of a block's columns, goes in first.
    """

    lit: Literal["low", "high"]
    enable: Literal["low", "high"]
    block: int
    first_row: Literal["top", "bottom"]
    first_column: Literal["left", "right"]
    source: str


class Expander(msgspec.Struct, forbid_unknown_fields=True, frozen=True):
    """An expander of two ports with registers. called: the direction register, as the datasheet has it. direction, control, outputs: numbers of
    registers within a port (a bit of `direction` that is 1 makes an input; writing any of `outputs` sets the latches, the
    last one is what drivers write). registers: of a port.
    bank, byte_mode: bits of the control register: ports apart in the address map; the address stays within a transfer.
    """

    called: str
    direction: int
    control: int
    outputs: list[int]
    registers: int
    bank: int
    byte_mode: int
    source: str


class Memory(msgspec.Struct, forbid_unknown_fields=True):
    """The memory: which model, how large, which registers the model reads, how a picture is brought to its place.

    kind: paged, character, digit, pixel, port or scanned (LEDs without a chip).

    wrap: what the pointer does behind the last column of a page. chips: how
    many of the part share a glass, beside or below one another. layout: how pixels lie in its bytes.
    """

    kind: str
    source: str
    columns: int = 0
    pages: int = 0
    rows: int = 0
    wrap: str = "row"
    chips: int = 1
    registers: dict[str, str] = {}
    area: dict[str, list[str]] = {}
    rom: str = ""
    layout: Layout | None = None
    groups: Groups | None = None
    expander: Expander | None = None


class Oscillator(msgspec.Struct, forbid_unknown_fields=True):
    """What the display's frame rate follows from."""

    typical: str
    source: str
    pulse: int = 0


class Part(msgspec.Struct, forbid_unknown_fields=True, dict=True):
    """A part of the catalog. parameters: whether a command's parameters come as command or as data words."""

    name: str
    title: str
    source: str
    framings: list[str]
    command: list[Command]
    memory: Memory
    base: str = ""
    parameters: Literal["command", "data"] = "command"
    i2c: I2cSide | None = None
    levels: Levels | None = None
    limits: dict[str, str] = {}
    waits: dict[str, str] = {}
    oscillator: Oscillator | None = None
    start_up: list[str] = []
    start: list[str] = []
    start_by: dict[str, list[str]] = {}
    bring_up: list[BringUp] = []
    beyond: list[Beyond] = []
    panels: dict[str, Panel] = {}
    example: str = ""

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

    def find(self, name: str) -> Command:
        """The command of that name; raises HushedError with the nearest ones."""
        if name not in self.by_name:
            raise HushedError(f"{self.name} has no command '{name}'", remedy=nearest(name, self.by_name))
        return self.command[self.by_name[name]]

    def panel(self, name: str) -> Panel:
        """The ready panel of that name; raises HushedError naming those there are."""
        if not self.panels:
            raise HushedError(f"{self.name} drives no panel of its own", remedy="it is a bridge: put a display behind it")
        if name not in self.panels:
            raise HushedError(f"{self.name} has no ready panel '{name}'", remedy=nearest(name, self.panels))
        return msgspec.structs.replace(self.panels[name], name=name)


FOLDERS: list[Path] = [CATALOG]


def add_folder(folder: Path) -> None:
    """Adds a user's folder of descriptions, which win over those that ship; raises HushedError where one is wrong."""
    if not folder.is_dir():
        raise HushedError("no such folder", where=str(folder), remedy="--catalog names a folder of part descriptions (*.toml)")
    if folder not in FOLDERS:
        FOLDERS.insert(0, folder)
    load.cache_clear()
    for path in sorted(folder.glob("*.toml")):
        load(path.stem.lower())


def catalog_names() -> list[str]:
    """The parts that ship, and the user's."""
    return sorted({path.stem.lower() for folder in FOLDERS for path in folder.glob("*.toml")})


@lru_cache(maxsize=64)
def load(name: str) -> Part:
    """A part by name; raises HushedError with the nearest names."""
    for folder in FOLDERS:
        path = folder / f"{name.lower()}.toml"
        if path.is_file():
            return _shipped(path) if folder == CATALOG else load_file(path)
    raise HushedError(f"the catalog has no part '{name}'", remedy=nearest(name.lower(), catalog_names()))


def _under() -> list[Path]:
    """What descriptions may stand on."""
    return sorted((CATALOG / "base").glob("*.toml"))


def _shipped(path: Path) -> Part:
    body = fast_form(path, _under())
    return load_file(path, checked=True) if body is None else msgspec.json.decode(body, type=Part)


def compile_all() -> None:
    """Writes the fast form of every shipped description, and of the table of findings."""
    from .. import finding

    for path in CATALOG.glob("*.toml"):
        write_compiled(path, load_file(path), _under())
    write_compiled(finding.TABLE, finding.codes())


def load_file(path: Path, checked: bool = False) -> Part:
    """A description from a file; raises HushedError naming file, key and reason. checked: it is known to be right."""
    import tomllib  # here, since shipped parts are read without it

    try:
        text = path.read_text(encoding="utf-8")
        table = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError, RecursionError) as error:
        raise HushedError(f"not TOML: {error}"[:200], where=str(path), remedy="mend the file at that place") from error
    except OSError as error:
        raise HushedError(f"cannot be read: {error.strerror}", where=str(path), remedy="check the path of the part") from error
    base = table.get("base", "")
    if base:
        table = _on_base(table, str(base), path)
    try:
        part = msgspec.convert(table, Part)
    except msgspec.ValidationError as error:
        what, _, key = str(error).partition(" - at ")
        raise HushedError(
            f"{key.strip('`') or 'the file'}: {what}", where=str(path), remedy="see the part descriptions in CONTRIBUTING"
        ) from error
    if not checked:
        from .check import check

        check(part, str(path))
    return part


def _on_base(table: dict[str, Any], base: str, path: Path) -> dict[str, Any]:
    """A description over its base: tables are merged, the base's commands stay where name and code are free."""
    below = CATALOG / "base" / f"{base}.toml"
    if not below.is_file():
        bases = [entry.stem for entry in (CATALOG / "base").glob("*.toml")]
        raise HushedError(f"base: there is no base '{base}'", where=str(path), remedy=nearest(base, bases))
    import tomllib

    under = tomllib.loads(below.read_text(encoding="utf-8"))
    own = table.get("command", [])
    if not isinstance(own, list) or not all(isinstance(entry, dict) for entry in own):
        raise HushedError("command: it is no list of tables", where=str(path), remedy="write [[command]] ahead of each")
    names, codes = [entry.get("name") for entry in own], [entry.get("code") for entry in own]
    rest = [entry for entry in under.pop("command", []) if entry["name"] not in names and entry["code"] not in codes]
    out: dict[str, Any] = {**under, **table, "command": [*own, *rest]}
    for key in ("memory", "limits", "waits"):
        if key in under and isinstance(table.get(key), dict):
            out[key] = {**under[key], **table[key]}
    for key in ("bring_up", "beyond"):
        mine = table.get(key, [])
        out[key] = [*mine, *under.get(key, [])] if isinstance(mine, list) else mine
    return out
