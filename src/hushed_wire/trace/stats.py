"""What can be said of a single line: idle level, edges, shortest pulses, rate.

The idle level is what two of three say: the level at the start, at the end, and in the longest stretch in which no line of
the capture moves. Time alone would not tell: a data line may spend more of it low, in one long run of zeros, than idle.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from .model import Edges, Times, Trace

__all__ = ["LineStatistics", "Statistics"]


@dataclass(frozen=True)
class LineStatistics:
    """idle: the level while nothing moves, or None. shortest_high, shortest_low: seconds of whole pulses, or None.

    rate: hertz, from the usual distance of two rises where they come in trains; None with fewer than two.
    """

    name: str
    idle: str | None
    rises: int
    falls: int
    shortest_high: float | None
    shortest_low: float | None
    rate: float | None


PIECE = 1 << 18  # changes that are looked at together: a long capture needs no more room than a short one
SAMPLED = 1 << 17  # steps from rise to rise that are kept; of more than that one in so many


class _Tally:
    """What is known of a line so far. level, since: as it is now, and from when on, None at first."""

    def __init__(self) -> None:
        self.level: int | None = None
        self.since = 0
        self.whole = False  # whether the present level began within the capture
        self.rises = self.falls = 0
        self.shortest: dict[int, int] = {}
        self.last_rise: int | None = None
        self.steps: list[NDArray[np.int64]] = []
        self.every, self.kept = 1, 0

    def feed(self, edges: Edges) -> None:
        """The line in the next piece of the capture."""
        times, level = edges.times, edges.level
        if self.level is None:
            self.level, self.since = int(level[0]), int(times[0])
        if int(level[0]) == self.level:  # a piece begins with the state that was there
            times, level = times[1:], level[1:]
        if not len(times):
            return
        was = np.concatenate([[np.uint8(self.level)], level[:-1]])
        lasted = np.diff(times, prepend=self.since)
        inner = slice(0 if self.whole else 1, None)  # what began ahead of the capture lasted nobody knows how long
        for value in (0, 1):
            own = lasted[inner][was[inner] == value]
            if len(own):
                self.shortest[value] = min(self.shortest.get(value, int(own.min())), int(own.min()))
        up = (was == 0) & (level == 1)
        self.falls += int(np.count_nonzero((was == 1) & (level == 0)))
        self._rose(times[up])
        self.level, self.since, self.whole = int(level[-1]), int(times[-1]), True

    def _rose(self, moments: Times) -> None:
        self.rises += len(moments)
        if not len(moments):
            return
        steps = np.diff(moments) if self.last_rise is None else np.diff(moments, prepend=self.last_rise)
        self.last_rise = int(moments[-1])
        self.steps.append(steps[:: self.every])
        self.kept += len(self.steps[-1])
        if self.kept > SAMPLED:
            self.steps = [np.concatenate(self.steps)[::2]]
            self.every, self.kept = 2 * self.every, len(self.steps[0])


class Statistics:
    """Statistics of every line of a capture, block by block."""

    def __init__(self) -> None:
        self._tallies: list[_Tally] = []
        self._names: tuple[str, ...] = ()
        self._tick = Fraction(1)
        self._longest = -1
        self._idle = np.empty((3, 0), np.uint8)  # levels of all lines at the start, in the longest pause, and at the end

    def feed(self, block: Trace) -> None:
        """The next block."""
        if not len(block):
            return
        lines = range(len(block.names))
        if not self._tallies:
            self._names, self._tick = block.names, block.tick
            self._tallies = [_Tally() for _ in lines]
            self._idle = np.stack([_levels(block, block.start)] * 3)
        for piece in block.pieces(PIECE):
            steps = np.diff(piece.times, append=piece.end)
            at = int(np.argmax(steps))
            if int(steps[at]) > self._longest:
                self._longest = int(steps[at])
                self._idle[1] = _levels(piece, int(piece.times[at]))
            moved = int(np.bitwise_or.reduce(piece.levels ^ piece.levels[0]))
            for line, tally in enumerate(self._tallies):
                # Of a line that stays as it was there is nothing to be told; it has to be known for that.
                if piece.unknown is not None or moved >> line & 1 or tally.level != int(piece.levels[0]) >> line & 1:
                    tally.feed(piece.edges(line))
        self._idle[2] = _levels(block, block.end - 1)

    def told(self) -> list[LineStatistics]:
        """What is known by now."""
        return [self._told(line, tally) for line, tally in enumerate(self._tallies)]

    def _told(self, line: int, tally: _Tally) -> LineStatistics:
        tick = float(self._tick.numerator) / self._tick.denominator
        votes = self._idle[:, line].tolist()
        idle = next((name for level_now, name in ((0, "low"), (1, "high")) if votes.count(level_now) > 1), None)
        shortest = {value: ticks * self._tick.numerator / self._tick.denominator for value, ticks in tally.shortest.items()}
        steps = np.concatenate(tally.steps) if tally.steps else np.empty(0, np.int64)
        rate = 1 / (int(np.median(steps)) * tick) if len(steps) else None
        return LineStatistics(self._names[line], idle, tally.rises, tally.falls, shortest.get(1), shortest.get(0), rate)


def _levels(block: Trace, tick: int) -> NDArray[np.uint8]:
    """The levels of all lines at a tick."""
    at = np.array([tick])
    return np.array([block.level_at(line, at)[0] for line in range(len(block.names))], np.uint8)
