"""Part descriptions: the catalog's TOML files as checked objects, and one command's bytes to fields and back.

A description is the datasheet's command table; the bit patterns are written as datasheets write them: 0 and 1 are fixed,
`-` is don't-care, a letter is a field. Everything here is a table looked up, so that a part is data only.
"""

from __future__ import annotations

import tomllib
from collections.abc import Sequence
from functools import cached_property, lru_cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from ..errors import HushedError, nearest

if TYPE_CHECKING:
    import numpy as np

__all__ = ["Band", "BringUp", "Command", "Field", "Panel", "Part", "Value", "catalog_names", "load", "load_file"]

CATALOG = Path(__file__).parent / "catalog"
Value = int | str


class Field(msgspec.Struct, forbid_unknown_fields=True):
    """A named field: shown value = raw + offset, or the name of the raw value."""

    name: str
    offset: int = 0
    min: int | None = None
    max: int | None = None
    values: dict[str, int] = {}
    reset: Value | None = None
    unit: str = ""


class Command(msgspec.Struct, forbid_unknown_fields=True, dict=True):
    """A command: its first word, the words that follow, and its fields by letter."""

    name: str
    title: str
    code: str
    source: str
    params: list[str] = []
    fields: dict[str, Field] = {}
    effect: str = ""

    @property
    def length(self) -> int:
        """Words, the first included."""
        return 1 + len(self.params)

    @cached_property
    def places(self) -> dict[str, list[tuple[int, int]]]:
        """For each letter the (word, bit) of its bits, most significant first."""
        out: dict[str, list[tuple[int, int]]] = {}
        for word, pattern in enumerate([self.code, *self.params]):
            for place, char in enumerate(pattern):
                if char not in "01-":
                    out.setdefault(char, []).append((word, 7 - place))
        return out

    @cached_property
    def fixed(self) -> list[tuple[int, int]]:
        """For each word the mask of its fixed bits and their value."""
        return [_mask(pattern) for pattern in [self.code, *self.params]]

    def decode(self, data: Sequence[int]) -> tuple[dict[str, Value], str]:
        """The fields of a whole command, and a note where its bytes are not what the datasheet documents ("" if they are)."""
        fields: dict[str, Value] = {}
        notes = []
        for letter, field in self.fields.items():
            raw = 0
            for word, bit in self.places[letter]:
                raw = raw << 1 | (data[word] >> bit & 1)
            value = _shown(field, raw)
            fields[field.name] = value
            if field.values and raw not in field.values.values():
                notes.append(f"{field.name} {raw} is not documented")
            elif not field.values and not _in_range(field, raw):
                notes.append(f"{field.name} {value} is outside {field.min} to {field.max}")
        for word, (mask, expected) in enumerate(self.fixed):
            if data[word] & mask != expected:
                notes.append(f"byte {word} is {data[word]:#04x}; its fixed bits are {expected:#04x} (mask {mask:#04x})")
        return fields, "; ".join(notes)

    def encode(self, fields: dict[str, Value]) -> bytes:
        """The bytes of a command; the twin of `decode`. Raises HushedError naming the field and what it takes."""
        known = {field.name: letter for letter, field in self.fields.items()}
        for name in fields:
            if name not in known:
                what = f"'{self.name}' has no field '{name}'"
                raise HushedError(what, remedy=nearest(name, known) if known else f"'{self.name}' has no fields at all")
        words = [expected for _, expected in self.fixed]
        for name, letter in known.items():
            field = self.fields[letter]
            if name not in fields:
                raise HushedError(
                    f"'{self.name}' needs its field '{name}'", remedy=f"add {name}={_wanted(field, len(self.places[letter]))}"
                )
            places = self.places[letter]
            raw = _raw(self.name, field, fields[name], len(places))
            for position, (word, bit) in enumerate(places):
                words[word] |= (raw >> (len(places) - 1 - position) & 1) << bit
        return bytes(words)


def _mask(pattern: str) -> tuple[int, int]:
    mask = sum(1 << (7 - k) for k, char in enumerate(pattern) if char in "01")
    return mask, sum(1 << (7 - k) for k, char in enumerate(pattern) if char == "1")


