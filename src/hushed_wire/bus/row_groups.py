"""The turns of a panel whose rows come in groups: which group is lit from when on, and which load of bits its registers hold by then."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times
from .changes import edges_to
from .scan_roles import ADDRESS, Lamps

__all__ = ["Turns", "address_lines", "turns"]


class Turns(NamedTuple):
    """Dwells, in which neither load, address nor enable changes.

    start, rows, load: (n,) first tick of each, mask of the group that is lit, and which load it is of, 0 ahead of the first. clocks: (c,) ticks of
    the clock's rising edges. last: (loads,) how many of these came by each load.
    """

    start: Times
    rows: NDArray[np.uint64]
    load: NDArray[np.int64]
    clocks: Times
    last: NDArray[np.int64]


def address_lines(roles: dict[str, int]) -> list[str]:
    """Of the lines A to E those that a panel has."""
    return [role for role in ADDRESS if role in roles]


def turns(trace: Trace, roles: dict[str, int], lamps: Lamps, width: int) -> Turns:
    """The dwells of a trace; a latch counts once `width` clocks came, which fill the registers. What is not known lights nothing."""
    wires = address_lines(roles)
    clocks, latches = edges_to(trace, roles["clock"], 1), edges_to(trace, roles["latch"], 1)
    last = np.searchsorted(clocks, latches, side="right")
    latches, last = latches[last >= width], last[last >= width]
    moments = [trace.times[:1], latches]
    moments += [trace.edges(roles[role]).times for role in (*wires, "enable") if role in roles]
    start = np.unique(np.concatenate(moments))
    group, known = np.zeros(len(start), np.uint64), np.ones(len(start), bool)
    for number, role in enumerate(wires):
        at = trace.level_at(roles[role], start)
        known &= at != 2
        group |= (at & 1).astype(np.uint64) << np.uint64(number)
    if "enable" in roles:
        known &= trace.level_at(roles["enable"], start) == lamps.row
    load = np.searchsorted(latches, start, side="right").astype(np.int64)
    return Turns(start, np.where(known & (load > 0), np.uint64(1) << group, np.uint64(0)), load, clocks, last)
