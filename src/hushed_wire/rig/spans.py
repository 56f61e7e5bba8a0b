"""Stretches of a capture's time, and what they have in common."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

__all__ = ["Spans"]


@dataclass(eq=False)
class Spans:
    """start, end: (n,) ticks, ascending by start, both included."""

    start: NDArray[np.int64]
    end: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.start)

    @classmethod
    def of(cls, start: NDArray[Any], end: NDArray[Any]) -> Spans:
        """In order of their starts."""
        order = np.lexsort((end, start))
        return cls(start[order].astype(np.int64), end[order].astype(np.int64))

    def within(self, start: int, end: int) -> Spans:
        """Those that lie between two ticks, or reach into what is between them."""
        keep = (self.end >= start) & (self.start <= end)
        return Spans(self.start[keep], self.end[keep])

    def joined(self) -> Spans:
        """Without overlaps."""
        if not len(self):
            return self
        reach = np.maximum.accumulate(self.end)
        fresh = np.append(True, self.start[1:] > reach[:-1])
        last = np.append(np.flatnonzero(fresh)[1:] - 1, len(self) - 1)
        return Spans(self.start[fresh], reach[last])

    def both(self, other: Spans) -> Spans:
        """Where spans of both overlap."""
        mine, theirs = (self, other.joined()) if len(self) >= len(other) else (other, self.joined())
        low = np.searchsorted(theirs.end, mine.start, side="left")
        count = np.maximum(np.searchsorted(theirs.start, mine.end, side="right") - low, 0)
        owner = np.repeat(np.arange(len(mine)), count)
        at = low[owner] + np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        return Spans.of(np.maximum(mine.start[owner], theirs.start[at]), np.minimum(mine.end[owner], theirs.end[at]))

    def either(self, other: Spans) -> Spans:
        """All spans of both, those that are the same once."""
        start, end = np.concatenate([self.start, other.start]), np.concatenate([self.end, other.end])
        if not len(start):
            return self
        pairs = np.unique(np.stack([start, end], axis=1), axis=0)
        return Spans(pairs[:, 0], pairs[:, 1])

    def rest(self, start: int, end: int) -> Spans:
        """The rest of a stretch of time."""
        own = self.joined()
        opens = np.concatenate([[start], own.end + 1])
        closes = np.concatenate([own.start - 1, [end]])
        keep = opens <= closes
        return Spans(opens[keep], closes[keep])
