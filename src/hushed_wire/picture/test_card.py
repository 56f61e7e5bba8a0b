"""A picture to judge a panel by at a glance: border, diagonals, a mark in each corner that no other has, its size in words.

A missing border tells an offset or a missing line, the marks tell rotation and mirroring, the ladder tells lines out of order.
"""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from ..part.describe import Panel

__all__ = ["colour_card", "test_card"]


def test_card(panel: Panel, name: str) -> NDArray[np.bool_]:
    """(height, width) pixels as a person sees the panel."""
    from PIL import Image, ImageDraw

    from .font import set_text
    from .font_file import shipped

    width, height = (panel.width, panel.height) if panel.rotate % 180 == 0 else (panel.height, panel.width)
    image = Image.new("1", (width, height))
    draw = ImageDraw.Draw(image)
    draw.rectangle((0, 0, width - 1, height - 1), outline=1)
    draw.line((0, 0, width - 1, height - 1), fill=1)
    mark = max(3, min(width, height) // 8)
    left, right, top, bottom = 3, width - 4, 3, height - 4
    draw.rectangle((left, top, left + mark, top + mark), fill=1)  # top left: a full square
    draw.rectangle((right - mark, top, right, top + mark), outline=1)  # top right: an empty one
    draw.line((left, bottom - mark, left, bottom, left + mark, bottom), fill=1)  # bottom left: an angle
    draw.line((right - mark, bottom, right, bottom - mark), fill=1)  # bottom right: a stroke
    # The ladder: rung k is k pixels long, so a line in the wrong place breaks the slope.
    for y in range(2 * mark, height - 2 * mark):
        draw.line((width - 5 - mark, y, width - 5 - mark + (y - 2 * mark) % (mark + 1), y), fill=1)
    out = np.asarray(image).astype(bool)
    font = shipped("5x7")
    for number, text in enumerate((name, f"{width}x{height}")):
        words = set_text("".join(char if ord(char) in font.glyphs else "?" for char in text), font)
        up, across = words.shape
        x, y = (width - across) // 2, height // 2 + (number - 1) * (up + 2) + 1
        if across < width - 4 and 2 * (up + 2) < height - 4:
            out[y - 1 : y + up + 1, x - 2 : x + across + 2] = False
            out[y : y + up, x : x + across] = words
    return out


# Bars from left to right; the order tells exchanged bytes, exchanged red and blue, and negatives apart.
BARS = ("white", "yellow", "cyan", "green", "magenta", "red", "blue", "black")


def colour_card(panel: Panel, name: str, grey: bool = False) -> NDArray[np.uint8]:
    """(height, width, 3) for a colour panel: the bars, a ramp of each primary below them, the marks of `test_card` over both; grey: of one that has
    shades only: sixteen steps, and a ramp below them."""
    from PIL import ImageColor

    marks = test_card(panel, name)
    height, width = marks.shape
    out = np.zeros((height, width, 3), np.uint8)
    if grey:
        out[: height // 2] = (np.arange(width) * 16 // width * 17)[:, None]
        out[height // 2 :] = (255 - np.arange(width) * 255 // max(1, width - 1))[:, None]
        out[marks] = np.where(out[marks].max(axis=1, keepdims=True) < 160, 255, 0)
        return out
    bar = np.arange(width) * len(BARS) // width
    out[: height // 2] = np.array([ImageColor.getrgb(colour) for colour in BARS], np.uint8)[bar]
    ramp = (np.arange(width) * 255 // max(1, width - 1)).astype(np.uint8)
    for channel in range(3):
        first = height // 2 + channel * (height // 6)
        out[first : first + height // 6, :, channel] = ramp
    out[marks] = np.where(out[marks].max(axis=1, keepdims=True) < 160, 255, 0)
    return out
