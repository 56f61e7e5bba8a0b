"""Commands: bit patterns as datasheets write them, and one command's bytes to fields and back.

0 and 1 are fixed, `-` is don't-care, a letter is a field, most significant bit first; a field may run over several words.
Plain Python, so that explaining a command loads no arrays.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from functools import cached_property

import msgspec

from ..errors import HushedError, nearest

__all__ = ["Command", "Field", "Value"]

Value = int | str


class Field(msgspec.Struct, forbid_unknown_fields=True):
    """A named field: shown value = raw * step + offset, or the name of the raw value.

    step: of what is counted, how much the part counts as one: pixels of an address, say. default: what a sequence that does not say means;
    it is not told. fixed: it has one value, whose bits tell the command from others. open: numbers without a name are documented too.
    hex: shown as bytes, like 0A:1F, for tables that are copied as they stand.
    """

    name: str
    offset: int = 0
    step: int = 1
    min: int | None = None
    max: int | None = None
    values: dict[str, int] = {}
    reset: Value | None = None
    default: Value | None = None
    unit: str = ""
    open: bool = False
    fixed: bool = False
    hex: bool = False


class Command(msgspec.Struct, forbid_unknown_fields=True, dict=True):
    """A command: its first word, the words that follow, and its fields by letter.

    when: registers and the values under which the code means this command. takes: how long the part is busy with it. data: data words
    follow it, as many as the driver sends. optional: of its parameters, how many at the end may be left out. effect: what it does to the
    part's memory model. busy: the part says on a line of its own that it is busy with it. low_first: of fields that run over several words the
    lowest bits come first. sets: the command whose registers it sets, where one register has several codes.
    """

    name: str
    title: str
    code: str
    source: str
    params: list[str] = []
    optional: int = 0
    fields: dict[str, Field] = {}
    effect: str = ""
    when: dict[str, Value] = {}
    takes: str = ""
    data: bool = False
    busy: bool = False
    low_first: bool = False
    sets: str = ""

    @property
    def owner(self) -> str:
        """Whose registers its fields are: its own, or those of the command of which it is another form (`sets`)."""
        return self.sets or self.name

    @cached_property
    def patterns(self) -> list[str]:
        """One pattern a word; `gggggggg*14` stands for fourteen."""
        out = [self.code]
        for text in self.params:
            pattern, _, times = text.partition("*")
            out += [pattern] * (int(times) if times.isdecimal() else 1)
        return out

    @property
    def length(self) -> int:
        """Words, the first included."""
        return len(self.patterns)

    @cached_property
    def places(self) -> dict[str, list[tuple[int, int]]]:
        """For each letter the (word, bit) of its bits, most significant first."""
        out: dict[str, list[tuple[int, int]]] = {}
        order = list(enumerate(self.patterns))
        for word, pattern in reversed(order) if self.low_first else order:
            for place, char in enumerate(pattern):
                if char not in "01-":
                    out.setdefault(char, []).append((word, 7 - place))
        return out

    @cached_property
    def fixed(self) -> list[tuple[int, int]]:
        """For each word the mask of its fixed bits and their value."""
        out = [_mask(pattern) for pattern in self.patterns]
        for letter, field in self.fields.items():
            raw = next(iter(field.values.values())) if field.fixed else 0
            for position, (word, bit) in enumerate(reversed(self.places[letter]) if field.fixed else ()):
                mask, expected = out[word]
                out[word] = mask | 1 << bit, expected | (raw >> position & 1) << bit
        return out

    def decode(self, data: Sequence[int]) -> tuple[dict[str, Value], str]:
        """The fields of a command, and a note where its bytes are not what the datasheet documents ("" if they are).

        Fields whose words did not come are left out; of bytes in hex those that came are given.
        """
        fields: dict[str, Value] = {}
        notes = []
        came = len(data)
        if came < self.length - self.optional:
            notes.append(f"{came - 1} of its {self.length - 1} parameters came; the others keep their values")
        for letter, field in self.fields.items():
            places = self.places[letter]
            if came < self.length:
                there = [place for place in places if place[0] < came]
                if not there or (len(there) < len(places) and not field.hex):
                    continue
                places = there
            raw = 0
            for word, bit in places:
                raw = raw << 1 | (data[word] >> bit & 1)
            value = _shown(field, raw, len(places))
            if field.default is None or value != field.default:
                fields[field.name] = value
            if field.values and not field.open and raw not in field.values.values():
                notes.append(f"{field.name} {raw} is not documented")
            elif not field.hex and (field.open or not field.values) and not isinstance(value, str) and not _in_range(field, raw):
                least = field.offset if field.min is None else field.min
                most = field.offset + ((1 << len(places)) - 1) * field.step if field.max is None else field.max
                notes.append(f"{field.name} {value} is outside {least} to {most}")
        for word, (mask, expected) in enumerate(self.fixed[:came]):
            if data[word] & mask != expected:
                notes.append(f"byte {word} is {data[word]:#04x}; its fixed bits are {expected:#04x} (mask {mask:#04x})")
        return fields, "; ".join(notes)

    def takes_value(self, name: str, value: Value) -> bool:
        """Whether a field of that name can be given a value; what drivers send may have none that is documented."""
        letter = next(letter for letter, field in self.fields.items() if field.name == name)
        try:
            _raw(self.name, self.fields[letter], value, len(self.places[letter]))
        except HushedError:
            return False
        return True

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
            if name not in fields and field.default is None:
                raise HushedError(
                    f"'{self.name}' needs its field '{name}'", remedy=f"add {name}={wanted(field, len(self.places[letter]))}"
                )
            places = self.places[letter]
            if field.hex and self.optional:
                left_out = min(self.optional, max(0, (len(places) + 7) // 8 - len(str(fields[name]).replace(":", "")) // 2))
                words = words[: len(words) - left_out]
                places = [place for place in places if place[0] < len(words)]
            value = fields.get(name, field.default)
            assert value is not None  # asked above
            raw = _raw(self.name, field, value, len(places))
            for position, (word, bit) in enumerate(places):
                words[word] |= (raw >> (len(places) - 1 - position) & 1) << bit
        return bytes(words)


def _mask(pattern: str) -> tuple[int, int]:
    mask = sum(1 << (7 - k) for k, char in enumerate(pattern) if char in "01")
    return mask, sum(1 << (7 - k) for k, char in enumerate(pattern) if char == "1")


def _shown(field: Field, raw: int, bits: int) -> Value:
    for name, value in field.values.items():
        if value == raw:
            return int(name) if name.isdecimal() else name
    if field.hex:
        return raw.to_bytes((bits + 7) // 8, "big").hex(":").upper()
    return raw * field.step + field.offset


def _in_range(field: Field, raw: int) -> bool:
    value = raw * field.step + field.offset
    return (field.min is None or value >= field.min) and (field.max is None or value <= field.max)


def wanted(field: Field, bits: int) -> str:
    """What a field takes, for an error message."""
    if field.hex:
        return f"{(bits + 7) // 8} bytes in hex, like {':'.join(['0A'] * min(3, (bits + 7) // 8))}" + (":…" if bits > 24 else "")
    low, high = field.offset, field.offset + ((1 << bits) - 1) * field.step
    numbers = f"{low if field.min is None else field.min} to {high if field.max is None else field.max}"
    numbers += f" in steps of {field.step}" if field.step > 1 else ""
    if field.values:
        return " or ".join([*field.values, *([numbers] if field.open else [])])
    return numbers


def _raw(command: str, field: Field, value: Value, bits: int) -> int:
    if str(value) in field.values:
        return field.values[str(value)]
    refused = HushedError(f"'{value}' is no value of {command} {field.name}", remedy=f"it takes {wanted(field, bits)}")
    if field.hex:
        digits = str(value).replace(":", "")
        if re.fullmatch(r"[0-9A-Fa-f]+", digits) and len(digits) == 2 * ((bits + 7) // 8) and int(digits, 16) < 1 << bits:
            return int(digits, 16)
        raise refused
    if isinstance(value, str) or (field.values and not field.open):
        raise refused
    raw, rest = divmod(value - field.offset, field.step)
    if rest or not 0 <= raw < 1 << bits or not _in_range(field, raw):
        raise HushedError(f"{value} is out of range for {command} {field.name}", remedy=f"it takes {wanted(field, bits)}")
    return raw
