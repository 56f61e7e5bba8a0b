"""Pixels as a PNG for the eye: square dots with a grid, byte boundaries on request; a sheet of several with captions."""

from __future__ import annotations

from io import BytesIO
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from .image import BEZEL, COLOURS, DARK

if TYPE_CHECKING:
    from PIL.Image import Image

__all__ = ["gif", "grid_png", "rgb_of", "sheet_png"]

MARK = (255, 120, 64)  # byte boundaries
WIDEST, TALLEST = 1200, 760


def rgb_of(pixels: NDArray[Any], bits: int = 1) -> NDArray[np.uint8]:
    """Pixels of any kind as (height, width, 3): one bit in the colour of a panel, greys as greys."""
    if pixels.ndim == 3:
        return pixels.astype(np.uint8)
    top = max(1, (1 << bits) - 1)
    share = pixels.astype(np.float64)[..., None] / top
    lit, dark = np.array(COLOURS["white"]), np.array(DARK)
    out: NDArray[np.uint8] = (dark + (lit - dark) * share).astype(np.uint8)
    return out


def grid_png(pixels: NDArray[Any], bits: int = 1, owner: NDArray[np.int64] | None = None) -> bytes:
    """A picture as PNG bytes. owner: (height, width) number of the byte that holds each pixel, where boundaries are to be marked."""
    rgb = rgb_of(pixels, bits)
    height, width = rgb.shape[:2]
    scale = max(1, min(24, WIDEST // width, TALLEST // height))
    if owner is not None:
        scale = max(3, scale)
    large = rgb.repeat(scale, axis=0).repeat(scale, axis=1)
    if scale >= 4:
        large[scale - 1 :: scale] = large[scale - 1 :: scale] // 5 * 3 + 12
        large[:, scale - 1 :: scale] = large[:, scale - 1 :: scale] // 5 * 3 + 12
    if owner is not None:
        thick = 2 if scale >= 10 else 1
        right = np.pad(owner[:, 1:] != owner[:, :-1], ((0, 0), (0, 1))).repeat(scale, axis=0)
        below = np.pad(owner[1:] != owner[:-1], ((0, 1), (0, 0))).repeat(scale, axis=1)
        for k in range(thick):
            large[:, scale - 1 - k :: scale][right] = MARK
            large[scale - 1 - k :: scale][below] = MARK
    edge = 12
    framed = np.empty((large.shape[0] + 2 * edge, large.shape[1] + 2 * edge, 3), np.uint8)
    framed[:] = BEZEL
    framed[edge:-edge, edge:-edge] = large
    return _png(framed)


def _png(rgb: NDArray[np.uint8]) -> bytes:
    from PIL import Image as Images

    out = BytesIO()
    Images.fromarray(rgb).save(out, "PNG", optimize=True)
    return out.getvalue()


def sheet_png(pictures: list[tuple[str, NDArray[np.uint8]]]) -> bytes:
    """Pictures (caption, rgb) side by side and below one another, at most about 1280 wide, each as large as its cell allows."""
    from PIL import Image as Images
    from PIL import ImageDraw, ImageFont

    columns = 6 if len(pictures) > 12 else 4 if len(pictures) > 6 else 3
    cell, line = 1260 // columns, 16
    room = cell - 14
    font = ImageFont.load_default(13)
    rows = -(-len(pictures) // columns)
    tall = max(60, min(190, (800 - 10) // max(1, rows) - 2 * line - 8))
    sheet = Images.new("RGB", (columns * cell + 20, rows * (tall + 2 * line + 8) + 10), BEZEL)
    draw = ImageDraw.Draw(sheet)
    for number, (caption, rgb) in enumerate(pictures):
        x, y = 10 + number % columns * cell, 8 + number // columns * (tall + 2 * line + 8)
        scale = min(room / rgb.shape[1], tall / rgb.shape[0])
        small: Image = Images.fromarray(rgb)
        if scale >= 1:
            whole = int(scale)
            small = small.resize((rgb.shape[1] * whole, rgb.shape[0] * whole), Images.Resampling.NEAREST)
        else:
            small = small.resize((max(1, int(rgb.shape[1] * scale)), max(1, int(rgb.shape[0] * scale))), Images.Resampling.BOX)
        for k, text in enumerate(caption.split("\n")[:2]):
            draw.text((x, y + k * line), text, fill=(255, 214, 64) if k == 0 else (170, 180, 195), font=font)
        sheet.paste(small, (x, y + 2 * line + 2))
    out = BytesIO()
    sheet.save(out, "PNG", optimize=True)
    return out.getvalue()


def gif(frames: list[NDArray[np.uint8]], milliseconds: int = 100) -> bytes:
    """Frames (rgb) as an endless GIF, enlarged to be seen."""
    from PIL import Image as Images

    scale = max(1, min(6, 640 // frames[0].shape[1]))
    images = [Images.fromarray(frame.repeat(scale, axis=0).repeat(scale, axis=1)) for frame in frames]
    out = BytesIO()
    images[0].save(out, "GIF", save_all=True, append_images=images[1:], duration=milliseconds, loop=0)
    return out.getvalue()
