"""Fonts of dots: glyphs by code point, the two that ship, and text set in them.

A font comes from text-art (our own form, docs/drawing.md), BDF, an image strip or a table of bytes; all become one `Font`.
"""

from __future__ import annotations

import re

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError

__all__ = ["Font", "Glyph", "codes_in", "set_text"]

LARGEST = 64  # pixels of a glyph's side at the most
MOST_PIXELS = 1 << 24


class Glyph(msgspec.Struct):
    """pixels: (height of the font, own width) bool. advance: columns to the next glyph's left edge. place: file:line."""

    pixels: NDArray[np.bool_]
    advance: int
    place: str = ""

    @property
    def width(self) -> int:
        """Columns."""
        return int(self.pixels.shape[1])


class Font(msgspec.Struct):
    """glyphs: by code point. height, baseline: rows of a cell, and those above the line that letters stand on."""

    name: str
    height: int
    baseline: int
    glyphs: dict[int, Glyph]
    notes: list[str] = []

    @property
    def width(self) -> int:
        """Columns of the widest glyph."""
        return max((glyph.width for glyph in self.glyphs.values()), default=0)

    @property
    def fixed(self) -> bool:
        """All glyphs are of one width."""
        return len({glyph.width for glyph in self.glyphs.values()}) <= 1

    def proportional(self) -> Font:
        """The same font without the dark columns beside glyphs; a blank keeps half of its width."""
        out = {}
        for code, glyph in self.glyphs.items():
            lit = np.flatnonzero(glyph.pixels.any(axis=0))
            if len(lit):
                cut = glyph.pixels[:, lit[0] : lit[-1] + 1]
            else:
                cut = glyph.pixels[:, : max(1, glyph.width // 2)]
            out[code] = Glyph(cut, cut.shape[1] + 1, glyph.place)
        return Font(self.name, self.height, self.baseline, out, self.notes)


def codes_in(text: str, where: str = "--chars") -> list[int]:
    """Code points of `0x20-0x7E,°,A-Z,U+2190`: numbers, characters and spans, in order; raises HushedError for others."""
    out: list[int] = []
    for word in re.findall(r"[^,]+|,(?=,|$)", text):
        found = re.fullmatch(
            r"(0[xX][0-9a-fA-F]+|[uU]\+[0-9a-fA-F]+|\d{2,}|.)(?:-(0[xX][0-9a-fA-F]+|[uU]\+[0-9a-fA-F]+|\d{2,}|.))?", word
        )
        if found is None:
            raise HushedError(f"'{word}' names no characters", where=where, remedy="like 0x20-0x7E,A-Z,U+00B0")
        first = code_of(found[1])
        last = code_of(found[2]) if found[2] else first
        if not first <= last <= 0x10FFFF or last - first >= 1 << 16:
            raise HushedError(
                f"'{word}' is no span of characters", where=where, remedy="from low to high, at most 65,536 of them"
            )
        out += range(first, last + 1)
    return list(dict.fromkeys(out))


def code_of(word: str) -> int:
    """A code point from 0x41, U+0041, 65 or A."""
    if len(word) == 1:
        return ord(word)
    return int(word[2:], 16) if word[:2].lower() in ("0x", "u+") else int(word)


def char_of(code: int) -> str:
    """A code point as people read it."""
    return f"'{chr(code)}' (U+{code:04X})" if chr(code).isprintable() and code != 0x20 else f"U+{code:04X}"


def set_text(
    text: str,
    font: Font,
    scale: int = 1,
    align: str = "left",
    width: int | None = None,
    wrap: bool = False,
    gap: int = 1,
    apart: int | None = None,
) -> NDArray[np.bool_]:
    """Text as pixels. width: columns to align in, or to wrap at; lines part at newlines. gap: rows between lines. apart: columns between
    glyphs, in place of those that the font has.

    Raises HushedError where the font lacks a character, or one word is wider than `width`.
    """
    lacking = sorted({char for char in text if char != "\n" and ord(char) not in font.glyphs})
    if lacking:
        names = ", ".join(char_of(ord(char)) for char in lacking[:8])
        raise HushedError(
            f"the font {font.name} has no {names}", remedy="take other characters, or add glyphs to a font of your own"
        )
    room = None if width is None else width // scale
    lines: list[str] = []
    for line in text.split("\n"):
        lines += _wrapped(line, font, room, apart) if wrap and room is not None else [line]
    set_lines = [_line(line, font, apart) for line in lines]
    widest = max(line.shape[1] for line in set_lines)
    if room is not None and widest > room:
        raise HushedError(
            f"'{text}' is {widest * scale} pixels wide, there is room for {width}",
            remedy="shorten it, wrap it, or take a smaller font",
        )
    across = widest if room is None else room
    height = len(lines) * font.height + (len(lines) - 1) * gap
    if height * max(1, across) * scale * scale > MOST_PIXELS:
        raise HushedError(
            f"the text makes a picture of {across * scale}x{height * scale} pixels", remedy="shorten it, or scale it less"
        )
    out = np.zeros((height, max(1, across)), bool)
    for number, drawn in enumerate(set_lines):
        wide = drawn.shape[1]
        left = {"left": 0, "center": (across - wide) // 2, "right": across - wide}[align]
        out[number * (font.height + gap) :][: font.height, left : left + wide] = drawn
    return out.repeat(scale, axis=0).repeat(scale, axis=1)


def width_of(line: str, font: Font, apart: int | None = None) -> int:
    """Columns of a line, without the gap behind its last glyph."""
    if not line:
        return 0
    return sum(_advance(font.glyphs[ord(char)], apart) for char in line[:-1]) + font.glyphs[ord(line[-1])].width


def _advance(glyph: Glyph, apart: int | None) -> int:
    return glyph.advance if apart is None else glyph.width + apart


def _wrapped(line: str, font: Font, room: int, apart: int | None) -> list[str]:
    out, now = [], ""
    for word in line.split(" "):
        longer = f"{now} {word}" if now else word
        if now and width_of(longer, font, apart) > room:
            out.append(now)
            now = word
        else:
            now = longer
    return [*out, now]


def _line(line: str, font: Font, apart: int | None) -> NDArray[np.bool_]:
    out = np.zeros((font.height, max(0, width_of(line, font, apart))), bool)
    x = 0
    for char in line:
        glyph = font.glyphs[ord(char)]
        out[:, x : x + glyph.width] |= glyph.pixels[:, : out.shape[1] - x]
        x += _advance(glyph, apart)
    return out
