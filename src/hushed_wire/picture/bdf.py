"""BDF (Glyph Bitmap Distribution Format 2.1) fonts, read and written. Glyphs are brought into cells of one height."""

from __future__ import annotations

import re

import numpy as np

from ..errors import HushedError
from .font import LARGEST, Font, Glyph

__all__ = ["read_bdf", "write_bdf"]

MOST_GLYPHS = 70_000


def read_bdf(text: str, name: str) -> Font:
    """A font from BDF; raises HushedError with file:line."""
    if not text.lstrip().startswith("STARTFONT"):
        raise HushedError("it is no BDF font", where=f"{name}:1", remedy="a BDF file begins with STARTFONT")
    font = Font(name.rsplit("/", 1)[-1].removesuffix(".bdf"), 0, 0, {})
    box, ascent, descent = (0, 0, 0, 0), 0, 0
    code, step, own, rows, where, taking, ended = -1, 0, (0, 0, 0, 0), [], 0, False, False  # type: ignore[var-annotated]
    twice: list[str] = []
    unnamed = 0
    for number, line in enumerate(text.splitlines(), 1):
        here = f"{name}:{number}"
        word, _, rest = line.strip().partition(" ")
        if word == "FONTBOUNDINGBOX":
            box = _four(rest, here)
        elif word == "FONT_ASCENT":
            ascent = _number(rest, here)
        elif word == "FONT_DESCENT":
            descent = _number(rest, here)
        elif word == "STARTCHAR":
            code, step, own, rows, where, taking = -1, 0, box, [], number, False
        elif word == "ENCODING":
            code = _number(rest.split(" ")[0], here)
        elif word == "DWIDTH":
            step = _number(rest.split(" ")[0], here)
        elif word == "BBX":
            own = _four(rest, here)
        elif word == "BITMAP":
            taking = True
        elif word == "ENDCHAR":
            taking = False
            if code < 0:
                unnamed += 1
                continue
            if code in font.glyphs:
                twice.append(f"U+{code:04X} ({font.glyphs[code].place} and {name}:{where})")
                continue
            font.height = (ascent or box[1] + box[3]) + (descent or -box[3])
            font.baseline = ascent or box[1] + box[3]
            font.glyphs[code] = _glyph(rows, own, step, font, f"{name}:{where}")
            if len(font.glyphs) > MOST_GLYPHS:
                raise HushedError("more glyphs than there are characters", where=here, remedy="check the file")
        elif word == "ENDFONT":
            ended = True
        elif taking:
            if not re.fullmatch(r"[0-9a-fA-F]{1,32}", line.strip()):
                raise HushedError(f"'{line.strip()[:30]}' is no row of a bitmap", where=here, remedy="rows are hex digits")
            rows.append(line.strip())
    if not font.glyphs:
        raise HushedError("there is no glyph with a code in it", where=name, remedy="check the file: it may be cut short")
    if len({glyph.advance for glyph in font.glyphs.values()}) == 1:  # of one width: boxes that are tight are cells again
        wide = font.width
        for glyph in font.glyphs.values():
            glyph.pixels = np.pad(glyph.pixels, ((0, 0), (0, wide - glyph.width)))
    if twice:
        font.notes.append(f"{len(twice)} codes are drawn twice, the first is taken: {', '.join(twice[:3])}")
    if unnamed:
        font.notes.append(f"{unnamed} glyphs have no code and are left out")
    if not ended:
        font.notes.append("the file is cut short: ENDFONT is missing")
    return font


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
    pixels = np.zeros((max(1, font.height), wide), bool)
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
