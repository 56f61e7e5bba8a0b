"""How a panel hangs, and how bright a colour is: what every kind of memory needs to show its picture as a person sees it."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .describe import Panel

__all__ = ["as_mounted", "as_seen", "thousandths"]

WEIGHTS = np.array(
    [299, 587, 114], np.uint32
)  # of red, green and blue in a colour's brightness, in thousandths: ITU-R BT.601-7, 2.5.1


def as_mounted(pixels: NDArray[Any], panel: Panel) -> NDArray[Any]:
    """A picture as a person sees it, turned to how it lies in memory on this panel."""
    turned = np.rot90(pixels, panel.rotate // 90)
    return turned[:, ::-1] if panel.mirror else turned


def as_seen(pixels: NDArray[Any], panel: Panel) -> NDArray[Any]:
    """The twin of `as_mounted`."""
    return np.rot90(pixels[:, ::-1] if panel.mirror else pixels, -(panel.rotate // 90))


def thousandths(rgb: NDArray[np.uint8]) -> NDArray[np.uint32]:
    """(..., 3) colours to (...) brightness in thousandths of a step: 0 to 255,000."""
    out: NDArray[np.uint32] = rgb.astype(np.uint32) @ WEIGHTS
    return out
