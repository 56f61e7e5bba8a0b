"""What lines do in the columns of a figure, told in one pass over a capture, however long it is: how often each changes in a column, the level at which
a column begins, and the changes themselves where they are so few that each can be drawn."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import UNKNOWN, Times

__all__ = ["Activity", "activities"]


@dataclass(eq=False)
class Activity:
    """One line. count: (n,) changes in each column. level: (n,) at the beginning of each, 2 where it is unknown or beside the capture.

    moves: in the whole of what was looked at. times, levels: the state at the beginning of the window and the changes in it, in order, as far as
    these are few.
    """

    count: NDArray[np.int64]
    level: NDArray[np.uint8]
    moves: int = 0
    now: int | None = None
    times: list[Times] = field(default_factory=list)
    levels: list[NDArray[np.uint8]] = field(default_factory=list)


def activities(blocks: Iterable[Trace], lines: Iterable[int], ticks: Times, most: int) -> dict[int, Activity]:
    """By line, what it does in columns. blocks: a capture, in order; what lies behind the columns is not asked for.

    ticks: (n + 1,) where columns begin, and the last one ends. most: changes of a line in all columns up to which they are kept.
    """
    width = len(ticks) - 1
    out = {line: Activity(np.zeros(width, np.int64), np.full(width, UNKNOWN, np.uint8)) for line in lines}
    first, last = int(ticks[0]), int(ticks[-1])
    for block in blocks:
        if block.start > last:
            break
        own = ticks[:-1]
        begins = np.flatnonzero((own >= block.start) & (own < block.end))
        for line, told in out.items():
            _take(told, block, line, ticks, begins, most)
    for told in out.values():
        if int(told.count.sum()) > most:
            told.times, told.levels = [], []
        elif not told.times:
            told.times, told.levels = [np.array([first])], [np.array([UNKNOWN], np.uint8)]
    return out


def _take(told: Activity, block: Trace, line: int, ticks: Times, begins: NDArray[np.int64], most: int) -> None:
    edges = block.edges(line)
    # A block begins with the state that was there.
    fresh = slice(1 if told.now is None or int(edges.level[0]) == told.now else 0, None)
    told.now = int(edges.level[-1])
    times, level = edges.times[fresh], edges.level[fresh]
    told.moves += len(times)
    first, last = int(ticks[0]), int(ticks[-1])
    if block.end <= first:
        return
    told.level[begins] = edges.level[np.searchsorted(edges.times, ticks[begins], side="right") - 1]
    if not told.times:  # how it stands as the window begins, or the capture
        at = max(first, block.start)
        told.times.append(np.array([at]))
        told.levels.append(edges.level[np.searchsorted(edges.times, [at], side="right") - 1])
    told.count += np.diff(np.searchsorted(times, ticks))
    inside = (times > told.times[0][0]) & (times <= last)
    if inside.any() and int(told.count.sum()) <= most:
        told.times.append(times[inside])
        told.levels.append(level[inside])
