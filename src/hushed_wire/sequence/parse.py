"""The .hush language, read: text to statements. What statements mean for a part is the business of `expand`.

One statement a line; `#` starts a comment; `repeat` opens a block that `end` closes. Grammar and examples: docs/sequence.md.
"""

from __future__ import annotations

import re
import shlex
from fractions import Fraction
from pathlib import Path

import msgspec

from ..errors import HushedError
from ..part.describe import Value
from ..small_file import small_text
from ..units import parse as parse_quantity

__all__ = ["Statement", "number", "parse_file", "parse_text"]

DEEPEST = 50  # blocks within one another

WIDEST = 8192  # characters of a word
LITERAL = ("text", "fill", "picture", "include")  # verbs whose words are taken as they stand
LONGEST = 1 << 24  # bytes of one data statement


class Statement(msgspec.Struct, frozen=True):
    """One line. place: file:line. verb: its first word. words: plain words. fields: those of the form name=value.

    block: of `repeat`, the statements up to its `end`.
    """

    place: str
    text: str
    verb: str
    words: tuple[str, ...]
    fields: dict[str, Value]
    block: tuple[Statement, ...] = ()


def number(text: str) -> int | None:
    """A number as people write them: 60, 0x3C, 0b111100; None for anything else."""
    try:
        return int(text, 0) if re.fullmatch(r"-?(0[xX][0-9a-fA-F]+|0[bB][01]+|\d+)", text) else None
    except ValueError:  # a decimal with leading zeros
        return int(text)


class Room(msgspec.Struct):
    """How much may still be included: files that include others twice each would never end."""

    left: int = 16 << 20  # characters; every file counts as at least 10,000


def parse_text(
    text: str, name: str, folder: Path | None = None, within: tuple[Path, ...] = (), room: Room | None = None
) -> list[Statement]:
    """The statements of a sequence; raises HushedError with file:line.

    folder: where included files lie (None: nothing can be included). within: the files that are being read, outermost first.
    room: for what they include.
    """
    room = room or Room()
    open_blocks: list[tuple[Statement, list[Statement]]] = []
    out: list[Statement] = []
    here = out
    for count, line in enumerate(text.splitlines(), 1):
        place = f"{name}:{count}"
        statement = _statement(line, place)
        if statement is None:
            continue
        if statement.verb == "repeat":
            if len(open_blocks) >= DEEPEST:
                raise HushedError(f"more than {DEEPEST} 'repeat' within one another", where=place, remedy="multiply the times")
            open_blocks.append((statement, here))
            here = []
        elif statement.verb == "end":
            if not open_blocks:
                raise HushedError("'end' without a 'repeat' ahead of it", where=place, remedy="leave it out")
            opener, outer = open_blocks.pop()
            outer.append(msgspec.structs.replace(opener, block=tuple(here)))
            here = outer
        elif statement.verb == "include":
            here += _included(statement, folder, within, room)
        else:
            here.append(statement)
    if open_blocks:
        opener = open_blocks[-1][0]
        raise HushedError(
            "'repeat' without its 'end'", where=opener.place, remedy="write 'end' on a line behind what is repeated"
        )
    return out


def _statement(line: str, place: str) -> Statement | None:
    """One line; None where it is empty."""
    if len(line) > WIDEST and (long := re.search(rf"[^\s\"']{{{WIDEST},}}|\"[^\"]{{{WIDEST},}}|'[^']{{{WIDEST},}}", line)):
        what = f"a word of {len(long[0]):,} characters"
        raise HushedError(what, where=place, remedy="separate the bytes by spaces; a picture is named by its file")
    try:
        words = shlex.split(line, comments=True)
    except ValueError as error:
        raise HushedError("a quotation mark without its twin", where=place, remedy="close it, or leave it out") from error
    if not words:
        return None
    plain: list[str] = []
    fields: dict[str, Value] = {}
    verb = words[0]
    for word in words[1:]:
        key, equals, value = word.partition("=")
        if not equals or verb in LITERAL or not re.fullmatch(r"[A-Za-z][\w-]*", key):
            plain.append(word)
            continue
        if key in fields:
            raise HushedError(f"'{key}' is given twice", where=place, remedy="leave one of them")
        as_number = number(value)
        fields[key] = value if as_number is None else as_number
    return Statement(place, _as_written(line) if verb in LITERAL else " ".join(words), verb, tuple(plain), fields)


def _as_written(line: str) -> str:
    """A line without its comment, its quoted texts untouched."""
    found = re.match(r"""(?:[^#"']|"(?:[^"\\]|\\.)*"|'[^']*'|(?<=\S)#)*""", line)
    return (found[0] if found else line).strip()


def _included(statement: Statement, folder: Path | None, within: tuple[Path, ...], room: Room) -> list[Statement]:
    if len(statement.words) != 1:
        raise HushedError("'include' needs one file", where=statement.place, remedy="like: include bring-up.hush")
    if folder is None:
        raise HushedError("nothing can be included here", where=statement.place, remedy="write the sequence to a file")
    path = folder / statement.words[0]
    if path.resolve() in [file.resolve() for file in within]:
        chain = " includes ".join(file.name for file in (*within, path))
        raise HushedError(f"files include one another: {chain}", where=statement.place, remedy="take one of the includes out")
    if path.exists() and not path.is_file():
        raise HushedError(f"'{statement.words[0]}' is no file", where=statement.place, remedy="include the file of a sequence")
    try:
        return parse_file(path, within, room)
    except HushedError as error:
        if error.where == str(path):  # the file itself, not a line in it
            error.where, error.what = statement.place, f"'{statement.words[0]}': {error.what}"
        raise


def parse_file(path: Path, within: tuple[Path, ...] = (), room: Room | None = None) -> list[Statement]:
    """The statements of a .hush file, included ones in their places."""
    room, text = room or Room(), read_text(path)
    if within:
        room.left -= max(len(text), 10_000)
        if room.left < 0:
            raise HushedError("too much is included", where=str(within[0]), remedy="do files include others many times over?")
    return parse_text(text, str(path), path.parent, (*within, path), room)


def read_text(path: Path) -> str:
    """The text of a sequence file."""
    try:
        return small_text(path)
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


def byte_list(statement: Statement) -> bytes:
    """The numbers of `bytes` and `data`: 0x00 0xFF 0x00*1024."""
    return bytes_of(statement, statement.words)


def bytes_of(statement: Statement, words: tuple[str, ...]) -> bytes:
    """Some words of a statement as bytes."""
    out = bytearray()
    if not words:
        raise HushedError(
            f"'{statement.verb}' needs bytes", where=statement.place, remedy=f"like: {statement.verb} 0x00 0xFF 0x00*8"
        )
    for word in words:
        if word.startswith("bcd:"):
            from .numbers import bcd

            out += bcd(word[4:])
            continue
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
