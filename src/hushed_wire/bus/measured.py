"""How long things lasted, as distributions: each length once, how often it came, and when it came first.

A long capture has millions of clock periods and few lengths of them, so what is kept stays small, and the least, the most, the usual one and
those beyond a limit are told exactly.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Times

__all__ = ["Measured"]

TABLE = 1 << 16  # ticks from the shortest on that are counted in a table; what is longer is rare, and is sorted


@dataclass(eq=False)
class Measured:
    """value: (n,) ticks, ascending, each once. count: (n,) how often. when: (n,) tick at which each was measured first.

    lines: the roles between which it is.
    """

    value: Times
    count: NDArray[np.int64]
    when: Times
    lines: tuple[str, ...]

    @classmethod
    def of(cls, value: Times, when: Times, *lines: str) -> Measured:
        """From every length (n,) and the ticks at which it was measured, in order."""
        if not len(value):
            return cls(value, np.empty(0, np.int64), when, lines)
        low = int(value.min())
        if int(value.max()) - low < TABLE:
            return cls(*_tabled(value, when, low), lines)
        near = value < low + TABLE
        far = ~near
        longer, at, count = np.unique(value[far], return_index=True, return_counts=True)
        shorter = _tabled(value[near], when[near], low)
        columns = [np.concatenate(column) for column in zip(shorter, (longer, count, when[far][at]), strict=True)]
        return cls(columns[0], columns[1], columns[2], lines)

    @classmethod
    def join(cls, parts: list[Measured]) -> Measured:
        """Parts in order as one."""
        if len(parts) == 1:
            return parts[0]
        value, at, back = np.unique(np.concatenate([part.value for part in parts]), return_index=True, return_inverse=True)
        count = np.bincount(back, np.concatenate([part.count for part in parts]), len(value)).astype(np.int64)
        when: Times = np.concatenate([part.when for part in parts])[at]  # of equal ones the first is found
        return cls(value, count, when, parts[0].lines)

    def __len__(self) -> int:
        """How many were measured."""
        return int(self.count.sum())

    @property
    def least(self) -> float:
        """Ticks, as all of these."""
        return float(self.value[0])

    @property
    def most(self) -> float:
        """The longest."""
        return float(self.value[-1])

    @property
    def typical(self) -> float:
        """The median."""
        upto = np.cumsum(self.count)
        middle = np.searchsorted(upto, [(upto[-1] - 1) // 2, upto[-1] // 2], side="right")
        return float(self.value[middle].mean())

    def below(self, ticks: float) -> Measured:
        """Only those that are shorter."""
        kept = slice(0, int(np.searchsorted(self.value, ticks, side="left")))
        return Measured(self.value[kept], self.count[kept], self.when[kept], self.lines)

    def mean_upto(self, most: float) -> float:
        """The mean of those that are no longer; 0 where none is."""
        kept = slice(0, int(np.searchsorted(self.value, most, side="right")))
        return float(self.value[kept] @ self.count[kept] / max(1, self.count[kept].sum()))

    def beyond(self, floor: float | None, ceiling: float | None) -> tuple[int, int | None]:
        """How many are shorter than one limit or longer than the other, and when the first of them was measured."""
        below = 0 if floor is None else int(np.searchsorted(self.value, floor, side="left"))
        above = len(self.value) if ceiling is None else int(np.searchsorted(self.value, ceiling, side="right"))
        count = int(self.count[:below].sum() + self.count[above:].sum())
        when = np.concatenate([self.when[:below], self.when[above:]])
        return count, int(when.min()) if len(when) else None


def _tabled(value: Times, when: Times, low: int) -> tuple[Times, NDArray[np.int64], Times]:
    """The columns of lengths that lie within a table from `low` on."""
    place = value - low
    count = np.bincount(place)
    found = np.flatnonzero(count)
    first = np.empty(len(count), np.int64)
    first[place[::-1]] = when[::-1]  # of equal ones the last assignment stays
    return found + low, count[found], first[found]
