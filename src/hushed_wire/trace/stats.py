"""What can be said of a single line: idle level, edges, shortest pulses, rate.

The idle level is what two of three say: the level at the start, at the end, and in the longest stretch in which no line of
the capture moves. Time alone would not tell: a data line may spend more of it low, in one long run of zeros, than idle.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from .model import Trace
from .pulses import PIECE, Pulses, follow

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


class Statistics:
    """Statistics of every line of a capture, block by block."""

    def __init__(self) -> None:
        self._tallies: list[Pulses] = []
        self._names: tuple[str, ...] = ()
        self._tick = Fraction(1)
        self._longest = -1
        self._idle = np.empty((3, 0), np.uint8)  # levels of all lines at the start, in the longest pause, and at the end

    def feed(self, block: Trace) -> None:
        """The next block."""
        if not len(block):
            return
        if not self._tallies:
            self._names, self._tick = block.names, block.tick
            self._tallies = [Pulses() for _ in block.names]
            self._idle = np.stack([_levels(block, block.start)] * 3)
        for piece in block.pieces(PIECE):
            steps = np.diff(piece.times, append=piece.end)
            at = int(np.argmax(steps))
            if int(steps[at]) > self._longest:
                self._longest = int(steps[at])
                self._idle[1] = _levels(piece, int(piece.times[at]))
        follow(dict(enumerate(self._tallies)), block)
        self._idle[2] = _levels(block, block.end - 1)

    def told(self) -> list[LineStatistics]:
        """What is known by now."""
        return [self._told(line, tally) for line, tally in enumerate(self._tallies)]

    def _told(self, line: int, tally: Pulses) -> LineStatistics:
        tick = float(self._tick.numerator) / self._tick.denominator
        votes = self._idle[:, line].tolist()
        idle = next((name for level_now, name in ((0, "low"), (1, "high")) if votes.count(level_now) > 1), None)
        high, low = (
            int(own.least) * self._tick.numerator / self._tick.denominator if len(own) else None
            for own in (tally.high, tally.low)
        )
        rate = 1 / (int(tally.steps.typical) * tick) if len(tally.steps) else None
        return LineStatistics(self._names[line], idle, tally.rises, tally.falls, high, low, rate)


def _levels(block: Trace, tick: int) -> NDArray[np.uint8]:
    """The levels of all lines at a tick."""
    at = np.array([tick])
    return np.array([block.level_at(line, at)[0] for line in range(len(block.names))], np.uint8)
