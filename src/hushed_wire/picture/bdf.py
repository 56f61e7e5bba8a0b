"""BDF (Glyph Bitmap Distribution Format 2.1) fonts, read and written. Glyphs are brought into cells of one height."""

from __future__ import annotations

import re

import numpy as np

from ..errors import HushedError
from .font import LARGEST, Font, Glyph

__all__ = ["read_bdf", "write_bdf"]

MOST_GLYPHS = 70_000


class _Reader:
    """Takes a BDF file line by line."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.font = Font(name.rsplit("/", 1)[-1].removesuffix(".bdf"), 0, 0, {})
        self.box, self.ascent, self.descent = (0, 0, 0, 0), 0, 0
        self.code, self.step, self.own, self.where = -1, 0, (0, 0, 0, 0), 0
        self.rows: list[str] | None = None  # of the bitmap that is being read
        self.taken: list[str] = []
        self.twice: list[str] = []
        self.unnamed, self.ended = 0, False

    def line(self, number: int, line: str) -> None:
        """One line; raises HushedError with its place."""
        here = f"{self.name}:{number}"
        word, _, rest = line.partition(" ")
        if word in NUMBERS:
            setattr(self, NUMBERS[word], _number(rest.split(" ")[0], here))
        elif word in BOXES:
            setattr(self, BOXES[word], _four(rest, here))
        elif word == "STARTCHAR":
            self.code, self.step, self.own, self.where, self.rows, self.taken = -1, 0, self.box, number, None, []
        elif word == "BITMAP":
            self.rows = self.taken
        elif word == "ENDCHAR":
            self.rows = None
            self._close(here)
        elif word == "ENDFONT":
            self.ended = True
        elif self.rows is not None:
            if not re.fullmatch(r"[0-9a-fA-F]{1,32}", line):
                raise HushedError(f"'{line[:30]}' is no row of a bitmap", where=here, remedy="rows are hex digits")
            self.rows.append(line)

    def _close(self, here: str) -> None:
        """Takes the glyph that was read."""
        font, place = self.font, f"{self.name}:{self.where}"
        if self.code < 0:
            self.unnamed += 1
            return
        if self.code in font.glyphs:
            self.twice.append(f"U+{self.code:04X} ({font.glyphs[self.code].place} and {place})")
            return
        if not font.glyphs:  # what says so stands ahead of the glyphs, and all of them have one height
            font.baseline = self.ascent or self.box[1] + self.box[3]
            font.height = font.baseline + (self.descent or -self.box[3])
            if not 0 < font.height <= LARGEST:
                remedy = "FONTBOUNDINGBOX, or FONT_ASCENT and FONT_DESCENT, ahead of the glyphs say it"
                raise HushedError(f"the font is {font.height} dots high", where=place, remedy=remedy)
        font.glyphs[self.code] = _glyph(self.taken, self.own, self.step, font, place)
        if len(font.glyphs) > MOST_GLYPHS:
            raise HushedError("more glyphs than there are characters", where=here, remedy="check the file")

    def whole(self) -> Font:
        """The font, with notes on what was left out."""
        font = self.font
        if not font.glyphs:
            raise HushedError(
                "there is no glyph with a code in it", where=self.name, remedy="check the file: it may be cut short"
            )
        if len({glyph.advance for glyph in font.glyphs.values()}) == 1:  # of one width: boxes that are tight are cells again
            wide = font.width
            for glyph in font.glyphs.values():
                glyph.pixels = np.pad(glyph.pixels, ((0, 0), (0, wide - glyph.width)))
        if self.twice:
            font.notes.append(f"{len(self.twice)} codes are drawn twice, the first is taken: {', '.join(self.twice[:3])}")
        if self.unnamed:
            font.notes.append(f"{self.unnamed} glyphs have no code and are left out")
        if not self.ended:
            font.notes.append("the file is cut short: ENDFONT is missing")
        return font


NUMBERS = {"FONT_ASCENT": "ascent", "FONT_DESCENT": "descent", "ENCODING": "code", "DWIDTH": "step"}
BOXES = {"FONTBOUNDINGBOX": "box", "BBX": "own"}


def read_bdf(text: str, name: str) -> Font:
    """A font from BDF; raises HushedError with file:line."""
    if not text.lstrip().startswith("STARTFONT"):
        raise HushedError("it is no BDF font", where=f"{name}:1", remedy="a BDF file begins with STARTFONT")
    reader = _Reader(name)
    for number, line in enumerate(text.splitlines(), 1):
        reader.line(number, line.strip())
    return reader.whole()


def _number(text: str, here: str) -> int:
    if not re.fullmatch(r"-?\d{1,7}", text.strip()):
        raise HushedError(f"'{text[:20]}' is no number", where=here, remedy="check the file")
    return int(text)


def _four(text: str, here: str) -> tuple[int, int, int, int]:
    words = text.split()
    if len(words) != 4:
        raise HushedError("a box has four numbers: width, height, x, y", where=here, remedy="check the file")
    width, height, x, y = (_number(word, here) for word in words)
    if not (0 <= width <= LARGEST and 0 <= height <= LARGEST and abs(x) <= LARGEST and abs(y) <= LARGEST):
        raise HushedError(f"a box of {width}x{height}", where=here, remedy=f"glyphs have at most {LARGEST}x{LARGEST} dots")
    return width, height, x, y


def _glyph(rows: list[str], own: tuple[int, int, int, int], step: int, font: Font, place: str) -> Glyph:
    """A bitmap in a cell of the font's height; what hangs out of it is cut."""
    width, height, x, y = own
    if len(rows) != height:
        raise HushedError(f"the glyph has {len(rows)} rows, its box {height}", where=place, remedy="mend BBX or the bitmap")
    wide = max(1, min(LARGEST, x + width if width else step))
    pixels = np.zeros((font.height, wide), bool)
    for number, row in enumerate(rows):
        bits = int(row, 16) << max(0, 8 * ((width + 7) // 8) - 4 * len(row))
        total = max(8 * ((width + 7) // 8), 4 * len(row))
        at = font.baseline - y - height + number
        for k in range(width):
            if bits >> (total - 1 - k) & 1 and 0 <= at < pixels.shape[0] and 0 <= x + k < wide:
                pixels[at, x + k] = True
    return Glyph(pixels, max(1, step or wide), place)


def write_bdf(font: Font) -> str:
    """The twin of `read_bdf`."""
    below = font.height - font.baseline
    name = re.sub(r"[^\w.+-]+", "-", font.name, flags=re.ASCII).strip("-") or "font"
    out = ["STARTFONT 2.1", f"FONT {name}", f"SIZE {font.height} 75 75", f"FONTBOUNDINGBOX {font.width} {font.height} 0 {-below}",
           "STARTPROPERTIES 2", f"FONT_ASCENT {font.baseline}", f"FONT_DESCENT {below}", "ENDPROPERTIES", f"CHARS {len(font.glyphs)}"]  # fmt: skip
    for code, glyph in sorted(font.glyphs.items()):
        out += [f"STARTCHAR U+{code:04X}", f"ENCODING {code}", f"SWIDTH {glyph.advance * 1000 // max(1, font.height)} 0",
                f"DWIDTH {glyph.advance} 0", f"BBX {glyph.width} {font.height} 0 {-below}", "BITMAP"]  # fmt: skip
        out += [row.tobytes().hex().upper() for row in np.packbits(glyph.pixels, axis=1)]
        out.append("ENDCHAR")
    return "\n".join([*out, "ENDFONT"]) + "\n"
