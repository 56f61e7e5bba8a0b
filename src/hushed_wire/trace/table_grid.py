"""Pieces of a CSV's rows, collected to a trace or to waveforms.

A time column that is even is a sample clock, and its interval is taken from the whole span, since single rows are rounded;
an uneven one is a list of changes, on a tick as fine as the digits that were written.
"""

from __future__ import annotations

from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from .column import Column
from .merge import merge
from .model import Levels, Note, Times, Trace, Waveforms
from .table_rows import Layout, Rows, backwards

__all__ = ["Grid", "side_by_side"]

EVEN_ROWS = 16


class Grid:
    """Collects the rows piece by piece: changes only of digital lines, every sample of volts."""

    def __init__(self, name: str, layout: Layout, rate: Fraction | None) -> None:
        self.name, self.layout, self.shape, self.rate = name, layout, layout.shape, rate
        self.notes: list[Note] = []
        self.rows = 0
        self.pieces: list[Rows] = []
        self.ahead: list[int] = []  # rows ahead of each piece
        self.changed = Column(np.int64)  # ticks of what is settled, the levels then, and what of them is unknown
        self.levels: Column | None = None
        self.dark = Column(np.uint8)
        self.blurred = False
        self.last = (-1, -1)  # levels and unknowns of the last row
        self.span = (0.0, 0.0)
        self.steps = (np.inf, 0.0)
        self.repeats = (np.inf, 0.0)  # the fewest and the most rows of one time
        self.flows = False  # whether it is a list of changes, which need not be held
        self.begun: tuple[int, int, int] | None = None  # the tick at which the next block begins, and levels and unknowns there

    def take(self, rows: Rows | None) -> None:
        """The next rows. Raises WrongRow where their first is earlier than the last one before."""
        if rows is None:
            return
        if self.layout.time is not None:
            self.repeats = min(self.repeats[0], rows.repeats[0]), max(self.repeats[1], rows.repeats[1])
            smallest, largest = rows.steps
            if self.rows:
                step = rows.span[0] - self.span[1]
                if step < 0:
                    raise backwards(0)
                smallest, largest = min(smallest, step), max(largest, step)
            self.steps = min(self.steps[0], smallest), max(self.steps[1], largest)
            self.span = (self.span[0] if self.rows else rows.span[0]), rows.span[1]
        if not self.layout.volts:
            first, last = ((int(rows.levels[k]), 0 if rows.unknown is None else int(rows.unknown[k])) for k in (0, -1))
            if first == self.last:  # the first row of a piece is there in any case
                rows.at, rows.seconds, rows.levels = rows.at[1:], rows.seconds[1:], rows.levels[1:]
                rows.unknown = None if rows.unknown is None else rows.unknown[1:]
            self.last = last
        self.ahead.append(self.rows)
        self.pieces.append(rows)
        self.rows += rows.count
        if self.layout.time is not None and not self.layout.volts and not self.layout.counted and self._never_even():
            self._settle(self._uneven_tick(), False)
            self.flows = True

    def _settle(self, tick: Fraction, even: bool) -> None:
        """What came so far goes to columns of the trace; what it was worked out from is let go, piece by piece."""
        for ahead, piece in zip(self.ahead, self.pieces, strict=True):
            self.changed.add(self._ticks_of(piece, ahead, tick, even))
            if self.levels is None:
                self.levels, self.dark = Column(piece.levels.dtype), Column(piece.levels.dtype)
            if piece.unknown is not None and not self.blurred:
                self.blurred = True
                self.dark.add(np.zeros(self.levels.count, piece.levels.dtype))
            self.levels.add(piece.levels)
            if self.blurred:
                self.dark.add(np.zeros_like(piece.levels) if piece.unknown is None else piece.unknown)
        self.ahead, self.pieces = [], []

    def flow(self, last: bool = False) -> Trace | None:
        """The next block of a list of changes: up to the last row, whose time the next one may share, and with `last` that one, too. What is given out is
        let go. None where there is nothing yet."""
        tick = self._uneven_tick()
        end = round(self.span[1] * float(Fraction(10) ** self.layout.scale / tick)) + last
        changed, levels, unknown = self._settled()
        count = int(np.searchsorted(changed, end))
        if self.begun is None and count:
            self.begun = int(changed[0]), int(levels[0]), int(unknown[0])
        if self.begun is None or end <= self.begun[0]:
            self._hold(changed, levels, unknown)
            return None
        self._hold(changed[count:], levels[count:], unknown[count:])
        columns = changed[:count], levels[:count], unknown[:count]
        if not count or changed[0] > self.begun[0]:  # a block begins with the state that was there
            state = (np.array([own], column.dtype) for own, column in zip(self.begun, columns, strict=True))
            times, levels, unknown = (np.concatenate(pair) for pair in zip(state, columns, strict=True))
        else:
            times, levels, unknown = columns
        self.begun = end, int(levels[-1]), int(unknown[-1])
        return Trace(self._names(), times, levels, end, tick, unknown if unknown.any() else None, 0, tuple(self.notes))

    def _settled(self) -> tuple[Times, Levels, Levels]:
        """Ticks of what is settled, the levels then, and what of them is unknown; of rows of one time the last one."""
        assert self.levels is not None
        changed, levels = self.changed.whole(), self.levels.whole()
        unknown = self.dark.whole() if self.blurred else np.zeros_like(levels)
        if len(changed) > 1 and not (changed[1:] > changed[:-1]).all():
            keep = np.append(changed[1:] != changed[:-1], True)
            changed, levels, unknown = changed[keep], levels[keep], unknown[keep]
        return changed, levels, unknown

    def _hold(self, changed: Times, levels: Levels, unknown: Levels) -> None:
        """What is settled, from now on."""
        assert self.levels is not None
        self.changed, self.levels, self.dark = Column(np.int64), Column(levels.dtype), Column(levels.dtype)
        self.blurred = bool(unknown.any())
        self.changed.add(changed)
        self.levels.add(levels)
        if self.blurred:
            self.dark.add(unknown)

    def follows(self, seconds: float) -> bool:
        """Whether a row of that time is in step with the rows so far."""
        return not self.rows or 0 < seconds - self.span[1] <= 1.5 * self.steps[1]

    def interval(self) -> Fraction | None:
        """Between two rows, where it is told."""
        return 1 / self.rate if self.rate else self.shape.interval

    def _tick(self) -> tuple[Fraction, bool]:
        """The tick, and whether rows lie on an even grid of it."""
        interval = self.interval()
        if self.layout.time is None or self.layout.counted:
            assert interval is not None
            return interval, self.layout.time is None or (self.steps[0] == self.steps[1] == 1)
        scale = Fraction(10) ** self.layout.scale
        step = (self.span[1] - self.span[0]) / max(1, self.rows - 1)
        spread = self.steps[1] - self.steps[0]
        # Times are rounded to the digits that were written, so the steps of a sample clock differ by that much at the most.
        # A few rows may look even by chance: they count only when they are so exactly.
        allowed = 2.1 * self.shape.last_place(self.layout.time) if self.rows >= EVEN_ROWS else 1e-6 * step
        if self.rows > 2 and self.steps[0] > 0 and spread <= allowed and self.steps[1] < 1.7 * step:
            if self.rate:
                return 1 / self.rate, True
            return Fraction(f"{step:.10e}") * scale, True
        # Coarser than the samples are apart, rounded times repeat; where as many rows have each, they are those of a sample clock.
        steady = self.repeats[1] - self.repeats[0] <= 2 and self.steps[1] <= 1.1 * self.shape.last_place(self.layout.time)
        if self.rows >= EVEN_ROWS and self.steps[0] == 0 < step and steady:
            return (1 / self.rate if self.rate else Fraction(f"{step:.10e}") * scale), True
        return self._uneven_tick(), False

    def _uneven_tick(self) -> Fraction:
        """The tick of a list of changes."""
        return min(Fraction(10) ** self.layout.scale / 1000, Fraction(1, 10**9))

    def _never_even(self) -> bool:
        """Whether the steps so far tell already that the rows are those of no sample clock, by what `_tick` asks of them all."""
        place = self.shape.last_place(self.layout.time or 0)
        return self.rows >= EVEN_ROWS and self.steps[1] - self.steps[0] > 2.1 * place and self.steps[1] > 1.1 * place

    def _ticks_of(self, piece: Rows, ahead: int, tick: Fraction, even: bool) -> Times:
        """The ticks of the rows of a piece that were kept. ahead: rows ahead of it."""
        if even:
            return piece.at + (ahead + self._first(tick))
        if self.layout.counted:
            counts: Times = np.round(piece.seconds).astype(np.int64)
            return counts + self._started(tick)
        factor = float(Fraction(10) ** self.layout.scale / tick)
        return np.round(piece.seconds * factor).astype(np.int64)

    def _first(self, tick: Fraction) -> int:
        """The tick of the first row: captures often count from their trigger, so it may be negative."""
        if self.layout.counted or self.layout.time is None:
            return round(self.span[0]) + self._started(tick)
        return round(Fraction(self.span[0]) * Fraction(10) ** self.layout.scale / tick)

    def _started(self, tick: Fraction) -> int:
        """The tick of the sample that is numbered 0."""
        return round(self.shape.start / tick)

    def _names(self) -> tuple[str, ...]:
        names = self.layout.names()
        double = next((name for name in names if names.count(name) > 1), None)
        if double is not None:
            raise HushedError(f"two columns are called '{double}'", where=self.name, remedy="rename one of them")
        return tuple(names)

    @staticmethod
    def _joined(parts: list[NDArray[Any]]) -> NDArray[Any]:
        return np.concatenate(parts)

    def trace(self) -> Trace:
        """Of digital lines."""
        tick, even = self._tick()
        self._settle(tick, even)
        assert self.levels is not None
        changed, levels = self.changed.whole(), self.levels.whole()
        unknown: Levels | None = self.dark.whole() if self.blurred else None
        if not even and len(changed) > 1 and not (changed[1:] > changed[:-1]).all():  # of rows of one time the last one stays
            keep = np.append(changed[1:] != changed[:-1], True)
            changed, levels, unknown = changed[keep], levels[keep], None if unknown is None else unknown[keep]
        last = self._first(tick) + self.rows - 1
        if not even:
            last = round(self.span[1] * float(Fraction(10) ** self.layout.scale / tick))
            last = round(self.span[1]) + self._started(tick) if self.layout.counted else last
        return Trace(
            self._names(), changed, levels, last + 1, tick, unknown, 1 if even or self.layout.counted else 0, tuple(self.notes)
        )

    def waveforms(self) -> Waveforms:
        """Of lines in volts."""
        tick, even = self._tick()
        columns = tuple(self._joined(list(parts)) for parts in zip(*(piece.volts for piece in self.pieces), strict=True))
        times = self._joined(
            [self._ticks_of(piece, ahead, tick, even) for ahead, piece in zip(self.ahead, self.pieces, strict=True)]
        )
        fresh = np.append(times[1:] != times[:-1], True)
        if not fresh.all():  # of rows of one time the last one stays, as with levels
            what = f"{len(times) - int(fresh.sum())} of {len(times)} rows have the time of the row before, at no steady count: only the last of each was taken"
            self.notes.append(Note("", what))
            times, columns = times[fresh], tuple(column[fresh] for column in columns)
        return Waveforms(self._names(), times, columns, tick, int(times[-1]) + 1, 1 if even else 0)


