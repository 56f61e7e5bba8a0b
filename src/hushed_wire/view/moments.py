"""Moments of a figure in seconds, worked out where they are looked at: of millions of words no second column is held."""

from __future__ import annotations

from collections.abc import Callable
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Times

__all__ = ["Moments", "latched"]


class Moments:
    """Ascending moments (n,). They are indexed as arrays are, and give arrays."""

    def __init__(self, count: int, of: Callable[[Any], Times], tick: Fraction) -> None:
        """of: the ticks of some of them, by a slice or by their numbers. tick: its seconds."""
        self.count, self.of, self.tick = count, of, (float(tick.numerator), float(tick.denominator))

    def __len__(self) -> int:
        return self.count

    def __getitem__(self, which: Any) -> NDArray[np.float64]:
        return np.asarray(self.of(which), np.float64) * self.tick[0] / self.tick[1]

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[np.float64]:
        return self[:]

    def searchsorted(self, value: float, side: str = "left") -> int:
        """How many of them lie ahead of a moment; on the right side those at it, too."""
        low, high = 0, self.count
        while low < high:
            middle = (low + high) // 2
            at = float(self[middle : middle + 1][0])
            if at < value or (side == "right" and at == value):
                low = middle + 1
            else:
                high = middle
        return low


def latched(effect: Times, half: int) -> tuple[Callable[[Any], Times], Callable[[Any], Times]]:
    """When words begin and end that an edge latches at `effect`: at most `half` a step before and behind it, and no two at once."""

    def begin(which: Any) -> Times:
        at = np.arange(*which.indices(len(effect))) if isinstance(which, slice) else np.asarray(which)
        own, before = effect[at].astype(np.int64), effect[np.maximum(at - 1, 0)].astype(np.int64)
        start = own - half
        limit = np.where(at > 0, np.minimum(before + half, (own + before) // 2), start)
        late: Times = np.maximum(start, limit)
        return late

    def end(which: Any) -> Times:
        late: Times = effect[which].astype(np.int64) + half
        return late

    return begin, end
