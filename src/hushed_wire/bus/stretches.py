"""Blocks of a capture put together to stretches that are measured one by one, so that what is needed on the way stays small however long it is.

Each ends in the middle of a rest, so that of all that is measured only the rest itself reaches from one to the next: who counts rests keeps where the
one before ended. Where nothing rests, a stretch ends where least happens.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import Any, Protocol, runtime_checkable

import numpy as np

from ..trace import Trace, joined
from ..trace.measured import Measured
from ..trace.model import Times

__all__ = ["ByEvents", "EachByItself", "Measurer", "Stretches"]

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


@runtime_checkable
class ByEvents(Measurer, Protocol):
    """A measurer that goes by what a decoder goes by; what it is fed may end anywhere."""

    def take(self, events: Any) -> None:
        """What the decoder found in the next block."""


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
        self._held: list[Trace] = []
        self._begin(None)

    def feed(self, block: Trace) -> Iterator[Trace]:
        """Blocks of any size, in order."""
        for piece in block.pieces(PART):
            self._hold(piece)
            while self._count >= self._wanted:
                at = self._rest if self._rest[0] >= AT_REST * self._usual else (0, 0)
                if self._wanted >= MOST * PART:
                    at = self._rest if self._rest[0] > 1 else self._still
                if at[0] < 2:
                    self._wanted += PART
                    continue
                trace = joined(self._held)
                yield trace.window(trace.start, at[1])
                self._begin(trace.window(at[1], trace.end))

    def finish(self) -> Iterator[Trace]:
        """The rest."""
        if self._held:
            yield joined(self._held)
            self._held = []

    def _begin(self, rest: Trace | None) -> None:
        """Begins the next stretch with what is left of the one before."""
        self._held, self._count, self._wanted = [], 0, PART + PART // 2
        # How long the longest rest is, in ticks, and its middle; the same of anything that lasts; how long rests usually are.
        self._rest = self._still = (0, 0)
        self._usual = 1.0
        if rest is not None:
            self._hold(rest)

    def _hold(self, piece: Trace) -> None:
        """Keeps a piece, and sees where a stretch of PART changes or more may end in it."""
        self._held.append(piece)
        early = max(0, PART - self._count)
        self._count += len(piece)
        lasts = np.diff(piece.times[early:], append=piece.end)
        if not len(lasts):
            return
        kind = piece.levels.dtype.type
        resting = (piece.levels[early:] & kind(self.mask)) == kind(self.idle)
        self._still = max(self._still, _longest(piece.times[early:], lasts))
        if resting.any():
            self._usual = float(np.median(lasts[resting][:SOME]))
            self._rest = max(self._rest, _longest(piece.times[early:], np.where(resting, lasts, 0)))


def _longest(times: Times, lasts: Times) -> tuple[int, int]:
    """The most ticks that something lasts, and the middle of that."""
    at = int(np.argmax(lasts))
    return int(lasts[at]), int(times[at]) + int(lasts[at]) // 2
