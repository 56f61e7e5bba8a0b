"""The .hush language, read: text to statements. What statements mean for a part is the business of `expand`.

One statement a line; `#` starts a comment. Grammar and examples: docs/sequence.md.
"""

from __future__ import annotations

import re
import shlex
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

from ..errors import HushedError
from ..part.describe import Value
from ..units import parse as parse_quantity

__all__ = ["Statement", "number", "parse_file", "parse_text"]

LONGEST = 1 << 24  # bytes of one data statement


@dataclass(frozen=True)
class Statement:
    """One line. place: file:line. verb: its first word. words: plain words. fields: those of the form name=value."""

    place: str
    text: str
    verb: str
    words: tuple[str, ...]
    fields: dict[str, Value]


def number(text: str) -> int | None:
    """A number as people write them: 60, 0x3C, 0b111100; None for anything else."""
    try:
        return int(text, 0) if re.fullmatch(r"-?(0[xX][0-9a-fA-F]+|0[bB][01]+|\d+)", text) else None
    except ValueError:  # a decimal with leading zeros
        return int(text)


def parse_text(text: str, name: str) -> list[Statement]:
    """The statements of a sequence; raises HushedError with file:line."""
    out = []
    for count, line in enumerate(text.splitlines(), 1):
        place = f"{name}:{count}"
        try:
            words = shlex.split(line, comments=True)
        except ValueError as error:
            raise HushedError("a quotation mark without its twin", where=place, remedy="close it, or leave it out") from error
        if not words:
            continue
        plain: list[str] = []
        fields: dict[str, Value] = {}
        for word in words[1:]:
            key, equals, value = word.partition("=")
            if not equals:
                plain.append(word)
                continue
            if key in fields:
                raise HushedError(f"'{key}' is given twice", where=place, remedy="leave one of them")
            as_number = number(value)
            fields[key] = value if as_number is None else as_number
        out.append(Statement(place, " ".join(words), words[0], tuple(plain), fields))
    return out


def parse_file(path: Path) -> list[Statement]:
    """The statements of a .hush file."""
    try:
        text = path.read_text(encoding="utf-8")
    except FileNotFoundError as error:
        raise HushedError("no such file", where=str(path), remedy="check the path of the sequence") from error
    except UnicodeDecodeError as error:
        raise HushedError(
            "not text", where=str(path), remedy="a sequence is a text file in UTF-8; see docs/sequence.md"
        ) from error
    except OSError as error:
        raise HushedError(
            f"cannot be read: {error.strerror}", where=str(path), remedy="check the file and its permissions"
        ) from error
    return parse_text(text, str(path))


def byte_list(statement: Statement) -> bytes:
    """The numbers of `bytes` and `data`: 0x00 0xFF 0x00*1024."""
    out = bytearray()
    if not statement.words:
        raise HushedError(
            f"'{statement.verb}' needs bytes", where=statement.place, remedy=f"like: {statement.verb} 0x00 0xFF 0x00*8"
        )
    for word in statement.words:
        value, star, times = word.partition("*")
        byte, count = number(value), number(times) if star else 1
        if byte is None or not 0 <= byte <= 255 or count is None or count < 1:
            raise HushedError(f"'{word}' is not a byte", where=statement.place, remedy="write 0 to 255, 0xFF, 0b101 or 0x00*1024")
        if len(out) + count > LONGEST:
            raise HushedError(
                f"'{word}' makes too many bytes", where=statement.place, remedy=f"at most {LONGEST} in one statement"
            )
        out += bytes([byte]) * count
    return bytes(out)


def duration(statement: Statement) -> Fraction:
    """The time of a `wait`, in seconds."""
    if len(statement.words) != 1:
        raise HushedError("'wait' needs one time", where=statement.place, remedy="like: wait 10ms")
    time = parse_quantity(statement.words[0], "s", statement.place)
    if not 0 <= time <= 3600:
        raise HushedError(f"a wait of {statement.words[0]}", where=statement.place, remedy="waits run from 0 s to 3600 s")
    return time
