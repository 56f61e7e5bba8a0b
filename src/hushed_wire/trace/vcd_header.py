"""The declarations of a VCD: timescale, variables, and which lines of a trace they become.

The header is small and is read word by word. Rules kept: every wire has one name that tells it from the others (a wire seen
through ports is one line, that of the outermost scope); what is no wire (reals, integers, events) is left out and noted.
"""

from __future__ import annotations

import re
from collections import Counter
from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np

from ..errors import HushedError
from .model import MAX_LINES, TOO_MANY, Note, first_of
from .stream import Stream

__all__ = ["PIECE", "UNITS", "Header", "Lines", "Slot", "looks_like", "read_header"]

UNITS = {"s": 0, "ms": -3, "us": -6, "ns": -9, "ps": -12, "fs": -15}
OPENINGS = ("$date", "$version", "$timescale", "$scope", "$var", "$comment", "$enddefinitions", "$upscope")
PIECE = 1 << 19
HEADER_LIMIT = 64 << 20
WIDEST = 1 << 16  # bits of a vector: IEEE 1364 asks simulators for that much
# Kinds of variable that hold numbers or moments, not levels of wires.
NUMBERS = {"real", "realtime", "time", "event", "integer", "parameter", "string"}
DECLARES = re.compile(
    r"^\s*\$(timescale|scope|var|upscope)\s+(.*)", re.DOTALL | re.MULTILINE
)  # at the beginning of a line, as no remark is
SAMPLED = re.compile(r"sample-interval\s+(\d+)(?:/(\d+))?\s*(s|ms|us|ns|ps|fs)\b")


def looks_like(head: bytes) -> bool:
    """Whether a file that starts with `head` is a VCD."""
    return head.removeprefix(b"\xef\xbb\xbf").lstrip()[:16].decode("latin-1").lower().startswith(OPENINGS)


@dataclass
class Variable:
    """One `$var`: its identifier code, and the full name and bit of each of its lines, least significant first."""

    code: str
    scope: tuple[str, ...]
    name: str
    bits: list[str]  # "" for a single wire, else "[7]"


@dataclass
class Header:
    tick: Fraction = Fraction(1, 10**9)
    variables: list[Variable] = field(default_factory=list)
    skipped: dict[str, str] = field(default_factory=dict)  # code: what it is
    notes: list[Note] = field(default_factory=list)
    sample: Fraction | None = None


def read_header(stream: Stream) -> tuple[Header, bytes, int]:
    """The declarations, what was read beyond them, and the number of the line on which the body starts."""
    data = b""
    while b"$enddefinitions" not in data:
        piece = stream.read(PIECE)
        if not piece or len(data) > HEADER_LIMIT:
            raise HushedError(
                "the VCD's declarations never end ($enddefinitions is missing)",
                where=stream.name,
                remedy="the file was cut short in its header, or is not a VCD: export it again",
            )
        data += piece
    while (stop := data.find(b"$end", data.find(b"$enddefinitions") + 15)) < 0:
        piece = stream.read(PIECE)
        if not piece:
            stop = len(data)
            break
        data += piece
    text, rest = data[:stop].removeprefix(b"\xef\xbb\xbf").decode("latin-1"), data[stop + 4 :]
    header, scope = Header(), [""]
    for section in re.finditer(r"\$(\w+)\s+(.*?)\s*\$end\b", text + " $end", re.DOTALL):
        keyword, words = section[1].lower(), section[2]
        if keyword in ("comment", "date", "version") and (
            opened := DECLARES.search(words)
        ):  # it swallowed the declaration behind it
            header.notes.append(
                Note("", f"a ${keyword} is not closed with $end; it was taken to end ahead of {opened[0].split()[0]}")
            )
            keyword, words = opened[1].lower(), opened[2]
        body = words.split()
        try:
            if keyword == "timescale":
                header.tick = _timescale("".join(body))
            elif keyword == "scope":
                scope.append(_as_text(body[-1]) if body else "")
            elif keyword == "upscope" and len(scope) > 1:
                scope.pop()
            elif keyword == "var":
                _declare(header, tuple(scope[1:]), body)
            elif keyword == "comment" and (found := SAMPLED.search(section[2])):
                header.sample = Fraction(int(found[1]), max(1, int(found[2] or 1))) * Fraction(10) ** UNITS[found[3]]
        except HushedError as error:
            error.where = f"{stream.name}:{text.count(chr(10), 0, section.start()) + 1}"
            raise
    if "$timescale" not in text:
        header.notes.append(Note("", "the file names no timescale; 1 ns was taken"))
    return header, rest, text.count("\n") + 1


def _as_text(name: str) -> str:
    """A name as it was meant: UTF-8, as we write it, where it is such; codes are bytes and stay so."""
    try:
        return name.encode("latin-1").decode("utf-8")
    except UnicodeDecodeError:
        return name


