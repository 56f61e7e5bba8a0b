"""One line, followed through a capture of any length: how often it changes, and how long it stays at each level.

What is kept does not grow with the capture, so rules and statistics can be asked of a line whose changes nobody holds.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .measured import Cycles, Growing, Measured, narrowed
from .model import HIGH, LOW, UNKNOWN, Edges, Times, Trace

__all__ = ["Pulses", "follow"]

PIECE = 1 << 18  # changes that are looked at together: a long capture needs no more room than a short one
OPENING = 3  # first changes whose ticks are kept


class Pulses:
    """opened: the level at the start, 2 where it is unknown, None ahead of everything. level, since: as it is now, and from when on.

    opening: ticks of the first changes. changes, rises, falls: how many; an edge out of or into the unknown is neither rise nor fall.
    blurs: stretches of unknown that begin within the capture; blurred: the tick of the first.
    """

    def __init__(self) -> None:
        self.opened: int | None = None
        self.level = UNKNOWN
        self.since = 0
        self.opening: list[int] = []
        self.changes = self.rises = self.falls = self.blurs = 0
        self.blurred: int | None = None
        self._lasted = Growing(), Growing(), Growing()  # by level
        self._cycles, self._steps = Cycles(), Growing()
        self._last: int | None = None  # rise

    def feed(self, edges: Edges) -> None:
        """The line in the next piece of the capture."""
        times, level = edges.times, edges.level
        if self.opened is None:
            self.opened, self.level, self.since = int(level[0]), int(level[0]), int(times[0])
        if int(level[0]) == self.level:  # a piece begins with the state that was there
            times, level = times[1:], level[1:]
        if not len(times):
            return
        since, ticks = narrowed(times, self.since)
        began, lasted = ticks[:-1], ticks[1:] - ticks[:-1]
        whole = 0 if self.changes else 1  # what began ahead of the capture lasted nobody knows how long
        if max(self.level, int(level.max())) < UNKNOWN:  # then both levels take turns
            self._in_turns(since, began, lasted, times, whole)
        else:
            was = np.concatenate([[np.uint8(self.level)], level[:-1]])
            for value in (LOW, HIGH, UNKNOWN):
                own = np.flatnonzero(was[whole:] == value) + whole
                self._lasted[value].add(lasted[own], began[own], since=since)
            self._rose(times[(was == LOW) & (level == HIGH)])
            self.falls += int(np.count_nonzero((was == HIGH) & (level == LOW)))
            self._blurred(times[level == UNKNOWN])
        self.changes += len(times)
        self.opening += times[: OPENING - len(self.opening)].tolist()
        self.level, self.since = int(level[-1]), int(times[-1])

    def _in_turns(self, since: int, began: NDArray[Any], lasted: NDArray[Any], times: Times, whole: int) -> None:
        """Levels that take turns: whole cycles from rise to rise, and what is left over at both ends. whole: the first that lasted its time."""
        first = 0 if self.level == HIGH and self._last == self.since else 1 + self.level
        last = first + max(0, len(lasted) - first) // 2 * 2
        self._cycles.add(lasted[first:last:2], lasted[first + 1 : last : 2], began[first:last:2], since)
        for at in (*range(whole, min(first, len(lasted))), *range(max(whole, last), len(lasted))):
            self._lasted[self.level ^ at & 1].add(lasted[at : at + 1], began[at : at + 1], since=since)
        if first:
            self._rose(times[first - 1 : first])
        # Rises that cycles end with; of all the levels' turns, those upwards, but for the one ahead of the first cycle.
        more = (len(times) + 1 - self.level) // 2 - min(1, first)
        if more > 0:
            self.rises += more
            self._last = int(times[first - 1 + 2 * more])
        self.falls += (len(times) + self.level) // 2

    def _rose(self, times: Times) -> None:
        """Rises that no cycle ends with."""
        if not len(times):
            return
        self.rises += len(times)
        since, ticks = narrowed(times) if self._last is None else narrowed(times, self._last)
        self._last = int(times[-1])
        self._steps.add(ticks[1:] - ticks[:-1], ticks[1:], since=since)

    def _blurred(self, times: Times) -> None:
        self.blurs += len(times)
        if len(times) and self.blurred is None:
            self.blurred = int(times[0])

    @cached_property
    def _turns(self) -> tuple[Measured, Measured, Measured]:
        """High and low halves of whole cycles, and these."""
        return self._cycles.told()

    @cached_property
    def low(self) -> Measured:
        """How long it was low, of whole stretches, and when each length began first. Nothing is fed any more."""
        return Measured.join([self._lasted[LOW].told(), self._turns[1]])

    @cached_property
    def high(self) -> Measured:
        """The same of high ones."""
        return Measured.join([self._lasted[HIGH].told(), self._turns[0]])

    @cached_property
    def lasted(self) -> Measured:
        """The same of all."""
        return Measured.join([self.low, self.high, self._lasted[UNKNOWN].told()])

    @cached_property
    def steps(self) -> Measured:
        """From each rise to the next, and when each length ended first."""
        return Measured.join([self._steps.told(), self._turns[2].ended])


def follow(lines: Mapping[int, Pulses], block: Trace) -> None:
    """Feeds the next block of a capture to those of its lines that are followed, by their numbers."""
    for piece in block.pieces(PIECE) if len(block) else ():
        moved = int(np.bitwise_or.reduce(piece.levels ^ piece.levels[0]))
        for line, own in lines.items():
            # Of a line that stays as it was there is nothing to be told; it has to be known for that.
            same = own.opened is not None and own.level == int(piece.levels[0]) >> line & 1
            if piece.unknown is not None or moved >> line & 1 or not same:
                own.feed(piece.edges(line))
