"""How long things lasted, as distributions: each length once, how often it came, and when it came first.

A long capture has millions of clock periods and few lengths of them, so what is kept stays small, and the least, the most, the usual one and
those beyond a limit are told exactly.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .model import Times

__all__ = ["Cycles", "Growing", "Measured", "narrowed"]

TABLE = 1 << 16  # ticks from the shortest on that are counted in a table; what is longer is rare, and is sorted
WORTH = 1 << 10  # lengths from which on a table is worth its room
SEVERAL = 8  # times as many that came in small numbers are counted together
NEVER = np.iinfo(np.int64).max
ALIKE = 64  # lengths of half a cycle that are counted with those of the other half
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
        value, count, when = (
            np.concatenate(column) for column in zip(*((own.value, own.count, own.when) for own in parts), strict=True)
        )
        return replace(_gathered(value, count, when), lines=parts[0].lines)

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
    def ended(self) -> Measured:
        """The same, and when the first of each ended, of those that tell when it began."""
        return replace(self, when=self.when + self.value)

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


class Cycles:
    """How long both halves of each cycle lasted, and the whole, while more is measured: `add` what comes, in order of time, then ask what was `told`.

    Most cycles of a clock are alike, so halves are counted together, which costs a third of counting each and the whole; what is beside the common
    ones, or all where there are none, is counted one by one.
    """

    def __init__(self) -> None:
        self._base = 0, 0  # the lengths of both halves that the table begins with
        self._count = self._first = np.zeros((0, 0), np.int64)
        self._alike = True
        self._apart = Growing(), Growing(), Growing()  # first half, second half, whole

    def add(self, first: NDArray[Any], second: NDArray[Any], begin: NDArray[Any], since: int = 0) -> None:
        """Both halves (n,) of more cycles, and the ticks behind `since` at which they began."""
        if not len(first):
            return
        if not self._alike:
            self._each(first, second, begin, since)
            return
        if not self._count.size:
            self._base = max(0, int(np.median(first)) - ALIKE // 2), max(0, int(np.median(second)) - ALIKE // 2)
        row, column = first - self._base[0], second - self._base[1]
        # What lies below the base is beyond all as a number without sign, and so is the first place.
        beyond = row | column
        beyond -= 1
        beyond = beyond.view(f"u{beyond.itemsize}")
        if int(beyond.max()) >= ALIKE - 1:
            far = np.flatnonzero(beyond >= ALIKE - 1)
            self._alike = 8 * len(far) < len(first)
            self._each(first[far], second[far], begin[far], since)
            row[far] = column[far] = 0  # which is nobody's place
        self._widen(int(row.max()) + 1, int(column.max()) + 1)
        row *= self._count.shape[1]
        row += column
        _count(self._count.reshape(-1), self._first.reshape(-1), row, begin, since)

    def _each(self, first: NDArray[Any], second: NDArray[Any], begin: NDArray[Any], since: int) -> None:
        lasts = first, second, first + second
        for own, last, when in zip(self._apart, lasts, (begin, begin + first, begin), strict=True):
            own.add(last, when, since=since)

    def _widen(self, rows: int, columns: int) -> None:
        """Makes room for halves up to so many ticks above the bases."""
        more = max(0, rows - self._count.shape[0]), max(0, columns - self._count.shape[1])
        if any(more):
            room = tuple((0, new) for new in more)
            self._count, self._first = np.pad(self._count, room), np.pad(self._first, room, constant_values=NEVER)

    def told(self) -> tuple[Measured, Measured, Measured]:
        """First halves, second halves and whole cycles by now, and when each length began first."""
        row, column = np.divmod(1 + np.flatnonzero(self._count.reshape(-1)[1:]), max(1, self._count.shape[1]))
        count, begin = self._count[row, column], self._first[row, column]
        first, second = row + self._base[0], column + self._base[1]
        alike = _gathered(first, count, begin), _gathered(second, count, begin + first), _gathered(first + second, count, begin)
        halves, others, whole = (Measured.join([own, apart.told()]) for own, apart in zip(alike, self._apart, strict=True))
        return halves, others, whole


def _gathered(value: Times, count: NDArray[np.int64], when: Times) -> Measured:
    """From lengths that may be there several times, how often each came, and when first."""
    each, back = np.unique(value, return_inverse=True)
    begin: Times = np.full(len(each), NEVER)
    np.minimum.at(begin, back, when)
    return Measured(each, np.bincount(back, count, len(each)).astype(np.int64), begin, ())


def _count(count: NDArray[np.int64], first: Times, place: NDArray[Any], when: NDArray[Any], since: int) -> None:
    """Counts lengths by their places in a table, and keeps when the first of each came; `when` ascends, but others may have come in between."""
    more = np.bincount(place, minlength=len(count))
    met = np.flatnonzero(more)
    fresh = met[first[met] > int(when[0]) + since]
    if len(fresh):
        new = np.zeros(len(count), bool)
        new[fresh] = True
        at = np.flatnonzero(new[place])[::-1]
        began = np.full(len(count), NEVER)
        began[place[at]] = when[at] + np.int64(since)  # of equal ones the last assignment stays
        np.minimum(first, began, out=first)
    count += more


def narrowed(times: Times, *ahead: int) -> tuple[int, NDArray[Any]]:
    """Ascending ticks, and those ahead of them, as what lies behind the first one, in half the room where they fit; and the first one."""
    if not len(times) and not ahead:
        return 0, times
    since, end = ahead[0] if ahead else int(times[0]), int(times[-1]) if len(times) else ahead[-1]
    out = np.empty(len(ahead) + len(times), np.int32 if end - since <= np.iinfo(np.int32).max else np.int64)
    out[: len(ahead)] = [tick - since for tick in ahead]
    np.subtract(times, np.int64(since), out=out[len(ahead) :], casting="unsafe")
    return since, out


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
        self._few: list[tuple[Times, Times, NDArray[np.uint8] | None]] = []  # what came in small numbers,
        self._number = 0  # and how many these are
        self._new: list[list[tuple[Times, Times]]] = [[] for _ in range(rows)]  # what is not among them yet,
        self._waiting = [0] * rows  # and how many these are

    def add(self, value: NDArray[Any], when: NDArray[Any], row: NDArray[np.uint8] | None = None, since: int = 0) -> None:
        """More lengths (n,), the ticks behind `since` at which they were measured, and which thing each is of, from 0; `rows` where it is of none.

        Whole numbers of any width are taken: narrow ones are read faster.
        """
        if len(value) >= WORTH:
            self._take(value, when, row, since)
            return
        self._few.append((value.astype(np.int64), when + np.int64(since), row))
        self._number += len(value)
        if self._number >= SEVERAL * WORTH:
            self._take_few()

    def _take_few(self) -> None:
        """Counts what came in small numbers, each of which would cost as much as many."""
        if self._number:
            value, when = (np.concatenate([few[column] for few in self._few]) for column in (0, 1))
            rows = [row for _, _, row in self._few if row is not None]
            self._few, self._number = [], 0
            self._take(value, when, np.concatenate(rows) if rows else None, 0)

    def _take(self, value: NDArray[Any], when: NDArray[Any], row: NDArray[np.uint8] | None, since: int) -> None:
        if not self._count.shape[1]:
            self._base = max(0, int(value.min()) - NEAR // 8)
        place = value - self._base
        unsigned = place.view(f"u{place.itemsize}")
        top = int(unsigned.max())  # what lies below the base is beyond all as a number without sign
        far = np.flatnonzero(unsigned >= NEAR) if top >= NEAR else None
        if far is not None:
            self._beside(value[far].astype(np.int64), when[far] + np.int64(since), None if row is None else row[far])
            place[far] = 0
            top = int(place.max())
        self._widen(top + 1)
        width = self._count.shape[1]
        if row is not None:
            place += np.multiply(row, width, dtype=place.dtype)
        if far is not None:
            place[far] = self.rows * width
        _count(self._count.reshape(-1), self._first.reshape(-1), place, when, since)

    def _widen(self, width: int) -> None:
        """Makes room for lengths up to so many ticks above the base."""
        more = width - self._count.shape[1]
        if more > 0:
            room = ((0, 0), (0, more + more // 4))
            self._count, self._first = np.pad(self._count, room), np.pad(self._first, room, constant_values=NEVER)

    def _beside(self, value: Times, when: Times, row: NDArray[np.uint8] | None) -> None:
        """Lengths that have no place in the table: counted where they were met before, else kept until they are worth being sorted in."""
        for number, far in enumerate(self._far):
            own, since = (value, when) if row is None else (value[row == number], when[row == number])
            if len(far.value):
                at = np.minimum(np.searchsorted(far.value, own), len(far.value) - 1)
                met = far.value[at] == own
                np.add.at(far.count, at[met], 1)
                np.minimum.at(far.when, at[met], since[met])
                own, since = own[~met], since[~met]
            if len(own):
                self._new[number].append((own, since))
                self._waiting[number] += len(own)
                # Sorted in as seldom as they double what is known: where no two lengths are alike, each would cost as much as all of them.
                if self._waiting[number] > max(WORTH, len(far.value)):
                    self._merge(number)

    def _merge(self, number: int) -> None:
        """Sorts in what was new."""
        if self._new[number]:
            value, when = (np.concatenate(column) for column in zip(*self._new[number], strict=True))
            order = np.argsort(when, kind="stable")  # what came in small numbers is late
            value, when = value[order], when[order]
            self._far[number] = Measured.join([self._far[number], Measured.of(value, when)])
            self._new[number], self._waiting[number] = [], 0

    def told(self, *lines: str, row: int = 0) -> Measured:
        """All that was measured of one thing by now. lines: the roles between which it is."""
        self._take_few()
        self._merge(row)
        found = np.flatnonzero(self._count[row])
        near = Measured(found + self._base, self._count[row, found], self._first[row, found], lines)
        out = Measured.join([near, self._far[row]]) if len(self._far[row]) else near
        return Measured(out.value, out.count, out.when, lines)
