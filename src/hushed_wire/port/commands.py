"""A part's commands as functions: their parameters, and each word as an expression over them."""

from __future__ import annotations

from dataclasses import dataclass, field

from ..part.describe import Command, Field
from .names import identifier, remark

__all__ = ["Function", "Parameter", "function_of"]


@dataclass(frozen=True)
class Parameter:
    """name: in source. bits: of the number. offset: what it is more than what is sent. step: how much of it one is that is sent.

    low, high: what it may be. values: names and numbers.
    """

    name: str
    bits: int
    offset: int
    step: int
    low: int
    high: int
    values: tuple[tuple[str, int], ...]
    unit: str


@dataclass
class Function:
    """name: in source. words: an expression each, over parameters that are called by name (`{name}`). remark: the datasheet's title and section."""

    name: str
    command: Command
    parameters: list[Parameter] = field(default_factory=list)
    words: list[str] = field(default_factory=list)
    remark: str = ""


def function_of(command: Command, beside: set[str]) -> Function | None:
    """A command as a function; None where it takes whole tables of bytes, which are sent as they are."""
    if any(entry.hex for entry in command.fields.values()):
        return None
    out = Function(identifier(command.name, beside), command, remark=remark(f"{command.title} ({command.source})"))
    known: set[str] = set()
    named: dict[str, Parameter] = {}
    for letter, entry in command.fields.items():
        if entry.default is not None:
            continue
        bits = len(command.places[letter])
        named[letter] = _parameter(entry, bits, known)
    out.parameters = list(named.values())
    for word, (_, fixed) in enumerate(command.fixed):
        terms = [f"0x{fixed:02X}"] if fixed or not _in_word(command, word, named) else []
        for letter, parameter in named.items():
            terms += _terms(command.places[letter], word, parameter)
        for letter, entry in command.fields.items():
            if letter not in named:
                fixed_bits = _default_bits(command, letter, entry, word)
                terms += [f"0x{fixed_bits:02X}"] if fixed_bits else []
        out.words.append(" | ".join(terms) or "0x00")
    return out


def _in_word(command: Command, word: int, named: dict[str, Parameter]) -> bool:
    return any(place[0] == word for letter in named for place in command.places[letter])


def _default_bits(command: Command, letter: str, entry: Field, word: int) -> int:
    value = entry.default
    raw = entry.values.get(str(value), value if isinstance(value, int) else 0) - (
        entry.offset if isinstance(value, int) and not entry.values else 0
    )
    places = command.places[letter]
    return sum((raw >> len(places) - 1 - position & 1) << bit for position, (at, bit) in enumerate(places) if at == word)


def _parameter(entry: Field, bits: int, known: set[str]) -> Parameter:
    low = entry.offset if entry.min is None else entry.min
    high = entry.offset + ((1 << bits) - 1) * entry.step if entry.max is None else entry.max
    values = tuple((identifier(name), raw) for name, raw in entry.values.items())
    if values:  # a number that has a name is given as it is sent
        return Parameter(identifier(entry.name, known), bits, 0, 1, 0, (1 << bits) - 1, values, entry.unit)
    return Parameter(identifier(entry.name, known), bits, entry.offset, entry.step, low, high, (), entry.unit)


def _terms(places: list[tuple[int, int]], word: int, parameter: Parameter) -> list[str]:
    """The bits of a parameter that stand in a word: neighbours as one term."""
    out: list[str] = []
    count = len(places)
    position = 0
    value = f"({{{parameter.name}}} - {parameter.offset}U)" if parameter.offset else f"{{{parameter.name}}}"
    value = f"({value} / {parameter.step}U)" if parameter.step > 1 else value
    while position < count:
        at, bit = places[position]
        length = 1
        while position + length < count and places[position + length] == (at, bit - length):
            length += 1
        if at == word:
            lowest, to = count - position - length, bit - length + 1
            shifted = f"{value} >> {lowest}" if lowest else value
            masked = f"({shifted} & 0x{(1 << length) - 1:02X}U)" if lowest or length < count or count != 8 else f"({shifted})"
            out.append(f"({masked} << {to})" if to else masked)
        position += length
    return out
