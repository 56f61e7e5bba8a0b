"""SPI: words of 1 to 32 bits under a clock, between the edges of a select, with a line or a bit that tells data from commands.

Strategy: the sampling edges of the clock are found as a column; their number since the select became active gives word and bit.
A word takes effect with its last sampling edge; that is also where the D/C line counts. Modes: CPOL is the idle level of the
clock, CPHA whether data are sampled at its first (0) or second (1) edge. Both directions are in this file.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times, word_type
from .changes import edges_to, number_within
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

    The states come in order as they are, two a bit, so nothing is sorted: a colour frame has 2.5 million of them.
    """
    kind = word_type(len(names))
    idle, late = shape.mode >> 1, shape.mode & 1
    clock, rest = kind(1 << roles["sck"]), kind(sum(1 << line for role, line in roles.items() if _at_rest(role, shape, idle)))
    # A state of the lines beside the clock for each word, then for each bit.
    owner, _ = number_within(lengths)
    chosen = select if select is not None else [""] * len(lengths)
    flips = np.array([1 << roles[role] if role in roles else 0 for role in chosen], kind)
    lines = (rest & ~clock) ^ flips  # (m,) with the select of each transfer active
    of_word = lines[owner]
    if dc is not None and "dc" in roles:
        of_word = of_word | dc.astype(kind) << kind(roles["dc"])
    bits = _bits(value, shape).astype(kind) << kind(roles["mosi"])
    of_bit = (of_word[:, None] | bits).reshape(-1)
    first, second = (of_bit, of_bit | clock) if idle == late else (of_bit | clock, of_bit)
    # Each transfer: select, D/C ahead of the first bit, two states a bit, the clock at rest, deselect.
    count = lengths * shape.bits
    base = 1 + np.cumsum(4 + 2 * count) - (4 + 2 * count)  # behind the state at rest
    size = 1 + int((4 + 2 * count).sum())
    times, levels = np.zeros(size, np.int64), np.full(size, rest, kind)
    origin = start + shape.lead  # of the bits of each transfer, which come without a rest
    if int(count.sum()) > 256 * len(count):
        for where, when, many, ahead in zip(
            base.tolist(), origin.tolist(), count.tolist(), (np.cumsum(count) - count).tolist(), strict=True
        ):
            span = slice(where + 2, where + 2 + 2 * many)
            times[span] = np.arange(when, when + 2 * many * shape.half, shape.half)
            levels[span][0::2], levels[span][1::2] = first[ahead : ahead + many], second[ahead : ahead + many]
    else:  # many short transfers
        bit_owner, bit_number = number_within(count)
        at = base[bit_owner] + 2 + 2 * bit_number
        bit_start = origin[bit_owner] + 2 * bit_number * shape.half
        times[at], levels[at] = bit_start, first
        times[at + 1], levels[at + 1] = bit_start + shape.half, second
    stop = start + durations(lengths, shape)
    ends = stop - shape.trail
    idle_bit = clock if idle else kind(0)
    data_line = kind(1 << roles["mosi"])
    last_bit = np.cumsum(count) - 1
    held = np.where(count > 0, of_bit[np.maximum(last_bit, 0)], lines) if len(of_bit) else lines
    before = np.concatenate([np.zeros(1, kind), held[:-1] & data_line]).astype(kind)  # data stay as they were between transfers
    opens = (
        np.where(count > 0, of_bit[np.minimum(last_bit + 1 - count, max(0, len(of_bit) - 1))], lines) if len(of_bit) else lines
    )
    keep_dc = kind(1 << roles["dc"]) if "dc" in roles else kind(0)
    was_dc = np.concatenate([np.zeros(1, kind), held[:-1] & keep_dc]).astype(kind)
    for offset, when, level in (
        (0, start, lines | before | was_dc | idle_bit),
        (1, start + shape.lead // 2, (opens & ~data_line) | before | idle_bit),
        (2 + 2 * count, ends, held | idle_bit),
        (3 + 2 * count, stop, (held ^ flips) | idle_bit),
    ):
        times[base + offset], levels[base + offset] = when, level
    # Only beside the bits can a state repeat, or two fall on one moment: of these the later stays.
    edge = np.unique(np.concatenate([base + k for k in (0, 1, 2)] + [base + 2 + 2 * count, base + 3 + 2 * count]))
    edge = edge[edge < size]
    repeated = edge[levels[edge] == levels[edge - 1]]
    early = (edge - 1)[times[edge] == times[edge - 1]]
    gone = np.unique(np.concatenate([repeated, early]))
    times, levels = np.delete(times, gone), np.delete(levels, gone)
    return Trace(names, times, levels, max(end, int(times[-1]) + 1), tick)


def _bits(value: NDArray[np.uint32], shape: Shape) -> NDArray[np.uint8]:
    """(n, bits) in the order in which they go over the wire."""
    if shape.bits == 8:
        order: Literal["big", "little"] = "big" if shape.msb_first else "little"
        return np.unpackbits(value.astype(np.uint8)[:, None], axis=1, bitorder=order)
    places = np.arange(shape.bits - 1, -1, -1) if shape.msb_first else np.arange(shape.bits)
    return (value[:, None].astype(np.uint32) >> places.astype(np.uint32) & 1).astype(np.uint8)


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
