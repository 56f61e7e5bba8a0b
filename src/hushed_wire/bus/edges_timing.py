"""Times of SPI and parallel buses as measured: pulses, cycles, set-up and hold, each as a distribution.

What each is called in datasheets stands with the kinds of bus (`base`); which of them a part limits is the part's description.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.measured import Measured
from ..trace.model import Times

__all__ = ["measure_parallel", "measure_spi"]


Entries = NDArray[np.int64]  # (n,) numbers of the entries of a trace, ascending


class _Moments:
    """The edges of a trace by the numbers of its entries: of two of them it is known without a search which comes first."""

    def __init__(self, trace: Trace) -> None:
        self.trace = trace
        self._ranks: dict[int, tuple[Entries, NDArray[np.int32]]] = {}

    def moves(self, *lines: int) -> Entries:
        """Where any of some lines changes."""
        kind = self.trace.levels.dtype.type
        mask = kind(sum(1 << line for line in set(lines)))
        own = self.trace.levels & mask
        moved = own[1:] != own[:-1]
        if self.trace.unknown is not None:
            dark = self.trace.unknown & mask
            moved |= dark[1:] != dark[:-1]
        found: Entries = np.flatnonzero(moved)
        return found + 1

    def to(self, line: int, level: int) -> Entries:
        """Where a line goes to a level from the other; an edge out of or into the unknown is none."""
        at = self.moves(line)
        now, before = self.level(line, at), self.level(line, at - 1)
        found: Entries = at[(now == level) & (before == 1 - level)]
        return found

    def level(self, line: int, at: Entries) -> NDArray[np.uint8]:
        """(n,) the level of a line from an entry on, 2 where it is unknown."""
        return self.trace.level_of(line, at)

    def ahead(self, moments: Entries, edges: Entries, *lines: str) -> Measured:
        """The ticks from the last edge at or before each moment, where there is one."""
        last = self.rank(edges).take(moments, mode="clip") - 1
        known = last >= 0
        since, before = self._ticks(moments[known]), self._ticks(edges.take(last[known], mode="clip"))
        return Measured.of(since - before, since, *lines)

    def behind(self, moments: Entries, edges: Entries, *lines: str) -> Measured:
        """The same to the next edge behind it."""
        following = self.rank(edges).take(moments, mode="clip")
        known = following < len(edges)
        since, behind = self._ticks(moments[known]), self._ticks(edges.take(following[known], mode="clip"))
        return Measured.of(behind - since, since, *lines)

    def rank(self, edges: Entries) -> NDArray[np.int32]:
        """For each entry, how many edges there are at it and before."""
        if id(edges) not in self._ranks:  # which are kept, so that none other has this number
            flags = np.zeros(len(self.trace.times), np.int32)
            flags[edges] = 1
            self._ranks[id(edges)] = edges, np.cumsum(flags, out=flags)
        return self._ranks[id(edges)][1]

    def between(self, first: Entries, second: Entries, when: Entries, *lines: str) -> Measured:
        """The ticks from one of two moments to the other, told of a third."""
        return Measured.of(self._ticks(second) - self._ticks(first), self._ticks(when), *lines)

    def _ticks(self, at: Entries) -> Times:
        return self.trace.times.take(at, mode="clip")


def measure_spi(trace: Trace, roles: Mapping[str, int], mode: int, active: int, select: str) -> dict[str, Measured]:
    """The times of an SPI bus; select: the role of the select line, "" where there is none."""
    idle, late = mode >> 1, mode & 1
    own, clock = _Moments(trace), roles["sck"]
    up, down = rises, falls = own.to(clock, 1), own.to(clock, 0)
    sampling = rises if (idle == 0) != bool(late) else falls
    out: dict[str, Measured] = {}
    if select:
        line = roles[select]
        opens, closes = own.to(line, active), own.to(line, 1 - active)
        sampling, rises, falls = (at[own.level(line, at) == active] for at in (sampling, rises, falls))
        first = _counted(own, sampling, opens, False)
        has = first < len(sampling)
        out["select set-up"] = own.between(opens[has], sampling[first[has]], opens[has], select, "sck")
        last = _counted(own, sampling, closes, False) - 1
        has = last >= 0
        out["select hold"] = own.between(sampling[last[has]], closes[has], closes[has], select, "sck")
        out["select rest"] = own.behind(closes, opens, select)
    out["clock high"] = own.behind(rises, down, "sck")
    out["clock low"] = own.behind(falls, up, "sck")
    if select and len(out["clock low"]):  # the rest between two transfers is no half of a clock
        usual = 8 * out["clock low"].typical
        for name in ("clock high", "clock low"):
            out[name] = out[name].below(usual)
    changes = own.moves(roles["mosi"])
    out["data set-up"] = own.ahead(sampling, changes, "mosi", "sck")
    out["data hold"] = own.behind(sampling, changes, "mosi", "sck")
    if select:
        # LOAD of some parts is a latch: what is clocked in comes only so long behind it.
        out["clock behind select"] = own.behind(closes, up, select, "sck")
        if "dc" in roles:
            out |= _marks(own, roles["dc"], sampling, opens)
    if len(sampling) > 1:
        out["clock period"] = own.between(sampling[:-1], sampling[1:], sampling[1:], "sck")
    return out


def _counted(own: _Moments, edges: Entries, moments: Entries, at_it: bool) -> Entries:
    """How many edges lie before each moment, or at it."""
    rank = own.rank(edges)
    return rank.take(moments if at_it else moments - 1).astype(np.int64)  # entry 0 is no edge, so no moment is there


def _marks(own: _Moments, mark: int, sampling: Entries, opens: Entries) -> dict[str, Measured]:
    """Set-up and hold of the line that tells data from commands: it is taken with the last bit of each word of eight."""
    first = _counted(own, sampling, opens, False)
    owner = _counted(own, opens, sampling, True) - 1
    counted = sampling[owner >= 0]
    last = counted[(np.arange(len(sampling))[owner >= 0] - first[owner[owner >= 0]]) % 8 == 7]
    changes = own.moves(mark)
    at, after = _counted(own, last, changes, False), _counted(own, last, changes, True)
    ahead, behind = at < len(last), after > 0
    return {
        "D/C set-up": own.between(changes[ahead], last[at[ahead]], changes[ahead], "dc", "sck"),
        "D/C hold": own.between(last[after[behind] - 1], changes[behind], changes[behind], "dc", "sck"),
    }


def measure_parallel(trace: Trace, roles: Mapping[str, int]) -> dict[str, Measured]:
    """The times of a 6800 bus, for the line E; of writes only, where R/W tells."""
    if "e" not in roles:
        return {}
    own, line = _Moments(trace), roles["e"]
    up, down = rises, falls = own.to(line, 1), own.to(line, 0)
    if "rw" in roles:
        rises = rises[own.level(roles["rw"], rises) != 1]
        falls = falls[own.level(roles["rw"], falls - 1) != 1]  # as it was ahead of the fall
    data = own.moves(*(number for role, number in roles.items() if role[0] == "d" and role[1:].isdecimal()))
    controls = [roles[role] for role in ("rs", "rw") if role in roles]
    out = {
        "enable high": own.behind(rises, down, "e"),
        "enable low": own.behind(falls, up, "e"),
        "data set-up": own.ahead(falls, data, "data", "e"),
        "data hold": own.behind(falls, data, "data", "e"),
    }
    if len(rises) > 1:
        out["enable cycle"] = own.between(rises[:-1], rises[1:], rises[1:], "e")
    if controls:
        address = own.moves(*controls)
        out["register select set-up"] = own.ahead(rises, address, "rs", "e")
        out["register select hold"] = own.behind(falls, address, "rs", "e")
    return out
