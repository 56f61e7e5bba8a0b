"""Two glasses beside one another, and where they differ, as a PNG: what both show, what only one of them does."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..part.glass import ColourGlass, Glass, TextGlass
from .image import BEZEL, DARK
from .shown import shown_png

if TYPE_CHECKING:
    from PIL.Image import Image

    from ..part.describe import Panel

__all__ = ["beside_png"]

ONLY_A = (96, 170, 255)  # blue and orange: told apart by colour-blind people, too
ONLY_B = (255, 160, 40)
BOTH = (205, 210, 215)
PAPER = (250, 250, 248)
INK = (30, 34, 40)
WIDEST, MARGIN, HEAD = 1240, 16, 34


def beside_png(a: Glass, b: Glass, panels: tuple[Panel, Panel], names: tuple[str, str]) -> bytes:
    """The glass of each side and the difference between them, which have to be of one size. names: what stands over the first two."""
    from PIL import Image

    glasses = [Image.open(BytesIO(shown_png(glass, panel))).convert("RGB") for glass, panel in zip((a, b), panels, strict=True)]
    drawn = _cells(a, b) if isinstance(a, TextGlass) and isinstance(b, TextGlass) else _dots(a, b)
    beside = glasses[0].height > glasses[0].width
    room = (WIDEST - 4 * MARGIN) // 3 if beside else (WIDEST - 3 * MARGIN) // 2
    pictures = [_fitted(picture, room, smooth=not beside) for picture in glasses]
    third = _fitted(drawn, room if beside else min(room * 2 + MARGIN, drawn.width * max(1, room // drawn.width)), smooth=False)
    colour = isinstance(a, ColourGlass)
    heads = [
        [(f"A  {names[0]}", INK)], [(f"B  {names[1]}", INK)],
        [("same", (110, 116, 124)), ("differs", (200, 90, 0))] if colour
        else [("same", (110, 116, 124)), ("only in A", (30, 100, 200)), ("only in B", (200, 110, 0))],
    ]  # fmt: skip
    if beside:
        places = [(MARGIN + k * (room + MARGIN), MARGIN) for k in range(3)]
    else:
        places = [(MARGIN, MARGIN), (2 * MARGIN + room, MARGIN)]
        places.append((MARGIN, 2 * MARGIN + HEAD + max(picture.height for picture in pictures)))
    every = [*pictures, third]
    width = max(x + picture.width for (x, _), picture in zip(places, every, strict=True)) + MARGIN
    height = max(y + HEAD + picture.height for (_, y), picture in zip(places, every, strict=True)) + MARGIN
    sheet = Image.new("RGB", (width, height), PAPER)
    for (x, y), picture, head in zip(places, every, heads, strict=True):
        _written(sheet, (x, y), head)
        sheet.paste(picture, (x, y + HEAD))
    out = BytesIO()
    sheet.save(out, "PNG", optimize=True)
    return out.getvalue()


def _written(sheet: Image, at: tuple[int, int], words: list[tuple[str, tuple[int, int, int]]]) -> None:
    from PIL import ImageDraw, ImageFont

    draw, font = ImageDraw.Draw(sheet), ImageFont.load_default(18)
    x, y = at
    for text, colour in words:
        text = text if len(text) < 60 else "…" + text[-58:]
        draw.text((x, y + 4), text, fill=colour, font=font)
        x += int(draw.textlength(text, font=font)) + 24


def _fitted(picture: Image, room: int, smooth: bool) -> Image:
    from PIL import Image

    height = max(1, round(picture.height * room / picture.width))
    return picture.resize(
        (room, height), Image.Resampling.LANCZOS if smooth and room < picture.width else Image.Resampling.NEAREST
    )


def _dots(a: Glass, b: Glass) -> Image:
    """Dot by dot. Of colours only whether they differ."""
    from PIL import Image

    rgb: NDArray[np.uint8]
    if isinstance(a, ColourGlass) and isinstance(b, ColourGlass):
        grey = (b.rgb.mean(axis=2, keepdims=True) * 0.35 + 20).astype(np.uint8)
        rgb = np.repeat(grey, 3, axis=2)
        rgb[(a.rgb != b.rgb).any(axis=2)] = ONLY_B
    else:
        left, right = a.visible, b.visible
        rgb = np.empty((*left.shape, 3), np.uint8)
        rgb[:] = DARK
        for where, colour in ((left & right, BOTH), (left & ~right, ONLY_A), (right & ~left, ONLY_B)):
            rgb[where] = colour
    scale = max(1, min(8, 900 // max(rgb.shape[:2])))
    large = rgb.repeat(scale, axis=0).repeat(scale, axis=1)
    if scale >= 4:
        large[scale - 1 :: scale] = large[scale - 1 :: scale] // 5 * 3 + 12
        large[:, scale - 1 :: scale] = large[:, scale - 1 :: scale] // 5 * 3 + 12
    framed = np.empty((large.shape[0] + 16, large.shape[1] + 16, 3), np.uint8)
    framed[:] = BEZEL
    framed[8:-8, 8:-8] = large
    return Image.fromarray(framed)


def _cells(a: TextGlass, b: TextGlass) -> Image:
    """Cell by cell: where they differ, A's character over B's."""
    from PIL import Image, ImageDraw, ImageFont

    rows, columns = a.codes.shape
    wide = max(14, min(44, (WIDEST - 2 * MARGIN) // (columns + 1)))
    high = wide * 8 // 5
    picture = Image.new("RGB", (columns * (wide + 2) + wide, rows * (high + 4) + wide), BEZEL)
    draw = ImageDraw.Draw(picture)
    large, small = ImageFont.load_default(wide * 1.1), ImageFont.load_default(wide * 0.8)
    for row in range(rows):
        left, right = (_chars(glass, row) for glass in (a, b))
        for column in range(columns):
            x, y = wide // 2 + column * (wide + 2), wide // 2 + row * (high + 4)
            draw.rectangle((x, y, x + wide - 1, y + high - 1), fill=DARK)
            middle = x + wide / 2
            if a.codes[row, column] == b.codes[row, column]:
                draw.text((middle, y + high / 2), left[column], fill=BOTH, font=large, anchor="mm")
            else:
                for char, colour, share in ((left[column], ONLY_A, 0.27), (right[column], ONLY_B, 0.75)):
                    draw.text((middle, y + high * share), char if char.strip() else "·", fill=colour, font=small, anchor="mm")
    return picture


def _chars(glass: TextGlass, row: int) -> list[str]:
    """A character for each cell: one's own by number (#1), of digits a point with the one ahead of it."""
    columns = glass.codes.shape[1]
    out: list[str] = []
    for char in glass.lines[row]:
        if char == "." and out and len(glass.lines[row]) > columns:
            out[-1] += char
        else:
            out.append(char)
    out = (out + [" "] * columns)[:columns]
    if glass.glyphs is not None:
        out = [f"#{code & 7}" if 0 <= code < 16 else char for code, char in zip(glass.codes[row].tolist(), out, strict=True)]
    return out