def _shown(field: Field, raw: int) -> Value:
    for name, value in field.values.items():
        if value == raw:
            return int(name) if name.isdigit() else name
    return raw + field.offset


def _in_range(field: Field, raw: int) -> bool:
    value = raw + field.offset
    return (field.min is None or value >= field.min) and (field.max is None or value <= field.max)


def _wanted(field: Field, bits: int) -> str:
    """What a field takes, for an error message."""
    if field.values:
        return " or ".join(field.values)
    low, high = field.offset, field.offset + (1 << bits) - 1
    return f"{low if field.min is None else field.min} to {high if field.max is None else field.max}"


def _raw(command: str, field: Field, value: Value, bits: int) -> int:
    if str(value) in field.values:
        return field.values[str(value)]
    if isinstance(value, str) or field.values:
        raise HushedError(f"'{value}' is no value of {command} {field.name}", remedy=f"it takes {_wanted(field, bits)}")
    raw = value - field.offset
    if not 0 <= raw < 1 << bits or not _in_range(field, raw):
        raise HushedError(f"{value} is out of range for {command} {field.name}", remedy=f"it takes {_wanted(field, bits)}")
    return raw


class Band(msgspec.Struct, forbid_unknown_fields=True, rename={"first": "from", "last": "to"}):
    """Lines `from` to `to` (inclusive, 0 at the top) of a glass whose colour differs."""

    first: int
    last: int
    colour: str


class Panel(msgspec.Struct, forbid_unknown_fields=True):
    """The glass: its size, where it lies in memory, how it is bonded and mounted, its colours, its supply."""

    width: int
    height: int
    column_offset: int = 0
    upright: dict[str, str] = {}
    com_pins: str = "alternative"
    com_left_right: str = "off"
    supply: str = "charge-pump"
    rotate: int = 0
    mirror: bool = False
    colour: str = "white"
    bands: list[Band] = []
    name: str = ""


class BringUp(msgspec.Struct, forbid_unknown_fields=True):
    """What must be true when the panel is expected to show something: a register against a value or a panel's key."""

    finding: str
    register: str
    summary: str
    remedy: str
    source: str
    must: Value | None = None
    must_equal: str = ""
    panel: dict[str, str] = {}


class Beyond(msgspec.Struct, forbid_unknown_fields=True):
    """What to look at when everything on the wires is right; for panels whose keys match, or a register below a value."""

    look: str
    source: str
    panel: dict[str, str] = {}
    register: str = ""
    below: int = 0


class I2cSide(msgspec.Struct, forbid_unknown_fields=True):
    """How a part answers on I2C."""

    addresses: list[int]
    source: str
    strap: str = ""
    write_only: bool = False


class Levels(msgspec.Struct, forbid_unknown_fields=True):
    """Logic levels. vih, vil: shares of the supply. above_supply: how far an input may exceed it."""

    vih: float
    vil: float
    supply_least: str
    supply_most: str
    above_supply: str
    source: str


class Memory(msgspec.Struct, forbid_unknown_fields=True):
    """The memory: which model, how large, and which registers the model reads."""

    kind: str
    columns: int
    pages: int
    source: str
    registers: dict[str, str] = {}
    area: dict[str, list[str]] = {}


class Oscillator(msgspec.Struct, forbid_unknown_fields=True):
    """What the display's frame rate follows from."""

    typical: str
    source: str
    pulse: int = 0


