"""Glyphs as text-art, read and written: a file that people draw in an editor. The form is our own; docs/drawing.md describes it.

font tide-marks          name of the font
cell 5x7                 size of a glyph that has rows of its own
baseline 7               rows above the line that letters stand on
glyph A                  or U+0041, or a number; `advance 6` may follow
..#..                    # is lit, . is dark; rows as wide as the first
"""

from __future__ import annotations

import re

import numpy as np

from ..errors import HushedError
from .font import LARGEST, Font, Glyph, code_of

__all__ = ["read_art", "write_art"]

HEAD = re.compile(r"(font|cell|baseline|glyph)\s+(.*\S)")


class _Reader:
    """Takes a file of text-art line by line."""

    def __init__(self, name: str) -> None:
        self.font = Font(name.removesuffix(".glyphs"), 0, 0, {})
        self.cell: tuple[int, int] | None = None
        self.rows: list[str] = []
        self.code, self.advance, self.place = -1, 0, name

    def line(self, line: str, here: str) -> None:
        """One line; raises HushedError with its place."""
        if re.fullmatch(r"[#.]+", line) and self.code >= 0:
            self._row(line, here)
            return
        line = re.sub(r"(?:^|\s+)# .*$|^#$", "", line).strip() if not line.startswith("glyph #") else line
        if not line:
            return
        found = HEAD.fullmatch(line)
        if found is None:
            raise HushedError(
                f"'{line[:40]}' is no row of a glyph", where=here, remedy="rows are of # and . alone; see docs/drawing.md"
            )
        self._head(found[1], found[2], here)

    def _row(self, row: str, here: str) -> None:
        if self.rows and len(row) != len(self.rows[0]):
            raise HushedError(
                f"the row has {len(row)} dots, the first one {len(self.rows[0])}",
                where=here,
                remedy="make all rows of a glyph as wide",
            )
        if self.cell is not None and len(row) != self.cell[1] and self.cell[1]:
            raise HushedError(
                f"the row has {len(row)} dots, a cell is {self.cell[1]} wide",
                where=here,
                remedy="mend the row, or leave 'cell' out",
            )
        self.rows.append(row)

    def _head(self, word: str, rest: str, here: str) -> None:
        """A line that is no row."""
        if word == "glyph":
            self.close()
            self.rows = []
            self.code, self.advance, self.place = *_glyph(rest, here), here
        elif word == "font":
            self.font.name = rest
        elif word == "cell":
            size = re.fullmatch(r"(\d+)x(\d+)", rest)
            if size is None:
                raise HushedError(f"'{rest}' is no size of a cell", where=here, remedy="like: cell 5x7")
            self.cell = int(size[2]), int(size[1])
        elif not rest.isdecimal() or int(rest) > LARGEST:
            raise HushedError(f"'{rest}' is no number of rows", where=here, remedy="like: baseline 7")
        else:
            self.font.baseline = int(rest)

    def close(self) -> None:
        """Takes the glyph whose rows were read."""
        font, rows, place = self.font, self.rows, self.place
        if self.code < 0:
            return
        if self.cell is not None and len(rows) != self.cell[0]:
            raise HushedError(
                f"the glyph has {len(rows)} rows, a cell has {self.cell[0]}", where=place, remedy="draw each row, dark ones too"
            )
        if not rows or len(rows) > LARGEST or len(rows[0]) > LARGEST:
            raise HushedError("the glyph has no rows, or too many", where=place, remedy=f"1x1 to {LARGEST}x{LARGEST} dots")
        if font.height not in (0, len(rows)):
            raise HushedError(
                f"the glyph has {len(rows)} rows, others have {font.height}", where=place, remedy="a font has one height"
            )
        if self.code in font.glyphs:
            raise HushedError(
                f"U+{self.code:04X} is drawn twice", where=place, remedy=f"it is at {font.glyphs[self.code].place} too; leave one"
            )
        font.height = len(rows)
        pixels = np.array([[dot == "#" for dot in row] for row in rows], bool)
        font.glyphs[self.code] = Glyph(pixels, self.advance or len(rows[0]) + (1 if len(rows[0]) < 8 else 0), place)


def read_art(text: str, name: str) -> Font:
    """A font from text-art; raises HushedError with file:line."""
    reader = _Reader(name)
    for number, line in enumerate(text.splitlines(), 1):
        reader.line(line.strip(), f"{name}:{number}")
    reader.close()
    font = reader.font
    if not font.glyphs:
        raise HushedError("there is no glyph in it", where=name, remedy="write: glyph A, and its rows of # and . below")
    font.baseline = font.baseline or font.height
    return font


def _glyph(words: str, here: str) -> tuple[int, int]:
    found = re.fullmatch(r"(0[xX][0-9a-fA-F]{1,6}|[uU]\+[0-9a-fA-F]{1,6}|\d{2,7}|\S)(?:\s+advance\s+(\d{1,3}))?", words)
    if found is None or code_of(found[1]) > 0x10FFFF:
        raise HushedError(f"'{words}' names no character", where=here, remedy="like: glyph A, glyph U+0041, glyph 0x41 advance 6")
    return code_of(found[1]), int(found[2] or 0)


def write_art(font: Font) -> str:
    """The twin of `read_art`."""
    name = re.sub(r"[^\w.+ -]+", "", font.name).strip() or "font"
    out = [f"font {name}", f"baseline {font.baseline}"]
    if font.fixed:
        out.insert(1, f"cell {font.width}x{font.height}")
    for code, glyph in sorted(font.glyphs.items()):
        shown = f"  # {chr(code)}" if chr(code).isprintable() and not chr(code).isspace() else ""
        out += ["", f"glyph U+{code:04X} advance {glyph.advance}{shown}"]
        out += ["".join("#" if dot else "." for dot in row) for row in glyph.pixels.tolist()]
    return "\n".join(out) + "\n"