def side_by_side(grids: list[Grid]) -> tuple[Trace | None, Waveforms | None]:
    """Columns that have a time each as one capture: levels merged, volts taken at the moments of the first (straight between two samples)."""
    if not all(grid.layout.volts for grid in grids):
        odd = next((grid for grid in grids if grid.layout.volts), None)
        if odd is not None:
            what = "some lines are in volts, others in levels"
            raise HushedError(what, where=odd.name, remedy="export them as two files, or all of them in volts")
        trace = grids[0].trace()
        for grid in grids[1:]:
            trace = merge(trace, grid.trace())
        return trace, None
    first, *others = [grid.waveforms() for grid in grids]
    names, volts = first.names, first.volts
    own = first.times * float(first.tick)
    for other in others:
        if set(names) & set(other.names):
            double = min(set(names) & set(other.names))
            raise HushedError(f"two columns are called '{double}'", where=grids[0].name, remedy="rename one of them")
        at = other.times * float(other.tick)
        same = len(at) == len(own) and bool((np.abs(at - own) < float(first.tick) / 1000).all())
        names += other.names
        volts += tuple(
            column if same else np.interp(own, at, column, left=np.nan, right=np.nan).astype(np.float32) for column in other.volts
        )
    return None, Waveforms(names, first.times, volts, first.tick, first.end, first.sample)