def _timescale(text: str) -> Fraction:
    found = re.fullmatch(r"(1|10|100)(s|ms|us|ns|ps|fs)", text)
    if not found:
        raise HushedError(f"'{text}' is not a timescale", remedy="IEEE 1364 allows 1, 10 or 100 of s, ms, us, ns, ps, fs")
    return int(found[1]) * Fraction(10) ** UNITS[found[2]]


def _declare(header: Header, scope: tuple[str, ...], body: list[str]) -> None:
    if len(body) < 4 or not body[1].isdecimal() or int(body[1]) < 1:
        raise HushedError("a $var without type, size, code and name", remedy="export the file again")
    if int(body[1]) > WIDEST:
        raise HushedError(f"a vector of {body[1]} bits", remedy="the file is damaged: export it again")
    kind, size, code, name = body[0].lower(), int(body[1]), body[2], _as_text(body[3])
    selection = "".join(body[4:])
    inline = re.fullmatch(r"(.+?)(\[\d+(?::\d+)?\])", name)
    if inline and not selection:
        name, selection = inline[1], inline[2]
    if kind in NUMBERS:
        header.skipped[code] = kind
        header.notes.append(Note("", f"'{name}' is of type {kind}, not a wire; it was left out"))
        return
    if size > MAX_LINES:  # text, as `convert --words` writes it, or a memory; no lines that somebody probed
        header.skipped[code] = "vector"
        header.notes.append(Note("", f"'{name}' is a vector of {size} bits, wider than any bus; it was left out"))
        return
    span = re.fullmatch(r"\[(-?\d+):(-?\d+)\]", selection)
    if size == 1:
        bits = [selection if not span else ""]
    else:
        high, low = (int(span[1]), int(span[2])) if span else (size - 1, 0)
        step = 1 if high >= low else -1
        bits = [f"[{low + step * k}]" for k in range(size)]
    header.variables.append(Variable(code, scope, name.lstrip("\\"), bits))


@dataclass
class Slot:
    """One wanted line: the index of its code among the sorted codes, its bit, its number in the trace."""

    code: int
    bit: int
    line: int


class Lines:
    """Which line each code's bits are: names made unique, aliases of one wire folded, at most MAX_LINES kept."""

    def __init__(self, header: Header, wanted: list[str] | None, where: str) -> None:
        named = _of_few(_named(header, where), wanted, where)
        codes = sorted({variable.code for variable in header.variables} | set(header.skipped), key=hashed)
        keys = [hashed(code) for code in codes]
        if len(set(keys)) != len(keys):
            raise HushedError("two identifier codes cannot be told apart", where=where, remedy="export the file again")
        self.keys = np.array(keys, dtype=np.uint64)
        self.names = [name for name, _, _ in named]
        self.slots = [Slot(codes.index(code), bit, line) for line, (_, code, bit) in enumerate(named)]
        width = {variable.code: len(variable.bits) for variable in header.variables}
        self.plain = len({slot.code for slot in self.slots}) == len(self.slots) and all(
            width[codes[slot.code]] == 1 for slot in self.slots
        )
        self.line_of = np.full(len(codes), -1, dtype=np.int16)
        for slot in self.slots:
            self.line_of[slot.code] = slot.line


def _named(header: Header, where: str) -> list[tuple[str, str, int]]:
    """Name, code and bit of each wire. A wire seen through ports has one code in several scopes: the outermost speaks for all of them."""
    found: dict[tuple[str, str], list[Variable]] = {}
    for variable in header.variables:
        for bit in variable.bits:
            found.setdefault((variable.name, bit), []).append(variable)
    named: list[tuple[str, str, int]] = []
    for (name, bit), variables in found.items():
        distinct = {variable.code: variable for variable in reversed(variables)}
        for code, variable in reversed(distinct.items()):
            full = name if len(distinct) == 1 else ".".join((*variable.scope, name))
            named.append((full + bit, code, variable.bits.index(bit)))
    doubled = [name for name, count in Counter(name for name, _, _ in named).items() if count > 1]
    if doubled:
        raise HushedError(f"two different wires are called '{min(doubled)}'", where=where, remedy="rename one and export again")
    if not named:
        raise HushedError("the file declares no wire", where=where, remedy="export digital lines (wire or reg) of the capture")
    return named


def _of_few(named: list[tuple[str, str, int]], wanted: list[str] | None, where: str) -> list[tuple[str, str, int]]:
    """Those that fit into a trace: all, or of many those that are wanted."""
    if wanted is not None and len(named) > MAX_LINES:
        lowered = [name.lower() for name in wanted]
        named = [entry for entry in named if entry[0] in wanted or entry[0].lower() in lowered] or named
    if len(named) > MAX_LINES:
        raise HushedError(
            f"the file has {len(named)} wires ({first_of([name for name, _, _ in named])}); {MAX_LINES} fit into one trace",
            where=where,
            remedy=TOO_MANY,
        )
    return named


def hashed(code: str) -> int:
    """A number for an identifier code: the code itself up to eight characters (in base 256), wrapped beyond."""
    key = 0
    for byte in code.encode("latin-1"):
        key = (key * 256 + byte + (key >> 56) * 1099511628211) & (2**64 - 1)
    return key
