"""The trace: lines over time, as columns.

Strategy: a capture is kept as the moments at which anything changed, never as samples. `times` are int64 ticks, strictly
ascending; `levels` holds one packed word a change, bit i being line i; only where something is not known there is a
second plane, `unknown`, packed the same way (a bit that is unknown reads 0 in `levels`). The first entry is the state at
the moment where the trace (or a block of it) starts. The tick is exact; seconds appear only at the edge.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError, nearest
from ..room import give_back
from .column import Column

__all__ = [
    "MAX_LINES",
    "TOO_MANY",
    "Edges",
    "Levels",
    "Note",
    "Samples",
    "Times",
    "Trace",
    "Waveforms",
    "first_of",
    "fold",
    "joined",
    "as_changes",
    "word_type",
    "written_names",
]

Times = NDArray[np.int64]
Levels = NDArray[Any]  # an unsigned type, wide enough for the lines

MAX_LINES = 64
TOO_MANY = "name those you need with --line ROLE=LINE, or --only LINE"
GRIDDED = 16  # changes from which on the grid that they lie on says how finely they are told
LOW, HIGH, UNKNOWN = 0, 1, 2  # levels in columns of changes


@dataclass(frozen=True, slots=True)
class Note:
    """Something a reader met and went on after: a finding code or "" and a sentence."""

    code: str
    text: str


@dataclass(frozen=True, slots=True, eq=False)
class Edges:
    """One line: `times` (n,) int64 ticks of its changes, the first being the start; `level` (n,) of 0, 1 or 2 (unknown)."""

    times: Times
    level: NDArray[np.uint8]
    end: int

    def durations(self) -> Times:
        """How long each level lasted, (n,) ticks; the first and the last are clipped by the capture."""
        return np.diff(self.times, append=self.end)

    def to(self, level: int) -> Times:
        """The moments at which it goes to a level from the other; an edge out of or into the unknown is none."""
        moved = self.level[1:] == level
        moved &= self.level[:-1] == 1 - level
        found: Times = self.times[1:][moved]
        return found

    def share(self, level: int) -> float:
        """The share of the time for which the line has a level."""
        lasts = self.durations()
        return float(lasts[self.level == level].sum()) / max(1, int(lasts.sum()))


@dataclass(frozen=True, slots=True, eq=False)
class Waveforms:
    """Lines in volts. times: (n,) ticks. volts: one (n,) float32 a line. sample: ticks between samples, 0 if irregular."""

    names: tuple[str, ...]
    times: Times
    volts: tuple[NDArray[np.float32], ...]
    tick: Fraction
    end: int
    sample: int


@dataclass(frozen=True, slots=True, eq=False)
class Trace:
    """Lines over time.

    names: one per line. times: (n,) int64 ticks. levels: (n,) packed. end: tick at which the trace ends.
    tick: seconds a tick, exact. unknown: (n,) packed or None. sample: ticks between samples, 0 when that is not told.
    volts: for captures in volts, (low, high, threshold) of each line. grain: ticks by which times may be off, where samples lie between ticks.
    turned: lines whose levels are the other way round than they were captured. waves: the same in volts, where it was captured so, whatever part
    of it this is.
    """

    names: tuple[str, ...]
    times: Times
    levels: Levels
    end: int
    tick: Fraction
    unknown: Levels | None = None
    sample: int = 0
    notes: tuple[Note, ...] = ()
    volts: tuple[tuple[float, float, float], ...] = ()
    grain: int = 0
    turned: frozenset[str] = frozenset()
    waves: Waveforms | None = None

    def turned_as(self, lines: frozenset[str]) -> Trace:
        """The same with these lines, and no others, the other way round than they were captured."""
        mask = _mask_of(self.names, lines ^ self.turned)
        levels = self.levels ^ self.levels.dtype.type(mask) if mask else self.levels
        return replace(self, levels=levels, turned=lines) if lines != self.turned else self

    def __len__(self) -> int:
        return len(self.times)

    @property
    def start(self) -> int:
        """Tick at which the trace starts."""
        return int(self.times[0]) if len(self.times) else self.end

    @property
    def duration(self) -> float:
        """Seconds."""
        return self.seconds(self.end - self.start)

    def seconds(self, ticks: int) -> float:
        """A number of ticks in seconds."""
        return int(ticks) * self.tick.numerator / self.tick.denominator

    def ticks(self, seconds: Fraction | float) -> int:
        """Seconds in ticks, rounded to the nearest."""
        return round(Fraction(seconds) / self.tick)

    def index(self, line: str) -> int:
        """The number of a line given by its name or its number; raises HushedError naming the nearest names."""
        if line in self.names:
            return self.names.index(line)
        folded = ["_".join(name.lower().split()) for name in self.names]  # files that know no spaces have _ for them
        alike = "_".join(line.lower().split())
        if folded.count(alike) == 1:
            return folded.index(alike)
        if line.isdecimal() and int(line) < len(self.names):
            return int(line)
        raise HushedError(f"the capture has no line '{line}'", remedy=nearest(line, self.names))

    def edges(self, line: int) -> Edges:
        """The changes of one line."""
        level = _bit(self.levels, line)
        if self.unknown is not None:
            level = np.where(_bit(self.unknown, line) != 0, np.uint8(UNKNOWN), level)
        keep = np.empty(len(level), dtype=bool)
        keep[:1] = True
        np.not_equal(level[1:], level[:-1], out=keep[1:])
        if keep.all():  # the only line that moves
            return Edges(self.times, level, self.end)
        at = np.flatnonzero(keep)
        if self.unknown is None and len(at):  # then both levels take turns
            first = int(level[0])
            level = np.empty(len(at), np.uint8)
            level[::2], level[1::2] = first, 1 - first
        else:
            level = level.take(at, mode="clip")
        return Edges(self.times.take(at, mode="clip"), level, self.end)

    def level_at(self, line: int, ticks: Times) -> NDArray[np.uint8]:
        """The level of a line at each of `ticks`: 0, 1 or 2 (unknown)."""
        return self.level_of(line, np.maximum(np.searchsorted(self.times, ticks, side="right") - 1, 0))

    def level_of(self, line: int, at: NDArray[np.int64]) -> NDArray[np.uint8]:
        """The level of a line from each of some entries on: 0, 1 or 2 (unknown)."""
        level = _bit(self.levels[at], line)
        if self.unknown is not None:
            level = np.where(_bit(self.unknown[at], line) != 0, np.uint8(UNKNOWN), level)
        return level

    def window(self, start: int, end: int) -> Trace:
        """The part from tick `start` to tick `end`; its first entry is the state at `start`."""
        start, end = max(start, self.start), min(end, self.end)
        if start >= end:
            raise HushedError(
                "nothing of the capture lies in that window",
                remedy=f"it runs from {self.seconds(self.start):g} s to {self.seconds(self.end):g} s",
            )
        first = int(np.searchsorted(self.times, start, side="right")) - 1
        last = int(np.searchsorted(self.times, end, side="left"))
        times = self.times[first:last]
        if int(times[0]) != start:
            times = times.copy()
            times[0] = start
        unknown = None if self.unknown is None else self.unknown[first:last]
        return replace(self, times=times, levels=self.levels[first:last], unknown=unknown, end=end)

    def only(self, mask: int) -> Trace:
        """The same where nothing but some lines changes (`mask`, packed); the others stay low. Kept lines keep their numbers."""
        kind = self.levels.dtype.type
        unknown = None if self.unknown is None else self.unknown & kind(mask)
        grain = 0 if self.sample else self.resolution()  # of what is left it could not be told
        if not mask:
            return replace(self, times=self.times[:1].copy(), levels=np.zeros_like(self.levels[:1]), unknown=None, grain=grain)
        times, levels, unknown = _without_repeats(self.times, self.levels & kind(mask), unknown)
        return replace(self, times=times, levels=levels, unknown=unknown, grain=grain)

    def pieces(self, most: int = 1 << 20) -> Iterator[Trace]:
        """The same as blocks of at most so many changes, in order."""
        if len(self.times) <= most:
            yield self
            return
        for first in range(0, max(1, len(self.times)), most):
            part = slice(first, first + most)
            end = int(self.times[first + most]) if first + most < len(self.times) else self.end
            unknown = None if self.unknown is None else self.unknown[part]
            yield replace(self, times=self.times[part], levels=self.levels[part], unknown=unknown, end=end)

    def select(self, lines: list[int], names: tuple[str, ...] | None = None) -> Trace:
        """Only these lines, in this order, under these names."""
        width = word_type(len(lines))

        def pick(plane: Levels) -> Levels:
            out = np.zeros(len(plane), dtype=width)
            for to, line in enumerate(lines):
                out |= _bit(plane, line).astype(width) << width(to)
            return out

        levels = pick(self.levels)
        unknown = None if self.unknown is None else pick(self.unknown)
        times, levels, unknown = _without_repeats(self.times, levels, unknown)
        volts = tuple(self.volts[line] for line in lines) if self.volts else ()
        chosen = names or tuple(self.names[line] for line in lines)
        return replace(self, names=chosen, times=times, levels=levels, unknown=unknown, volts=volts)

    def resolution(self) -> int:
        """Ticks by which a time may be off: the sample interval where it is told, else the grid on which all changes lie.

        The grid of a handful of changes says nothing.
        """
        if self.sample or self.grain:
            return self.sample or self.grain
        if len(self.times) < GRIDDED:
            return 1
        return max(1, int(np.gcd.reduce(np.diff(self.times))))


@dataclass(frozen=True, slots=True, eq=False)
class Samples:
    """A piece of raw samples, as it lies in a buffer that the next piece is read into.

    start: tick of the first sample; a sample a tick. levels: (n + 1,) packed, entry 0 being the sample ahead of the piece.
    mask: the lines that matter. scratch: (n,) room for a truth value a sample.
    """

    names: tuple[str, ...]
    start: int
    levels: Levels
    tick: Fraction
    notes: tuple[Note, ...]
    mask: Any
    scratch: NDArray[np.bool_]
    turned: frozenset[str] = frozenset()

    def turned_as(self, lines: frozenset[str]) -> Samples:
        """The same with these lines, and no others, the other way round than they were captured."""
        mask = _mask_of(self.names, lines ^ self.turned)
        levels = self.levels ^ self.levels.dtype.type(mask) if mask else self.levels
        return replace(self, levels=levels, turned=lines) if lines != self.turned else self

    @property
    def end(self) -> int:
        """Tick behind the last sample."""
        return self.start + len(self.levels) - 1

    def until(self, tick: int) -> Samples:
        """The part ahead of a tick."""
        count = tick - self.start
        return replace(self, levels=self.levels[: count + 1], scratch=self.scratch[:count])

    def only(self, mask: int) -> Trace:
        """Its changes, where nothing but some lines changes; see `Trace.only`."""
        if mask:
            return self.trace().only(mask)
        still = np.zeros(1, self.levels.dtype)
        start = np.array([self.start])
        return Trace(self.names, start, still, self.end, self.tick, None, 1, self.notes, turned=self.turned)

    def trace(self) -> Trace:
        """The changes of the lines that matter."""
        levels = self.levels
        if int(self.mask) != np.iinfo(levels.dtype).max:
            np.bitwise_and(levels, self.mask, out=levels)
        np.not_equal(levels[1:], levels[:-1], out=self.scratch)
        self.scratch[0] = True  # the state at the start of the piece
        at = np.flatnonzero(self.scratch)
        changed = levels[1:].take(at, mode="clip")
        return Trace(self.names, at + self.start, changed, self.end, self.tick, None, 1, self.notes, turned=self.turned)


def _mask_of(names: tuple[str, ...], lines: frozenset[str]) -> int:
    return sum(1 << number for number, name in enumerate(names) if name in lines)


def as_changes(block: Trace | Samples) -> Trace:
    """A block as changes, whatever it is."""
    return block if isinstance(block, Trace) else block.trace()


def first_of(names: list[str], most: int = 6) -> str:
    """The first names of a long list."""
    return ", ".join(names[:most]) + (", …" if len(names) > most else "")


def written_names(names: tuple[str, ...], spaces: bool) -> list[str]:
    """Names as a text file can hold them: no control characters, no blank ends, none empty, no two the same. spaces: they may stand inside."""
    out: list[str] = []
    for number, name in enumerate(names):
        clean = re.sub(r"[\0-\x1f\x7f-\x9f\u2028\u2029]", "_" if spaces else " ", name).strip()
        clean = (clean if spaces else "_".join(clean.split())) or f"line{number}"
        written, again = clean, 1
        while written in out:
            again += 1
            written = f"{clean}_{again}"
        out.append(written)
    return out


def word_type(lines: int) -> type[Any]:
    """The smallest unsigned type that holds one bit a line; raises HushedError beyond 64."""
    for bits, kind in ((8, np.uint8), (16, np.uint16), (32, np.uint32), (MAX_LINES, np.uint64)):
        if lines <= bits:
            return kind
    raise HushedError(f"the capture has {lines} lines; {MAX_LINES} fit", remedy=TOO_MANY)


def _bit(plane: Levels, line: int) -> NDArray[np.uint8]:
    kind = plane.dtype.type
    bits: NDArray[np.uint8] = ((plane >> kind(line)) & kind(1)).astype(np.uint8)
    return bits


def _without_repeats(times: Times, levels: Levels, unknown: Levels | None) -> tuple[Times, Levels, Levels | None]:
    """Drops entries at which nothing changed; keeps the first, which is the state at the start."""
    keep = np.empty(len(times), dtype=bool)
    keep[:1] = True
    np.not_equal(levels[1:], levels[:-1], out=keep[1:])
    if unknown is not None:
        keep[1:] |= unknown[1:] != unknown[:-1]
        unknown = unknown[keep]
        if not unknown.any():
            unknown = None
    return times[keep], levels[keep], unknown


def fold(
    times: Times,
    lines: NDArray[Any],
    values: NDArray[np.uint8],
    width: int,
    before: tuple[int, int] = (0, 0),
    repeats: bool = False,
) -> tuple[Times, Levels, Levels | None]:
    """Changes of single lines to packed words: the one place where columns of changes become a trace.

    times: (n,) ascending ticks, equal ones allowed (the last change of a line at a time wins). lines: (n,) line numbers.
    values: (n,) of 0, 1 or 2 (unknown). width: number of lines. before: (levels, unknown) packed, ahead of the first change.
    Returns times, levels and unknown plane (or None) without repeated states, unless `repeats` asks to keep them.
    """
    kind = word_type(width)
    if len(times) == 0:
        return times.astype(np.int64), np.empty(0, kind), None
    group_end = np.flatnonzero(np.append(times[1:] != times[:-1], True))
    order = np.argsort(lines, kind="stable")
    by_line, sorted_values = lines[order], values[order]
    shift = lines.astype(np.uint64)

    def plane(sorted_bits: NDArray[np.bool_], start: int) -> Levels:
        # Each change adds (new - old) << line; wrapping sums of these are the packed state after every change.
        old = np.empty(len(sorted_bits), dtype=bool)
        old[1:] = sorted_bits[:-1]
        first = np.append(True, by_line[1:] != by_line[:-1])
        old[first] = (np.uint64(start) >> by_line[first].astype(np.uint64)) & np.uint64(1)
        delta = np.empty(len(order), dtype=np.int64)
        delta[order] = sorted_bits.astype(np.int64) - old
        packed = np.cumsum(delta.view(np.uint64) << shift, dtype=np.uint64) + np.uint64(start)
        return packed[group_end].astype(kind)

    levels = plane(sorted_values == HIGH, before[0])
    unknown = plane(sorted_values == UNKNOWN, before[1]) if before[1] or (values == UNKNOWN).any() else None
    if repeats:
        return times[group_end], levels, unknown
    return _without_repeats(times[group_end], levels, unknown)


OFTEN = 4 << 20  # changes after which what lies free is given back


def joined(blocks: Iterable[Trace]) -> Trace:
    """Blocks of one capture, in order, as one trace without repeats. A block is copied and let go, so a long capture is held once."""
    times, planes = Column(np.int64), [Column(np.uint8), Column(np.uint8)]  # levels, and what is unknown
    blurred, before, last, since = False, None, None, 0
    for block in blocks:
        if last is None:
            planes = [Column(block.levels.dtype), Column(block.levels.dtype)]
        last = replace(block, times=block.times[:0], levels=block.levels[:0], unknown=None)
        if block.unknown is not None and not blurred:
            blurred = True
            planes[1].add(np.zeros(planes[0].count, planes[1].kind))
        if not len(block.times):
            continue
        unknown = (
            block.unknown if block.unknown is not None else np.zeros(len(block.levels) if blurred else 0, block.levels.dtype)
        )
        keep = np.empty(len(block.times), bool)
        keep[0] = before is None or (int(block.levels[0]), int(unknown[0]) if blurred else 0) != before
        np.not_equal(block.levels[1:], block.levels[:-1], out=keep[1:])
        if blurred:
            keep[1:] |= unknown[1:] != unknown[:-1]
        before = int(block.levels[-1]), int(unknown[-1]) if blurred else 0
        # What a block begins with is most often the state that was there.
        which: Any = keep if not keep[1:].all() else slice(0 if keep[0] else 1, None)
        times.add(block.times[which])
        since += len(block.times)
        if since > OFTEN:
            give_back()
            since = 0
        planes[0].add(block.levels[which])
        if blurred:
            planes[1].add(unknown[which])
    if last is None:
        raise HushedError("the capture holds nothing")
    dark = planes[1].whole() if blurred else None
    if times.count > OFTEN:
        give_back()
    return replace(last, times=times.whole(), levels=planes[0].whole(), unknown=dark if dark is not None and dark.any() else None)
