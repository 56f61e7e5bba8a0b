"""Seven segments and the characters that they show: the shapes people use, in both directions.

Segments go by the trade's letters: a on top, then clockwise b to f, g in the middle, dp the decimal point.
"""

from __future__ import annotations

from collections.abc import Iterable
from functools import lru_cache

__all__ = ["SHAPES", "character", "kind_of", "lit_of", "segments_of"]

SHAPES: dict[str, str] = {
    "0": "abcdef", "1": "bc", "2": "abdeg", "3": "abcdg", "4": "bcfg", "5": "acdfg", "6": "acdefg", "7": "abc", "8": "abcdefg",
    "9": "abcdfg", "A": "abcefg", "b": "cdefg", "C": "adef", "d": "bcdeg", "E": "adefg", "F": "aefg", "G": "acdef", "H": "bcefg",
    "h": "cefg", "J": "bcde", "L": "def", "n": "ceg", "o": "cdeg", "P": "abefg", "r": "eg", "t": "defg", "U": "bcdef", "u": "cde",
    "y": "bcdfg", "c": "deg", "-": "g", "_": "d", "=": "dg", "°": "abfg", " ": "",
}  # fmt: skip
SAME = {"B": "b", "D": "d", "I": "1", "N": "n", "O": "0", "R": "r", "S": "5", "T": "t", "Y": "y", "Z": "2", "i": "1", "l": "1"}

_BY_SEGMENTS = {frozenset(shape): char for char, shape in reversed(SHAPES.items())}


def character(lit: Iterable[str], kind: int = 7) -> str:
    """What a digit's lit segments show, a point behind it where dp is lit; ? where it is no character of the table. kind: 7, 14 or 16."""
    names = frozenset(lit)
    shapes = _BY_SEGMENTS if kind == 7 else _by_many(kind)
    return shapes.get(names - {"dp"}, "?") + ("." if "dp" in names else "")


@lru_cache(maxsize=2)
def _by_many(kind: int) -> dict[frozenset[str], str]:
    return {frozenset(lit_of(char, kind) or ()): char for char in reversed(FOURTEEN)}


def kind_of(segments: Iterable[str]) -> int:
    """Which kind of digit has such segments: 7, 14 or 16."""
    names = set(segments)
    return 16 if "a1" in names else 14 if "g1" in names else 7


def segments_of(char: str) -> str | None:
    """The segments that show a character, None where seven cannot."""
    return SHAPES.get(SAME.get(char, char), SHAPES.get(char.upper(), SHAPES.get(char.lower())))


# Fourteen segments: a on top, b to f round about, g1 and g2 in the middle; h, j, k from the middle up (left, straight, right), l, m, n
# from the middle down (left, straight, right). Datasheets letter the inner ones in several ways, so check yours.
FOURTEEN: dict[str, str] = {
    "0": "a b c d e f k l", "1": "b c", "2": "a b d e g1 g2", "3": "a b c d g2", "4": "b c f g1 g2", "5": "a c d f g1 g2", "6": "a c d e f g1 g2",
    "7": "a b c", "8": "a b c d e f g1 g2", "9": "a b c d f g1 g2", "A": "a b c e f g1 g2", "B": "a b c d g2 j m", "C": "a d e f", "D": "a b c d j m",
    "E": "a d e f g1", "F": "a e f g1", "G": "a c d e f g2", "H": "b c e f g1 g2", "I": "a d j m", "J": "b c d e", "K": "e f g1 k n", "L": "d e f",
    "M": "b c e f h k", "N": "b c e f h n", "O": "a b c d e f", "P": "a b e f g1 g2", "Q": "a b c d e f n", "R": "a b e f g1 g2 n", "S": "a c d h g2",
    "T": "a j m", "U": "b c d e f", "V": "e f k l", "W": "b c e f l n", "X": "h k l n", "Y": "h k m", "Z": "a d k l", "-": "g1 g2", "+": "g1 g2 j m",
    "*": "g1 g2 h j k l m n", "/": "k l", "\\": "h n", "_": "d", "=": "d g1 g2", "<": "k n", ">": "h l", "$": "a c d f g1 g2 j m", "°": "a b f g1 g2",
    " ": "",
}  # fmt: skip
NAMES = {
    7: ["a", "b", "c", "d", "e", "f", "g", "dp"],
    14: ["a", "b", "c", "d", "e", "f", "g1", "g2", "h", "j", "k", "l", "m", "n", "dp"],
    16: ["a1", "a2", "b", "c", "d1", "d2", "e", "f", "g1", "g2", "h", "j", "k", "l", "m", "n", "dp"],
}


def lit_of(char: str, kind: int) -> list[str] | None:
    """The segments that show a character on a digit of 7, 14 or 16, None where it cannot be shown."""
    if kind == 7:
        shape = segments_of(char)
        return None if shape is None else list(shape)
    names = FOURTEEN.get(char, FOURTEEN.get(char.upper()))
    if names is None:
        return None
    halves = {"a": ["a1", "a2"], "d": ["d1", "d2"]} if kind == 16 else {}
    return [part for name in names.split() for part in halves.get(name, [name])]


def showable(kind: int) -> list[str]:
    """The characters that such a digit can show, digits first."""
    return [char for char in (SHAPES if kind == 7 else FOURTEEN) if char != " "]


def value_of(lit: Iterable[str], wiring: list[str], active_low: bool) -> int:
    """What the outputs have to be: wiring names the segment of each bit, bit 0 first, - where a bit drives nothing."""
    names = set(lit)
    return sum(1 << bit for bit, name in enumerate(wiring) if name != "-" and (name in names) != active_low)
