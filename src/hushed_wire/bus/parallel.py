"""Parallel buses: 6800 (data taken as E falls) and 8080 (data taken as WR rises), 4 to 16 data lines, with register selects.

Strategy: the latching edges are a column of moments; data lines, RS, R/W and selects are looked up at each. A word takes effect
at its latching edge. Reads (R/W high, or RD instead of WR) are words too, marked as such. Both directions are in this file.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times
from .changes import Change, edges_to, trace_of
from .words import Words

__all__ = ["ParallelDecoded", "Pulse", "decode", "encode"]

SELECTS = ("cs1", "cs2", "cs3")
ENABLES = ("e", "e2")


@dataclass(frozen=True)
class Pulse:
    """Ticks of one cycle: set-up ahead of the pulse, the pulse, rest behind it (data are held for half of that)."""

    setup: int
    width: int
    rest: int
    select_active: int = 0  # level that selects a chip

    @property
    def cycle(self) -> int:
        """Ticks from one word to the next."""
        return self.setup + self.width + self.rest


@dataclass(eq=False)
class ParallelDecoded:
    """words; data: (n,) level of RS (1 where there is no such line); read: (n,); chips: (n,) mask of selected chips, 0 for all."""

    words: Words
    data: NDArray[np.uint8]
    read: NDArray[np.bool_]
    chips: NDArray[np.uint8]


def encode(
    value: NDArray[np.uint32],
    data: NDArray[np.bool_],
    chips: NDArray[np.uint8],
    start: Times,
    pulse: Pulse,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
) -> Trace:
    """The trace that a driver makes of words, all of them writes; the twin of `decode`.

    value: (n,) levels of d0 upwards (a nibble bus has it on d4 to d7). start: (n,) first tick of each word.
    """
    zero = np.zeros(1, np.int64)
    active = pulse.select_active
    columns: list[Change] = []
    for role, line in roles.items():
        rest = 1 if role in ("wr", "rd") else 1 - active if role in (*SELECTS, "cs") else 0
        columns.append((zero, line, rest))
    for role, line in roles.items():
        if role[0] == "d" and role[1:].isdigit():
            columns.append((start, line, (value >> np.uint32(role[1:]) & 1).astype(np.uint8)))
    if "rs" in roles:
        columns.append((start, roles["rs"], data.astype(np.uint8)))
    if "cs" in roles:
        columns += [(start, roles["cs"], active), (start + pulse.cycle - 1, roles["cs"], 1 - active)]
    for number, role in enumerate(SELECTS):
        if role in roles:
            mine = (chips == 0) | (chips >> number & 1 == 1)
            columns.append((start, roles[role], np.where(mine, active, 1 - active)))
    rise = start + pulse.setup
    fall = rise + pulse.width
    if "wr" in roles:
        columns += [(rise, roles["wr"], 0), (fall, roles["wr"], 1)]
    for number, role in enumerate(ENABLES):
        if role in roles:
            mine = (chips == 0) | (chips >> number & 1 == 1) if "e2" in roles else np.ones(len(start), bool)
            columns += [(rise[mine], roles[role], 1), (fall[mine], roles[role], 0)]
    return trace_of(columns, names, tick, end)


def decode(trace: Trace, roles: dict[str, int], select_active: int = 0) -> ParallelDecoded:
    """The words of a whole trace; roles: role to line number. 6800 where there is an `e`, else 8080."""
    if "wr" in roles and "e" not in roles:
        writes = edges_to(trace, roles["wr"], 1)
        reads = edges_to(trace, roles["rd"], 1) if "rd" in roles else np.empty(0, np.int64)
        at = np.concatenate([writes, reads])
        read = np.repeat([False, True], [len(writes), len(reads)])
        chips = np.zeros(len(at), np.uint8)
    else:
        falls = [edges_to(trace, roles[role], 0) for role in ENABLES if role in roles]
        at = np.concatenate(falls)
        chips = np.repeat(np.arange(1, 1 + len(falls)), [len(fall) for fall in falls]).astype(np.uint8)
        chips = chips if len(falls) > 1 else np.zeros(len(at), np.uint8)
        read = trace.level_at(roles["rw"], at - 1) == 1 if "rw" in roles else np.zeros(len(at), bool)
    order = np.argsort(at, kind="stable")
    at, read, chips = at[order], read[order], chips[order]
    before = at - 1  # levels as they were when the edge came
    value, unclear = np.zeros(len(at), np.uint32), np.zeros(len(at), bool)
    for role, line in roles.items():
        if role[0] == "d" and role[1:].isdigit():
            level = trace.level_at(line, before)
            unclear |= level == 2
            value |= (level & 1).astype(np.uint32) << np.uint32(role[1:])
    data = trace.level_at(roles["rs"], before) if "rs" in roles else np.ones(len(at), np.uint8)
    chosen = np.zeros(len(at), np.uint8)
    for number, role in enumerate(SELECTS):
        if role in roles:
            chosen |= ((trace.level_at(roles[role], before) == select_active).astype(np.uint8)) << np.uint8(number)
    if any(role in roles for role in SELECTS):
        chips = chosen
    if "cs" in roles:
        keep = trace.level_at(roles["cs"], before) == select_active
        at, read, chips, value, unclear, data = at[keep], read[keep], chips[keep], value[keep], unclear[keep], data[keep]
    words = Words(value, at, at, at, np.ones(len(at), bool), unclear)
    return ParallelDecoded(words, data, read, chips)
