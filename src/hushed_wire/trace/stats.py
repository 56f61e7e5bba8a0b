"""What can be said of a single line: idle level, edges, shortest pulses, rate.

The idle level is what two of three say: the level at the start, at the end, and in the longest stretch in which no line of
the capture moves. Time alone would not tell: a data line may spend more of it low, in one long run of zeros, than idle.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from .model import Edges, Trace

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


def statistics(trace: Trace, line: int) -> LineStatistics:
    """Statistics of one line."""
    edges: Edges = trace.edges(line)
    level, lasted = edges.level, edges.durations()
    rises = np.flatnonzero((level[:-1] == 0) & (level[1:] == 1))
    falls = np.flatnonzero((level[:-1] == 1) & (level[1:] == 0))
    pause = int(np.argmax(np.diff(trace.times, append=trace.end)))
    votes = trace.level_at(line, np.array([trace.start, trace.end - 1, trace.times[pause]])).tolist()
    idle = next((name for level_now, name in ((0, "low"), (1, "high")) if votes.count(level_now) > 1), None)
    inner = slice(1, -1)
    shortest = {}
    for value in (0, 1):
        own = lasted[inner][level[inner] == value]
        shortest[value] = trace.seconds(int(own.min())) if len(own) else None
    rate = None
    if len(rises) > 1:
        rate = 1 / trace.seconds(int(np.median(np.diff(edges.times[rises + 1]))))
    return LineStatistics(trace.names[line], idle, len(rises), len(falls), shortest[1], shortest[0], rate)
