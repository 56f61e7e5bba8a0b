"""Where one picture ends and the next begins, from what was written: a frame ends where something of it is written again, or where
nothing is written for a while.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .model import Journal

__all__ = ["REST", "frame_ends"]

REST = 0.005  # seconds without a write that end a frame


def frame_ends(model: Any, tick: float, rest: float = REST) -> NDArray[np.int64]:
    """The tick of the last write of each frame, in order. tick: seconds. model: one, or several chips behind one glass."""
    chips = getattr(model, "models", [model])
    times, addresses = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
    for number, chip in enumerate(chips):
        if isinstance(chip, Journal):
            when, where, _ = chip.journal()
            times.append(when)
            addresses.append(where + (number << 32))
    when, where = np.concatenate(times), np.concatenate(addresses)
    order = np.argsort(when, kind="stable")
    when, where = when[order], where[order]
    if not len(when):
        return when
    # For each write the one before it at the same address, -1 where there is none; its running maximum never falls, so the first
    # write behind a frame's start that repeats one of that frame is found by search.
    by_place = np.lexsort((np.arange(len(where)), where))
    before = np.full(len(where), -1, np.int64)
    again = where[by_place][1:] == where[by_place][:-1]
    before[by_place[1:][again]] = by_place[:-1][again]
    latest = np.maximum.accumulate(before)
    pauses = np.flatnonzero(np.diff(when) * tick > rest) + 1
    ends, start = [], 0
    while start < len(when):  # over frames, not over writes
        repeat = int(np.searchsorted(latest, start))
        pause = int(np.searchsorted(pauses, start, side="right"))
        end = min(repeat if repeat > start else len(when), int(pauses[pause]) if pause < len(pauses) else len(when))
        ends.append(end - 1)
        start = end
    return when[np.array(ends, np.int64)]
