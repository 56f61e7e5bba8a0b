"""Recording lines as they move: edges from whatever watches them, as pieces of one trace, until a time is over or a condition holds.

A `Watch` gives edges in bursts, with the time stamps of who saw them. What it lost is unknown in the trace, not guessed.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from fractions import Fraction
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import word_type

__all__ = ["Burst", "Recorded", "Watch", "record"]

TICK = Fraction(1, 10**9)
BURST = 0.05  # seconds after which what came is passed on
LOOK = 0.2  # seconds between two looks whether a condition holds
REACH = 10.0  # seconds of the past in which it is looked for
WINDOW = 0.01  # seconds in which edges are counted for the rate that can be trusted


@dataclass(frozen=True)
class Burst:
    """Edges in the order of their times. time: (n,) nanoseconds since the watch began. line: (n,). level: (n,) 0 or 1, 2 where it became
    unknown as edges were lost. lost: how many were."""

    time: NDArray[np.int64]
    line: NDArray[np.intp]
    level: NDArray[np.uint8]
    lost: int = 0


class Watch(Protocol):
    """What sees the edges of some lines. names: of them. levels: how they stood as it began."""

    names: tuple[str, ...]
    levels: list[int]

    def take(self, seconds: float) -> Burst:
        """What came, waiting for so long at most."""

    def now(self) -> int:
        """Nanoseconds since it began: up to then all edges that there were have been seen, once they are taken."""

    def close(self) -> None:
        """Lets go of the lines."""


@dataclass
class Recorded:
    """What became of a recording. edges, lost: how many. closest: nanoseconds between two edges of one line at the least, 0 where none are.
    rate: edges a second in the busiest moment in which none was lost. lasted: seconds. found: tick at which the condition held, None where none
    did or none was asked for. stopped: somebody ended it."""

    edges: int = 0
    lost: int = 0
    closest: int = 0
    rate: float = 0.0
    lasted: float = 0.0
    found: int | None = None
    stopped: bool = False
    _last: dict[int, int] = field(default_factory=dict)

    def count(self, burst: Burst) -> None:
        """Takes a burst into account."""
        self.edges += int(np.count_nonzero(burst.level < 2))
        self.lost += burst.lost
        for line in np.unique(burst.line).tolist():
            times = burst.time[(burst.line == line) & (burst.level < 2)]
            if not len(times):
                continue
            steps = np.diff(times, prepend=self._last.get(line, times[0]))
            steps = steps[steps > 0]
            if len(steps):
                least = int(steps.min())
                self.closest = min(self.closest or least, least)
            self._last[line] = int(times[-1])
        if not burst.lost and len(burst.time) > 1:
            slots = np.bincount(((burst.time - burst.time[0]) // int(WINDOW * 1e9)).astype(np.int64))
            self.rate = max(self.rate, float(slots.max()) / WINDOW)


def record(
    watch: Watch,
    out: Recorded,
    lasts: float | None = None,
    until: Callable[[Trace], int | None] | None = None,
    ahead: float | None = None,
    burst: float = BURST,
) -> Iterator[Trace]:
    """Pieces of the trace as they come; what is to be told of it goes into `out`. lasts: seconds. until: the tick from which on a condition holds
    in a trace, None where it does not; then the recording ends. ahead: seconds of what came ahead of that which are kept, all where not given.

    Ends at KeyboardInterrupt, with what came until then.
    """
    joiner = _Joiner(watch)
    held: list[Trace] = [joiner.first()]
    if ahead is None:
        yield held[0]
    looked = 0.0
    begun = time.monotonic()
    try:
        while out.found is None and (lasts is None or time.monotonic() - begun < lasts):
            rest = burst if lasts is None else min(burst, max(0.0, lasts - (time.monotonic() - begun)))
            got = watch.take(rest)
            out.count(got)
            piece = joiner.piece(got)
            if piece is not None:
                held.append(piece)
                if ahead is None:
                    yield piece
            if until is None:
                held = held[-1:]
            elif time.monotonic() - looked >= LOOK:
                looked = time.monotonic()
                out.found = until(_joined(held, watch.now()))
                held = _recent(held, watch.now(), max(REACH, ahead or 0.0))
    except KeyboardInterrupt:
        out.stopped = True
    if until is not None and out.found is None:
        out.found = until(_joined(held, watch.now()))
    end = max(watch.now(), joiner.end)
    out.lasted = end * float(TICK)
    if ahead is not None:
        whole = _joined(held, end)
        first = whole.start if out.found is None else max(whole.start, out.found - round(ahead / TICK))
        yield whole.window(first, whole.end)
    else:
        yield replace(held[-1], times=held[-1].times[:0], levels=held[-1].levels[:0], unknown=None, end=end)


class _Joiner:
    """Bursts as pieces of a trace; keeps how all lines stand."""

    def __init__(self, watch: Watch) -> None:
        self.names = watch.names
        self.kind = word_type(len(watch.names))
        self.word = sum(1 << line for line, level in enumerate(watch.levels) if level == 1)
        self.hidden = sum(1 << line for line, level in enumerate(watch.levels) if level > 1)
        self.end = 1

    def first(self) -> Trace:
        """How all lines stood as it began."""
        return self._trace(np.zeros(1, np.int64), np.array([self.word]), np.array([self.hidden]))

    def _trace(self, times: NDArray[np.int64], words: NDArray[np.int64], hidden: NDArray[np.int64]) -> Trace:
        self.end = int(times[-1]) + 1
        unknown = hidden.astype(self.kind) if hidden.any() else None
        return Trace(self.names, times, words.astype(self.kind), self.end, TICK, unknown)

    def piece(self, burst: Burst) -> Trace | None:
        """None where nothing moved."""
        if not len(burst.time):
            return None
        count = len(burst.time)
        words, hidden = np.zeros(count, np.int64), np.zeros(count, np.int64)
        for line in range(len(self.names)):
            own = np.where(burst.line == line, burst.level.astype(np.int64), -1)
            at = np.maximum.accumulate(np.where(own >= 0, np.arange(count), -1))
            before = 2 if self.hidden >> line & 1 else self.word >> line & 1
            level = np.where(at >= 0, own[np.maximum(at, 0)], before)
            words |= (level == 1).astype(np.int64) << line
            hidden |= (level == 2).astype(np.int64) << line
        # Of several edges at one moment the last one counts; time never goes back over what was told.
        times = np.maximum(burst.time, self.end)
        last = np.append(times[1:] != times[:-1], True)
        self.word, self.hidden = int(words[-1]), int(hidden[-1])
        return self._trace(times[last], words[last], hidden[last])


def _joined(held: list[Trace], end: int) -> Trace:
    """Pieces as one trace."""
    from ..trace import joined

    whole = joined([piece for piece in held if len(piece)])
    return replace(whole, end=max(whole.end, end))


def _recent(held: list[Trace], now: int, seconds: float) -> list[Trace]:
    """Pieces without those that are over for so long, the state behind which the others go on from."""
    limit = now - round(seconds / TICK)
    at = 0
    while at + 1 < len(held) and held[at + 1].start <= limit:
        at += 1
    return held[at:]
