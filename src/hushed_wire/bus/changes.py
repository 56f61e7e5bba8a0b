"""What encoders and edge-driven decoders of all buses share: columns of changes to a trace, moments of edges, the part that is tried first."""

from __future__ import annotations

from collections.abc import Iterable
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times, fold

__all__ = [
    "Change",
    "behind_quiet",
    "edges_to",
    "excerpt",
    "number_within",
    "trace_of",
    "typical",
]

EXCERPT = 40_000  # changes tried; enough for some hundred bytes, and bounded however long the capture is

Change = tuple[Times, int, Any]  # when (n,), line, level (n,) or one


def trace_of(columns: list[Change], names: tuple[str, ...], tick: Fraction, end: int) -> Trace:
    """The trace of changes; of changes of one line at one time the later column wins."""
    times = np.concatenate([when for when, _, _ in columns])
    lines = np.concatenate([np.full(len(when), line, np.uint8) for when, line, _ in columns])
    levels = np.concatenate([np.broadcast_to(np.asarray(level, np.uint8), (len(when),)) for when, _, level in columns])
    order = np.argsort(times, kind="stable")
    changed, packed, unknown = fold(times[order], lines[order], levels[order], len(names))
    return Trace(names, changed, packed, max(end, int(changed[-1]) + 1), tick, unknown)


def number_within(lengths: Times) -> tuple[Times, Times]:
    """For groups of these lengths: which group each member belongs to, and its number within it."""
    owner = np.repeat(np.arange(len(lengths)), lengths)
    first = np.concatenate([[0], np.cumsum(lengths)[:-1]]).astype(np.int64) if len(lengths) else lengths
    return owner, np.arange(len(owner)) - first[owner]


def edges_to(trace: Trace, line: int, level: int) -> Times:
    """The moments at which a line goes to a level from the other; an edge out of or into the unknown is none."""
    return trace.edges(line).to(level)


def behind_quiet(block: Trace, found: NDArray[np.int64], ticks: int) -> int | None:
    """The tick behind the first of some entries that nothing follows for so many ticks; None where there is none."""
    after = np.append(block.times[1:], block.end)[found]
    good = np.flatnonzero(after - block.times[found] >= ticks)
    return int(block.times[found[good[0]]]) + 1 if len(good) else None


SPREAD = 1 << 16  # of more values than these the median is that of so many, evenly spread


def _every(count: int) -> int:
    """Which of so many values are looked at: each, or one in so many.

    The step is prime to the bits of words of eight and nine, or the same bit of each would be looked at.
    """
    step = count // SPREAD
    if step > 1:
        step += 1 - step % 2
        step += 2 * (step % 3 == 0)
    return max(1, step)


def typical(values: NDArray[Any]) -> float:
    """The median; of many values that of some of them, evenly spread, so that it costs the same whatever the length of a capture."""
    values = values[:: _every(len(values))]
    middle = [(len(values) - 1) // 2, len(values) // 2]
    return float(np.partition(values, middle)[middle].mean()) if len(values) else float("nan")


def excerpt(trace: Trace, most: int = EXCERPT, lines: Iterable[int] | None = None) -> Trace:
    """The first `most` changes of a trace, or of these lines of it: what a bus says may come long behind what others said."""
    if len(trace) <= most:
        return trace
    if lines is None:
        return trace.window(trace.start, int(trace.times[most]))
    wanted = set(lines)
    if len(wanted) == len(trace.names):
        return trace.window(trace.start, int(trace.times[most]))
    own = trace.levels & trace.levels.dtype.type(sum(1 << line for line in wanted))
    moved = np.flatnonzero(own[1:] != own[:-1]) + 1
    return trace if len(moved) <= most else trace.window(trace.start, int(trace.times[moved[most]]))
