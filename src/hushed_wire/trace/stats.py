"""What can be said of a single line: idle level, edges, shortest pulses, rate.

The idle level is what two of three say: the level at the start, at the end, and in the longest stretch in which no line of
the capture moves. Time alone would not tell: a data line may spend more of it low, in one long run of zeros, than idle.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .model import Edges, Times, Trace

__all__ = ["LineStatistics", "statistics"]


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


def statistics(trace: Trace) -> list[LineStatistics]:
    """Statistics of every line."""
    tallies = [_Tally() for _ in trace.names]
    pause, longest = trace.start, -1
    for piece in trace.pieces(PIECE) if len(trace) else ():
        steps = np.diff(piece.times, append=piece.end)
        at = int(np.argmax(steps))
        if int(steps[at]) > longest:
            pause, longest = int(piece.times[at]), int(steps[at])
        for line, tally in enumerate(tallies):
            tally.feed(piece.edges(line))
    return [_told(trace, line, tally, pause) for line, tally in enumerate(tallies)]


def _told(trace: Trace, line: int, tally: _Tally, pause: int) -> LineStatistics:
    """A line's statistics; pause: where the longest stretch begins in which no line moves."""
    votes = trace.level_at(line, np.array([trace.start, trace.end - 1, pause])).tolist()
    idle = next((name for level_now, name in ((0, "low"), (1, "high")) if votes.count(level_now) > 1), None)
    shortest = {value: trace.seconds(ticks) for value, ticks in tally.shortest.items()}
    steps = np.concatenate(tally.steps) if tally.steps else np.empty(0, np.int64)
    rate = 1 / trace.seconds(int(np.median(steps))) if len(steps) else None
    return LineStatistics(trace.names[line], idle, tally.rises, tally.falls, shortest.get(1), shortest.get(0), rate)