class Part(msgspec.Struct, forbid_unknown_fields=True, dict=True):
    """A part of the catalog."""

    name: str
    title: str
    source: str
    framings: list[str]
    command: list[Command]
    memory: Memory
    i2c: I2cSide | None = None
    levels: Levels | None = None
    limits: dict[str, str] = {}
    waits: dict[str, str] = {}
    oscillator: Oscillator | None = None
    start_up: list[str] = []
    start: list[str] = []
    bring_up: list[BringUp] = []
    beyond: list[Beyond] = []
    panels: dict[str, Panel] = {}

    @cached_property
    def table(self) -> np.ndarray[Any, np.dtype[np.int16]]:
        """(256,) index of the command that each first word opens, -1 where none does."""
        import numpy as np  # here, so that reading a description loads no more than it needs

        out = np.full(256, -1, dtype=np.int16)
        for index, command in enumerate(self.command):
            mask, expected = command.fixed[0]
            out[(np.arange(256) & mask) == expected] = index
        return out

    @cached_property
    def by_name(self) -> dict[str, int]:
        """Command index by name."""
        return {command.name: index for index, command in enumerate(self.command)}

    @cached_property
    def reset(self) -> dict[str, Value]:
        """Registers ("command.field") after a reset."""
        return {
            f"{command.name}.{field.name}": field.reset
            for command in self.command
            for field in command.fields.values()
            if field.reset is not None
        }

    def find(self, name: str) -> Command:
        """The command of that name; raises HushedError with the nearest ones."""
        if name not in self.by_name:
            raise HushedError(f"{self.name} has no command '{name}'", remedy=nearest(name, self.by_name))
        return self.command[self.by_name[name]]

    def panel(self, name: str) -> Panel:
        """The ready panel of that name; raises HushedError naming those there are."""
        if name not in self.panels:
            raise HushedError(f"{self.name} has no ready panel '{name}'", remedy=nearest(name, self.panels))
        return msgspec.structs.replace(self.panels[name], name=name)


def catalog_names() -> list[str]:
    """The parts that ship."""
    return sorted(path.stem for path in CATALOG.glob("*.toml"))


@lru_cache(maxsize=32)
def load(name: str) -> Part:
    """A part by name; raises HushedError with the nearest names."""
    names = catalog_names()
    if name.lower() not in names:
        raise HushedError(f"the catalog has no part '{name}'", remedy=nearest(name, names))
    return load_file(CATALOG / f"{name.lower()}.toml")


def load_file(path: Path) -> Part:
    """A description from a file; raises HushedError naming file, key and reason."""
    try:
        with path.open("rb") as file:
            part = msgspec.convert(tomllib.load(file), Part)
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise HushedError(f"not TOML: {error}"[:200], where=str(path), remedy="mend the file at that place") from error
    except msgspec.ValidationError as error:
        what, _, key = str(error).partition(" - at ")
        raise HushedError(
            f"{key.strip('`') or 'the file'}: {what}", where=str(path), remedy="see the part descriptions in CONTRIBUTING"
        ) from error
    check(part, str(path))
    return part


def check(part: Part, where: str) -> None:
    """What types cannot say: patterns, overlaps, names that must exist."""

    def fail(key: str, reason: str) -> None:
        raise HushedError(f"{key}: {reason}", where=where, remedy="compare the key with the datasheet's table")

    taken: dict[int, str] = {}
    for command in part.command:
        key = f"command '{command.name}'"
        for pattern in [command.code, *command.params]:
            if len(pattern) != 8 or not all(char in "01-" or (char.isalpha() and char.islower()) for char in pattern):
                fail(key, f"'{pattern}' is not eight of 0, 1, - and letters")
        letters = set(command.places)
        if letters != set(command.fields):
            odd = min(letters ^ set(command.fields))
            fail(key, f"letter '{odd}' is in the patterns or in the fields, not in both")
        mask, expected = command.fixed[0]
        for first in range(256):
            if first & mask == expected:
                if first in taken:
                    fail(key, f"the code {first:#04x} is that of '{taken[first]}' too")
                taken[first] = command.name
    if len(part.by_name) != len(part.command):
        fail("command", "two commands have one name")
    registers = {f"{command.name}.{field.name}" for command in part.command for field in command.fields.values()}
    for key, register in [
        *((f"memory.registers.{role}", register) for role, register in part.memory.registers.items()),
        *((f"bring_up '{rule.finding}'", rule.register) for rule in part.bring_up),
        *(("beyond", hint.register) for hint in part.beyond if hint.register),
    ]:
        if register not in registers:
            fail(key, f"there is no register '{register}'; {nearest(register, registers)}")
    for name in part.start_up:
        if name not in part.by_name:
            fail("start_up", f"there is no command '{name}'; {nearest(name, part.by_name)}")
