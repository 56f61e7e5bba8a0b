"""Blocks of a capture put together to stretches that are measured one by one, so that what is needed on the way stays small however long it is.

Each ends in the middle of a rest, so that of all that is measured only the rest itself reaches from one to the next: who counts rests keeps where the
one before ended. Where nothing rests, a stretch ends where least happens.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Protocol

import numpy as np

from ..trace import Trace, joined
from ..trace.measured import Measured
from ..trace.model import Times

__all__ = ["EachByItself", "Measurer", "Stretches"]

PART = 1 << 16  # changes of a stretch: what they need on the way fits into the cache
MOST = 16  # times as many, from which on it ends whether anything rests or not
SOME = 1 << 12  # rests by which it is told how long they usually are
AT_REST = 4  # times as long as lines usually rest between two changes


class Measurer(Protocol):
    """Takes the stretches of a capture, in order, and tells what was measured, by what the kind's measures call it."""

    def feed(self, stretch: Trace) -> None:
        """The next stretch."""

    def told(self) -> Mapping[str, Measured]:
        """What was measured by now."""


class EachByItself:
    """A measurer of what is measured in a stretch as if there were no other."""

    def __init__(self, measure: Callable[[Trace], Mapping[str, Measured]]) -> None:
        """measure: what is measured in a trace."""
        self.measure = measure
        self.parts: dict[str, list[Measured]] = {}

    def feed(self, stretch: Trace) -> None:
        """The next stretch."""
        for name, own in self.measure(stretch).items():
            self.parts.setdefault(name, []).append(own)

    def told(self) -> Mapping[str, Measured]:
        """What was measured by now."""
        return {name: Measured.join(own) for name, own in self.parts.items()}


class Stretches:
    """`feed` blocks, then `finish`; each gives the stretches that are complete."""

    def __init__(self, mask: int, idle: int) -> None:
        """mask: lines by which it is told whether the bus rests, packed. idle: their levels then."""
        self.mask, self.idle = mask, idle
        self.held: list[Trace] = []
        self.wanted = PART + PART // 2

    def feed(self, block: Trace) -> Iterator[Trace]:
        """Blocks of any size, in order."""
        for piece in block.pieces(PART):
            self.held.append(piece)
            while sum(map(len, self.held)) >= self.wanted and (done := self._cut()) is not None:
                yield done

    def finish(self) -> Iterator[Trace]:
        """The rest."""
        if self.held:
            yield joined(self.held)
            self.held = []

    def _cut(self) -> Trace | None:
        """A stretch, cut off what is held; None where more is to be waited for."""
        trace = joined(self.held)
        lasts, rests = self._behind(trace)
        waited = self.wanted >= MOST * PART
        if waited and not rests.any():
            rests = lasts
        longest = int(np.argmax(rests))
        enough = 2.0 if waited or not rests.any() else AT_REST * float(np.median(rests[rests > 0][:SOME]))
        if int(rests[longest]) < enough:
            self.held, self.wanted = [trace], self.wanted + PART
            return None
        middle = int(trace.times[PART + longest]) + int(rests[longest]) // 2
        self.held, self.wanted = [trace.window(middle, trace.end)], PART + PART // 2
        return trace.window(trace.start, middle)

    def _behind(self, trace: Trace) -> tuple[Times, Times]:
        """How long each level lasts from the PART-th change on; and the same, 0 where it is none of rest."""
        kind = trace.levels.dtype.type
        lasts = np.diff(trace.times[PART:])
        resting = (trace.levels[PART:-1] & kind(self.mask)) == kind(self.idle)
        return lasts, np.where(resting, lasts, 0)
