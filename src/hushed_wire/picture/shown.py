"""What a panel shows, as a PNG: pixels, characters, digits, colours, each as its glass looks."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..part.glass import ColourGlass, Glass, TextGlass
from .font_file import shipped
from .image import BEZEL, COLOURS, DARK, glass_png

if TYPE_CHECKING:
    from PIL.Image import Image

    from ..part.describe import Panel

__all__ = ["shown_png"]

WIDEST = 1200
DIM = 0.22


def shown_png(glass: Glass, panel: Panel) -> bytes:
    """A glass of any kind as PNG bytes, about `WIDEST` pixels wide at most."""
    if isinstance(glass, ColourGlass):
        return _colour(glass, panel)
    if isinstance(glass, TextGlass):
        return _digits(glass, panel) if panel.form == "digits" else _characters(glass, panel)
    return glass_png(glass, panel, max(1, min(16, WIDEST // (glass.lit.shape[1] + 4))))


def _saved(picture: Image) -> bytes:
    out = BytesIO()
    picture.save(out, "PNG", optimize=True)
    return out.getvalue()


def _colour(glass: ColourGlass, panel: Panel) -> bytes:
    from PIL import Image

    rgb = glass.rgb if glass.shown else (glass.rgb * DIM).astype(np.uint8)
    scale = max(1, min(4, 720 // max(rgb.shape[:2])))
    large = rgb.repeat(scale, axis=0).repeat(scale, axis=1)
    edge = 12
    framed = np.empty((large.shape[0] + 2 * edge, large.shape[1] + 2 * edge, 3), np.uint8)
    framed[:] = BEZEL
    if panel.round:  # the corners of its memory are on no glass
        down, across = (np.linspace(-1, 1, size) for size in large.shape[:2])
        large[down[:, None] ** 2 + across[None, :] ** 2 > 1] = BEZEL
    framed[edge:-edge, edge:-edge] = large
    return _saved(Image.fromarray(framed))


def _tint(panel: Panel, share: float) -> tuple[int, int, int]:
    red, green, blue = COLOURS.get(panel.colour, COLOURS["white"])
    return int(red * share), int(green * share), int(blue * share)


def _characters(glass: TextGlass, panel: Panel) -> bytes:
    """Cells of a character panel: dark letters on a lit ground where the backlight is on; one's own characters dot by dot."""
    from PIL import Image, ImageDraw, ImageFont

    cell = max(16, min(44, WIDEST // (panel.width + 1)))
    high = cell * 8 // 5
    lit = glass.backlight is not False and glass.shown
    ground, empty = _tint(panel, 0.85 if lit else 0.25), _tint(panel, 0.75 if lit else 0.2)
    ink = (16, 22, 30)
    image = Image.new("RGB", (panel.width * (cell + 2) + cell, panel.height * (high + 4) + cell), ground)
    draw = ImageDraw.Draw(image)
    font, letters = ImageFont.load_default(cell * 1.15), shipped("5x7")
    for row, codes in enumerate(glass.codes.tolist()):
        for column, code in enumerate(codes):
            x, y = cell // 2 + column * (cell + 2), cell // 2 + row * (high + 4)
            draw.rectangle((x, y, x + cell - 1, y + high - 1), fill=empty)
            if code < 16 and glass.glyphs is not None:
                _dots(draw, glass.glyphs[code & 7], (x, y), cell, ink)
            elif (
                glass.shown
                and ord(char := "°" if glass.lines[row][column] == "゜" else glass.lines[row][column][0]) in letters.glyphs
            ):
                dots = letters.glyphs[ord(char)].pixels @ np.array([16, 8, 4, 2, 1])
                _dots(draw, dots, (x, y), cell, ink)
            elif glass.shown:
                draw.text((x + cell / 2, y + high / 2), glass.lines[row][column], fill=ink, font=font, anchor="mm")
            if glass.cursor == (row, column):
                draw.rectangle((x + 2, y + high - 4, x + cell - 3, y + high - 2), fill=ink)
    return _saved(image)


def _dots(draw: Any, rows: NDArray[np.uint8], corner: tuple[int, int], cell: int, ink: tuple[int, int, int]) -> None:
    size = cell / 5
    for y, bits in enumerate(rows.tolist()):
        for x in range(5):
            if bits >> (4 - x) & 1:
                left, top = corner[0] + x * size, corner[1] + y * size
                draw.rectangle((left, top, left + size - 1, top + size - 1), fill=ink)


# Segments of a digit in a box of 10 x 18: corners of each bar.
BARS = {
    "a": (2, 1, 8, 2), "b": (8, 2, 9, 8), "c": (8, 10, 9, 16), "d": (2, 16, 8, 17), "e": (1, 10, 2, 16), "f": (1, 2, 2, 8),
    "g": (2, 8.5, 8, 9.5), "dp": (10, 16, 11, 17),
    "a1": (2, 1, 4.8, 2), "a2": (5.2, 1, 8, 2), "d1": (2, 16, 4.8, 17), "d2": (5.2, 16, 8, 17), "g1": (2, 8.5, 4.6, 9.5), "g2": (5.4, 8.5, 8, 9.5),
    "j": (4.6, 2.4, 5.4, 8), "m": (4.6, 10, 5.4, 15.6),
}  # fmt: skip
SLANTS = {"h": (2.6, 2.6, 4.3, 7.8), "k": (7.4, 2.6, 5.7, 7.8), "l": (4.3, 10.2, 2.6, 15.4), "n": (5.7, 10.2, 7.4, 15.4)}


def _digits(glass: TextGlass, panel: Panel) -> bytes:
    """Seven segments, those that are dark faintly visible."""
    from PIL import Image, ImageDraw

    unit = max(3, min(11, WIDEST // (13 * panel.width + 4)))
    image = Image.new("RGB", (unit * (13 * panel.width + 4), unit * 22), BEZEL)
    draw = ImageDraw.Draw(image)
    draw.rectangle((unit, unit, image.width - unit, image.height - unit), fill=DARK)
    on = COLOURS.get(panel.colour, COLOURS["white"])
    off = tuple(28 if value > 100 else 18 for value in on)
    for place, code in enumerate(glass.codes[0].tolist()):
        names = {name for bit, name in enumerate(panel.segments) if code >> bit & 1} if glass.shown else set()
        for name in sorted(panel.segments, key=lambda name: name in names):  # what is lit lies on top
            x0, y0, x1, y1 = BARS.get(name) or SLANTS.get(name, (0, 0, 0, 0))
            box = [unit * (2 + 13 * place + x0), unit * (2 + y0), unit * (2 + 13 * place + x1), unit * (2 + y1)]
            if name in SLANTS:
                draw.line(box, fill=on if name in names else off, width=unit)
            elif name in BARS:
                draw.rectangle(box, fill=on if name in names else off)
    lit = glass.lines[0].replace(".", "") if glass.shown else ""
    for after, _, _ in panel.colons:
        shown = lit[after : after + 1] == ":"
        for y in (6, 12):
            x = unit * (13 * after + 1.5)
            draw.rectangle(
                (x - unit / 2, unit * (2 + y) - unit / 2, x + unit / 2, unit * (2 + y) + unit / 2), fill=on if shown else off
            )
    return _saved(image)
