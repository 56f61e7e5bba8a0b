"""Pictures that move: a window over a wider or taller picture, and what each frame costs when only what changed is sent."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError

__all__ = ["DIRECTIONS", "changed_boxes", "windows"]

DIRECTIONS = {"left": (0, 1), "right": (0, -1), "up": (1, 0), "down": (-1, 0)}


def windows(
    pixels: NDArray[Any], size: tuple[int, int], direction: str, step: int = 1, run_in: bool = True
) -> Iterator[NDArray[Any]]:
    """The frames of a picture that moves through a window of (height, width), made one at a time.

    direction: where the picture goes. step: rows or columns a frame. run_in: it comes from outside and goes out again.
    """
    high, wide = size
    down, across = DIRECTIONS[direction]
    edge = [(0, max(0, high - pixels.shape[0])), (0, max(0, wide - pixels.shape[1])), *[(0, 0)] * (pixels.ndim - 2)]
    if run_in:
        edge[0 if down else 1] = (high, high) if down else (wide, wide)
    long = np.pad(pixels, edge)
    way = long.shape[0] - high if down else long.shape[1] - wide
    if step < 1 or way < 1:
        raise HushedError("nothing would move", remedy="the picture has to be larger than the window, and the step 1 or more")
    places = list(range(0, way + 1, step))
    if down + across < 0:
        places = [way - place for place in places]
    for place in places:
        yield long[place : place + high, :wide] if down else long[:high, place : place + wide]


def changed_boxes(before: NDArray[Any], after: NDArray[Any], band: int = 8) -> list[tuple[int, int, int, int]]:
    """Boxes (x0, y0, x1, y1) of what differs: one a band of rows, bands of one width joined. Empty where nothing does."""
    differs = before != after
    if differs.ndim == 3:
        differs = differs.any(axis=2)
    out: list[tuple[int, int, int, int]] = []
    for top in range(0, differs.shape[0], band):
        piece = differs[top : top + band]
        columns = np.flatnonzero(piece.any(axis=0))
        if not len(columns):
            continue
        x0, x1, bottom = int(columns[0]), int(columns[-1]) + 1, top + piece.shape[0]
        if out and out[-1][3] == top and abs(out[-1][0] - x0) <= 2 and abs(out[-1][2] - x1) <= 2:
            out[-1] = min(out[-1][0], x0), out[-1][1], max(out[-1][2], x1), bottom
        else:
            out.append((x0, top, x1, bottom))
    return out
