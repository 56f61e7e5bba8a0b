"""Seven segments and the characters that they show: the shapes people use, in both directions.

Segments go by the trade's letters: a on top, then clockwise b to f, g in the middle, dp the decimal point.
"""

from __future__ import annotations

from collections.abc import Iterable

__all__ = ["CODE_B", "SHAPES", "character", "segments_of"]

SHAPES: dict[str, str] = {
    "0": "abcdef", "1": "bc", "2": "abdeg", "3": "abcdg", "4": "bcfg", "5": "acdfg", "6": "acdefg", "7": "abc", "8": "abcdefg",
    "9": "abcdfg", "A": "abcefg", "b": "cdefg", "C": "adef", "d": "bcdeg", "E": "adefg", "F": "aefg", "G": "acdef", "H": "bcefg",
    "h": "cefg", "J": "bcde", "L": "def", "n": "ceg", "o": "cdeg", "P": "abefg", "r": "eg", "t": "defg", "U": "bcdef", "u": "cde",
    "y": "bcdfg", "c": "deg", "-": "g", "_": "d", "=": "dg", "°": "abfg", " ": "",
}  # fmt: skip
SAME = {"B": "b", "D": "d", "I": "1", "N": "n", "O": "0", "R": "r", "S": "5", "T": "t", "Y": "y", "Z": "2", "i": "1", "l": "1"}

# MAX7219/MAX7221 datasheet, Table 5, "Code B Font".
CODE_B = "0123456789-EHLP "

_BY_SEGMENTS = {frozenset(shape): char for char, shape in reversed(SHAPES.items())}


def character(lit: Iterable[str]) -> str:
    """What a digit's lit segments show, a point behind it where dp is lit; ? where it is no character of the table."""
    names = set(lit)
    return _BY_SEGMENTS.get(frozenset(names - {"dp"}), "?") + ("." if "dp" in names else "")


def segments_of(char: str) -> str | None:
    """The segments that show a character, None where seven cannot."""
    return SHAPES.get(SAME.get(char, char), SHAPES.get(char.upper(), SHAPES.get(char.lower())))
