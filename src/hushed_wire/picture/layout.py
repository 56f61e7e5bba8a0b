"""Pixels to the bytes of display memory and back: each layout in both directions, vectorised, exact inverses."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..part.describe import Panel

__all__ = ["as_mounted", "as_seen", "pack_pages", "unpack_pages"]


def pack_pages(pixels: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """(height, width) pixels to (pages, width) bytes: eight rows a byte, bit 0 uppermost; the last page is padded dark."""
    short = -pixels.shape[0] % 8
    return np.packbits(np.pad(pixels, ((0, short), (0, 0))), axis=0, bitorder="little")


def unpack_pages(pages: NDArray[np.uint8], height: int) -> NDArray[np.bool_]:
    """(pages, width) bytes to (height, width) pixels; the twin of `pack_pages`."""
    return np.unpackbits(pages, axis=0, bitorder="little")[:height].astype(bool)


def as_mounted(pixels: NDArray[Any], panel: Panel) -> NDArray[Any]:
    """A picture as a person sees it, turned to how it lies in memory on this panel."""
    turned = np.rot90(pixels, panel.rotate // 90)
    return turned[:, ::-1] if panel.mirror else turned


def as_seen(pixels: NDArray[Any], panel: Panel) -> NDArray[Any]:
    """The twin of `as_mounted`."""
    return np.rot90(pixels[:, ::-1] if panel.mirror else pixels, -(panel.rotate // 90))
