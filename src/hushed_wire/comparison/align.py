"""Two lists of commands aligned: where they are the same, and where one has something that the other has not.

Equal stretches are run over as columns; only around a difference commands are matched one by one, in a window that grows until both sides
are in step again. So an inserted command shifts nothing, and the work follows the differences, not the length.
"""

from __future__ import annotations

from dataclasses import dataclass
from difflib import SequenceMatcher

import numpy as np
from numpy.typing import NDArray

__all__ = ["Gap", "gaps"]

WINDOWS = (32, 256, 1024)
IN_STEP = 4  # equal commands in a row after which both sides are in step again
MOST = 400  # differing stretches: what has more is another driver
CHUNK = 1 << 12


@dataclass(frozen=True)
class Gap:
    """Commands of one side and of the other, as ranges, that are not the same; one of the ranges may be empty."""

    a: range
    b: range


def gaps(a: NDArray[np.int64], b: NDArray[np.int64], most: int = MOST) -> tuple[list[Gap], bool]:
    """The stretches that differ, in order, and whether these are all of them. a, b: (n,), (m,) a number for each command, equal for equal ones."""
    out: list[Gap] = []
    i = j = 0
    while True:
        same = _equal(a[i:], b[j:])
        i, j = i + same, j + same
        if i == len(a) and j == len(b):
            return _joined(out), True
        if i == len(a) or j == len(b):
            return _joined([*out, Gap(range(i, len(a)), range(j, len(b)))]), True
        if len(out) >= most:
            return _joined([*out, Gap(range(i, len(a)), range(j, len(b)))]), False
        found, di, dj = _around(a[i : i + WINDOWS[-1]], b[j : j + WINDOWS[-1]])
        out += [Gap(range(i + one.a.start, i + one.a.stop), range(j + one.b.start, j + one.b.stop)) for one in found]
        i, j = i + di, j + dj


def _equal(a: NDArray[np.int64], b: NDArray[np.int64]) -> int:
    """How many are equal from the beginning on."""
    length, at = min(len(a), len(b)), 0
    size = CHUNK
    while at < length:
        part = slice(at, min(length, at + size))
        unlike = np.flatnonzero(a[part] != b[part])
        if len(unlike):
            return at + int(unlike[0])
        at, size = part.stop, size * 2
    return length


def _around(a: NDArray[np.int64], b: NDArray[np.int64]) -> tuple[list[Gap], int, int]:
    """The gaps next to a difference, and how far both sides are used up with them."""
    for window in WINDOWS:
        left, right = a[:window].tolist(), b[:window].tolist()
        whole = len(a) <= window and len(b) <= window
        matched = [block for block in SequenceMatcher(None, left, right, autojunk=False).get_matching_blocks() if block.size]
        if not whole:  # near the end of the window what matches may match by chance
            good = [number for number, block in enumerate(matched) if block.size >= IN_STEP]
            matched = matched[: good[-1] + 1] if good else []
        if not matched and not whole and window != WINDOWS[-1]:
            continue
        out, i, j = [], 0, 0
        for block in matched:
            if block.a > i or block.b > j:
                out.append(Gap(range(i, block.a), range(j, block.b)))
            i, j = block.a + block.size, block.b + block.size
        if whole or not matched:
            if i < len(left) or j < len(right):
                out.append(Gap(range(i, len(left)), range(j, len(right))))
            i, j = len(left), len(right)
        return out, i, j
    raise AssertionError("the last window always answers")


def _joined(found: list[Gap]) -> list[Gap]:
    """Gaps that touch one another as one."""
    out: list[Gap] = []
    for gap in found:
        if out and out[-1].a.stop == gap.a.start and out[-1].b.stop == gap.b.start:
            out[-1] = Gap(range(out[-1].a.start, gap.a.stop), range(out[-1].b.start, gap.b.stop))
        else:
            out.append(gap)
    return out
