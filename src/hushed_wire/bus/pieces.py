"""What decoders that are fed a capture block by block share: entries of a block with the state ahead of it, and pauses between words.

Everything here depends only on what came before, never on where blocks begin, so that results are the same for any size of block.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Levels, Samples, Times

__all__ = ["Pauses", "States"]


class States:
    """The states of a capture's lines, block by block. `levels` and `unknown` have the state ahead of the block as entry 0.

    Of raw samples every sample is an entry, so that only the edges that somebody asks for are looked for.
    """

    def __init__(self) -> None:
        self._times: Times | int = 0  # (n,) ticks of the entries, whose states are entries 1 to n; or that of the first sample
        self.levels: Levels = np.empty(0, np.uint8)
        self.unknown: Levels | None = None
        self._last: tuple[int, int] | None = None
        self._room: Levels = np.empty(0, np.uint8)  # used again for every look, as fresh pages cost more than the look itself
        self._moved = np.empty(0, bool)

    def feed(self, block: Trace | Samples) -> None:
        """Takes a block; the first one has nothing ahead of it but its own first state."""
        if isinstance(block, Samples):
            self._times, self.levels, self.unknown = block.start, block.levels, None
            self._last = int(block.levels[-1]), 0
            return
        kind = block.levels.dtype.type
        if not len(block.times):
            self._times, self.levels, self.unknown = block.times, block.levels[:0], None
            return
        before = self._last or (int(block.levels[0]), 0 if block.unknown is None else int(block.unknown[0]))
        self._times = block.times
        self.levels = np.concatenate([np.array([before[0]], kind), block.levels])
        self.unknown = None
        if block.unknown is not None or before[1]:
            plane = np.zeros_like(block.levels) if block.unknown is None else block.unknown
            self.unknown = np.concatenate([np.array([before[1]], kind), plane])
        self._last = int(block.levels[-1]), 0 if block.unknown is None else int(block.unknown[-1])

    def clear(self, line: int) -> NDArray[np.bool_] | None:
        """(n + 1,) whether a line is known; None where it always is."""
        if self.unknown is None:
            return None
        out: NDArray[np.bool_] = (self.unknown & self.unknown.dtype.type(1 << line)) == 0
        return out

    def look(self, line: int, compare: Any) -> NDArray[np.bool_]:
        """(n,) how each entry's level of a line compares with the one ahead, in room that the next look takes again."""
        levels = self.levels
        if self._room.dtype != levels.dtype or len(self._room) < len(levels):
            self._room, self._moved = np.empty_like(levels), np.empty(len(levels), bool)
        own = np.bitwise_and(levels, levels.dtype.type(1 << line), out=self._room[: len(levels)])
        out: NDArray[np.bool_] = compare(own[1:], own[:-1], out=self._moved[: len(levels) - 1])
        return out

    def to(self, line: int, level: int) -> NDArray[np.int64]:
        """Entries of the block at which a line goes to a level from the other one; not out of or into the unknown."""
        if not len(self.levels):
            return np.empty(0, np.int64)
        moved = self.look(line, np.greater if level else np.less)
        known = self.clear(line)
        if known is not None:
            moved &= known[1:] & known[:-1]
        return np.flatnonzero(moved)

    def moves(self, line: int) -> tuple[NDArray[np.int64], NDArray[np.uint8]]:
        """Entries at which a line goes from one level to the other, and the level that it goes to."""
        if not len(self.levels):
            return np.empty(0, np.int64), np.empty(0, np.uint8)
        moved = self.look(line, np.not_equal)
        known = self.clear(line)
        if known is not None:
            moved &= known[1:] & known[:-1]
        at = np.flatnonzero(moved)
        return at, (self.levels.take(at + 1) & self.levels.dtype.type(1 << line) != 0).astype(np.uint8)

    def when(self, entries: NDArray[np.int64]) -> Times:
        """(k,) ticks of entries of the block."""
        return entries + self._times if isinstance(self._times, int) else self._times.take(entries)

    def bit(self, line: int, entries: NDArray[np.int64], ahead: bool = True) -> NDArray[np.uint8]:
        """(k,) level of a line just ahead of entries of the block (or with them): 0, 1, or 2 where it is unknown."""
        at = entries if ahead else entries + 1
        if not len(at):
            return np.empty(0, np.uint8)
        levels = self.levels.take(at, mode="clip")
        bits: NDArray[np.uint8] = (levels >> levels.dtype.type(line)).astype(np.uint8, copy=False) & np.uint8(1)
        if self.unknown is not None:
            bits[(self.unknown[at] >> self.unknown.dtype.type(line)) & 1 == 1] = 2
        return bits


class Pauses:
    """Tells a pause from the usual step between moments: one that is so many times as long as the shortest step up to then."""

    def __init__(self, times: int) -> None:
        self.times = times
        self.shortest = int(np.iinfo(np.int64).max) // (4 * times)
        self.last: int | None = None
        self.longest: int | None = None  # the longest step that was no pause, where somebody set it to 0 to know

    def feed(self, moments: Times) -> NDArray[np.bool_]:
        """(n,) whether a pause is ahead of each moment; nothing is ahead of the very first."""
        if not len(moments):
            return np.empty(0, bool)
        first = moments[0] if self.last is None else self.last
        steps = np.diff(moments, prepend=first)
        if int(steps.min()) >= self.shortest:  # nearly always, behind the beginning
            self.last = int(moments[-1])
            return self._told(steps, steps > self.times * self.shortest)
        known: NDArray[Any] = np.where(steps > 0, steps, self.shortest)
        least = np.minimum.accumulate(np.append(self.shortest, known))
        self.shortest, self.last = int(least[-1]), int(moments[-1])
        return self._told(steps, steps > self.times * least[:-1])

    def _told(self, steps: Times, out: NDArray[np.bool_]) -> NDArray[np.bool_]:
        if self.longest is not None:
            self.longest = max(self.longest, int((np.where(out, 0, steps) if out.any() else steps).max()))
        return out

    def over(self, end: int) -> bool:
        """Whether what comes at the end of the capture would come behind a pause."""
        return self.last is not None and end - self.last > self.times * self.shortest
