"""SPI: words of 1 to 32 bits under a clock, between the edges of a select, with a line or a bit that tells data from commands.

Strategy: the sampling edges of the clock are found as a column; their number since the select became active gives word and bit.
A word takes effect with its last sampling edge; that is also where the D/C line counts. Modes: CPOL is the idle level of the
clock, CPHA whether data are sampled at its first (0) or second (1) edge. Both directions are in this file.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times
from .changes import Change, edges_to, number_within, trace_of
from .words import CUT, END, START, STOP, Transactions, Words

__all__ = ["Shape", "SpiDecoded", "decode", "durations", "encode"]


@dataclass(frozen=True)
class Shape:
    """How a bus is clocked. bits: of a word. half: ticks of half a clock. lead, trail: ticks between select and clock."""

    bits: int
    half: int
    lead: int
    trail: int
    mode: int = 0
    msb_first: bool = True
    active: int = 0  # the level that selects


@dataclass(eq=False)
class SpiDecoded:
    """words, their D/C levels (None without that line; 2 where it is unknown) and the transactions (one a select)."""

    words: Words
    dc: NDArray[np.uint8] | None
    transactions: Transactions


def durations(lengths: Times, shape: Shape) -> Times:
    """Ticks from select to deselect of transfers of so many words."""
    return shape.lead + lengths * shape.bits * 2 * shape.half + shape.trail


def encode(
    value: NDArray[np.uint32],
    lengths: Times,
    start: Times,
    shape: Shape,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
    dc: NDArray[np.bool_] | None = None,
    select: list[str] | None = None,
) -> Trace:
    """The trace that a driver makes of words; the twin of `decode`.

    value: (n,). lengths, start: (m,) words and first tick of each transfer. roles: role to line number. dc: (n,) level of the
    D/C line. select: (m,) the role of the select line of each transfer, "" where none moves.
    """
    idle, late = shape.mode >> 1, shape.mode & 1
    owner, number = number_within(lengths)
    word_start = start[owner] + shape.lead + number * shape.bits * 2 * shape.half
    places = np.arange(shape.bits - 1, -1, -1) if shape.msb_first else np.arange(shape.bits)
    bits = (value[:, None].astype(np.uint32) >> places.astype(np.uint32) & 1).astype(np.uint8)
    bit_start = (word_start[:, None] + np.arange(shape.bits) * 2 * shape.half).reshape(-1)
    zero = np.zeros(1, np.int64)
    columns: list[Change] = [(zero, line, _at_rest(role, shape, idle)) for role, line in roles.items()]
    columns.append((bit_start, roles["mosi"], bits.reshape(-1)))
    first = bit_start + (0 if late else shape.half)
    columns += [(first, roles["sck"], 1 - idle), (first + shape.half, roles["sck"], idle)]
    if dc is not None and "dc" in roles:
        columns.append((word_start - np.where(number == 0, shape.lead // 2, 0), roles["dc"], dc.astype(np.uint8)))
    chosen = np.array(select if select is not None else [""] * len(lengths))
    stop = start + durations(lengths, shape)
    for role in dict.fromkeys(chosen.tolist()):
        if role in roles:
            mine = chosen == role
            columns += [(start[mine], roles[role], shape.active), (stop[mine], roles[role], 1 - shape.active)]
    return trace_of(columns, names, tick, end)


def _at_rest(role: str, shape: Shape, idle: int) -> int:
    return idle if role == "sck" else 1 - shape.active if role.startswith("cs") else 0


def decode(trace: Trace, sck: int, mosi: int, shape: Shape, cs: int | None = None, dc: int | None = None) -> SpiDecoded:
    """The words of a whole trace; numbers are those of lines. Without a select the whole trace is one transaction."""
    idle, late = shape.mode >> 1, shape.mode & 1
    sampling = edges_to(trace, sck, (1 - idle) if not late else idle)
    if cs is None:
        opens, closes = np.array([trace.start]), np.array([trace.end])
        began, ended = np.array([CUT], np.uint8), np.array([END], np.uint8)
    else:
        opens, closes = edges_to(trace, cs, shape.active), edges_to(trace, cs, 1 - shape.active)
        cut = len(closes) and (not len(opens) or closes[0] < opens[0])
        if cut:  # it was active when the capture began
            opens = np.concatenate([[trace.start], opens])
        open_end = len(opens) > len(closes)
        if open_end:
            closes = np.append(closes, trace.end)
        began, ended = np.full(len(opens), START, np.uint8), np.full(len(opens), STOP, np.uint8)
        if cut:
            began[0] = CUT
        if open_end:
            ended[-1] = END
    first, last = np.searchsorted(sampling, opens), np.searchsorted(sampling, closes)
    counts = last - first
    whole = counts // shape.bits
    owner, number = number_within(whole * shape.bits)
    at = sampling[first[owner] + number].reshape(-1, shape.bits)
    bits = trace.level_at(mosi, at.reshape(-1) - 1).reshape(at.shape)
    unclear = (bits == 2).any(axis=1)
    places = np.arange(shape.bits - 1, -1, -1) if shape.msb_first else np.arange(shape.bits)
    value = ((bits & 1).astype(np.uint32) << places.astype(np.uint32)).sum(axis=1, dtype=np.uint32)
    ends = at[:, -1] if len(at) else np.empty(0, np.int64)
    starts = at[:, 0] if len(at) else np.empty(0, np.int64)
    words = Words(value, starts, ends, ends, np.ones(len(value), bool), unclear)
    behind = np.cumsum(whole)
    table = Transactions(behind - whole, behind, opens, closes, began, ended, (counts % shape.bits).astype(np.uint8))
    return SpiDecoded(words, None if dc is None else trace.level_at(dc, ends), table)
