"""How long things lasted, as distributions: each length once, how often it came, and when it came first.

A long capture has millions of clock periods and few lengths of them, so what is kept stays small, and the least, the most, the usual one and
those beyond a limit are told exactly.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .model import Times

__all__ = ["Growing", "Measured", "narrowed"]

TABLE = 1 << 16  # ticks from the shortest on that are counted in a table; what is longer is rare, and is sorted
WORTH = 1 << 10  # lengths from which on a table is worth its room
NEAR = 1 << 14  # the same of what grows; the first that come have an eighth of it ahead of them


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
        """Parts as one."""
        if len(parts) == 1:
            return parts[0]
        value, back = np.unique(np.concatenate([part.value for part in parts]), return_inverse=True)
        count = np.bincount(back, np.concatenate([part.count for part in parts]), len(value)).astype(np.int64)
        when: Times = np.full(len(value), np.iinfo(np.int64).max)
        np.minimum.at(when, back, np.concatenate([part.when for part in parts]))
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
    def total(self) -> int:
        """The sum of all of them, in ticks."""
        return int(self.value @ self.count)

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

    @property
    def spread(self) -> float:
        """The median distance from the median."""
        apart = np.abs(self.value - self.typical)
        order = np.argsort(apart, kind="stable")
        upto = np.cumsum(self.count[order])
        return float(apart[order][int(np.searchsorted(upto, (upto[-1] + 1) // 2))])

    def share_below(self, ticks: float) -> float:
        """The share of those that are shorter; 0 where nothing was measured."""
        return float(self.count[: int(np.searchsorted(self.value, ticks, side="left"))].sum()) / max(1, len(self))

    def percentile(self, share: float) -> float:
        """The least length that at least `share` (0 to 1) of all do not exceed."""
        upto = np.cumsum(self.count)
        return float(self.value[min(len(upto) - 1, int(np.searchsorted(upto, share * upto[-1])))])

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


def narrowed(times: Times) -> tuple[int, NDArray[Any]]:
    """Ascending ticks as those behind the first one, in half the room where they fit; and the first one."""
    since = int(times[0]) if len(times) else 0
    if not len(times) or int(times[-1]) - since > np.iinfo(np.int32).max:
        return since, times - since
    return since, np.subtract(times, np.int64(since), dtype=np.int32, casting="unsafe")


class Growing:
    """The same of one thing or several while more is measured: `add` what comes, in order of time, and ask what was `told` by then.

    Lengths near the first ones are counted in a table that grows with them, all others in columns of those that were met. What is known already
    costs no more than being counted.
    """

    def __init__(self, rows: int = 1) -> None:
        """rows: how many things."""
        self.rows = rows
        self._base = 0  # the length that the table begins with
        self._count = self._first = np.zeros((rows + 1, 0), np.int64)  # the last row takes what belongs to none
        self._far = [Measured.of(np.empty(0, np.int64), np.empty(0, np.int64)) for _ in range(rows)]
        self._new: list[list[Measured]] = [[] for _ in range(rows)]  # what is not among them yet

    def add(self, value: NDArray[Any], when: NDArray[Any], row: NDArray[np.uint8] | None = None, since: int = 0) -> None:
        """More lengths (n,), the ticks behind `since` at which they were measured, and which thing each is of, from 0; `rows` where it is of none.

        Whole numbers of any width are taken: narrow ones are read faster.
        """
        if not len(value):
            return
        if not self._count.shape[1]:
            self._base = max(0, int(value.min()) - NEAR // 8)
        place = value - self._base
        unsigned = place.view(f"u{place.itemsize}")
        top = int(unsigned.max())  # what lies below the base is beyond all as a number without sign
        if top >= NEAR:
            near = unsigned < NEAR
            far = np.flatnonzero(~near)
            self._beside(value[far].astype(np.int64), when[far] + np.int64(since), None if row is None else row[far])
            place, when, row = place[near], when[near], None if row is None else row[near]
            if not len(place):
                return
            top = int(place.max())
        self._widen(top + 1)
        width = self._count.shape[1]
        known = self._count[:1]
        if row is not None:
            known = self._count
            place += np.multiply(row, width, dtype=place.dtype)
        flat, first = known.reshape(-1), self._first.reshape(-1)
        if len(place) < WORTH:
            key, at, count = np.unique(place, return_index=True, return_counts=True)
            fresh = flat[key] == 0
            first[key[fresh]] = when[at[fresh]] + np.int64(since)
            flat[key] += count
            return
        counts = np.bincount(place, minlength=len(flat))
        fresh = (flat == 0) & (counts > 0)
        if fresh.any():
            at = np.flatnonzero(fresh[place])[::-1]
            first[place[at]] = when[at] + np.int64(since)  # of equal ones the last assignment stays
        flat += counts

    def _widen(self, width: int) -> None:
        """Makes room for lengths up to so many ticks above the base."""
        more = width - self._count.shape[1]
        if more > 0:
            room = ((0, 0), (0, more + more // 4))
            self._count, self._first = np.pad(self._count, room), np.pad(self._first, room)

    def _beside(self, value: Times, when: Times, row: NDArray[np.uint8] | None) -> None:
        """Lengths that have no place in the table."""
        for number, far in enumerate(self._far):
            own, since = (value, when) if row is None else (value[row == number], when[row == number])
            at = np.searchsorted(far.value, own)
            met = np.zeros(len(own), bool)
            inside = at < len(far.value)
            met[inside] = far.value[at[inside]] == own[inside]
            far.count[:] += np.bincount(at[met], minlength=len(far.value))
            if not met.all():
                self._new[number].append(Measured.of(own[~met], since[~met]))
                # Sorted in as seldom as they double what is known: where no two lengths are alike, each would cost as much as all of them.
                if sum(len(one.value) for one in self._new[number]) > max(WORTH, len(far.value)):
                    self._merge(number)

    def _merge(self, number: int) -> None:
        """Sorts in what was new."""
        self._far[number] = Measured.join([self._far[number], *self._new[number]])
        self._new[number] = []

    def told(self, *lines: str, row: int = 0) -> Measured:
        """All that was measured of one thing by now. lines: the roles between which it is."""
        self._merge(row)
        found = np.flatnonzero(self._count[row])
        near = Measured(found + self._base, self._count[row, found], self._first[row, found], lines)
        out = Measured.join([near, self._far[row]]) if len(self._far[row]) else near
        return Measured(out.value, out.count, out.when, lines)
