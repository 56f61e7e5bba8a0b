"""Shift registers: bits clocked into a chain, and a latch that takes them over (74HC595) or none (74HC164).

Strategy: the rising edges of the clock number the bits; a load is the last so many bits ahead of a latch edge. Without a latch
every clock moves all outputs; then a load is complete where the clock rests. Both directions are in this file. The first bit in
travels furthest: it ends in the highest output of the last register.
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

__all__ = ["Chain", "chain_length", "decode", "duration", "encode"]


@dataclass(frozen=True)
class Chain:
    """bits: of the whole chain. half: ticks of half a clock. msb_first: the highest output's bit goes in first."""

    bits: int
    half: int
    msb_first: bool = True


def duration(chain: Chain) -> int:
    """Ticks of one load, its latch pulse included."""
    return (chain.bits + 2) * 2 * chain.half


def encode(
    value: NDArray[np.uint64], start: Times, chain: Chain, roles: dict[str, int], names: tuple[str, ...], tick: Fraction, end: int
) -> Trace:
    """The trace that a driver makes of loads; the twin of `decode`. value, start: (n,)."""
    places = np.arange(chain.bits - 1, -1, -1) if chain.msb_first else np.arange(chain.bits)
    bits = (value[:, None].astype(np.uint64) >> places.astype(np.uint64) & np.uint64(1)).astype(np.uint8)
    bit_start = (start[:, None] + np.arange(chain.bits) * 2 * chain.half).reshape(-1)
    zero = np.zeros(1, np.int64)
    columns: list[Change] = [(zero, line, 0) for line in roles.values()]
    columns += [
        (bit_start, roles["data"], bits.reshape(-1)),
        (bit_start + chain.half, roles["clock"], 1),
        (bit_start + 2 * chain.half, roles["clock"], 0),
    ]
    if "latch" in roles:
        at = start + (2 * chain.bits + 1) * chain.half
        columns += [(at, roles["latch"], 1), (at + chain.half, roles["latch"], 0)]
    return trace_of(columns, names, tick, end)


def chain_length(trace: Trace, roles: dict[str, int]) -> int:
    """Bits from latch to latch, as most loads have them; 8 where nothing tells."""
    if "latch" not in roles:
        return 8
    clocks, latches = edges_to(trace, roles["clock"], 1), edges_to(trace, roles["latch"], 1)
    counts = np.diff(np.searchsorted(clocks, latches, side="right"))
    counts = counts[counts > 0]
    return int(np.bincount(counts).argmax()) if len(counts) else 8


def decode(trace: Trace, roles: dict[str, int], chain: Chain) -> Words:
    """The loads of a whole trace. With a latch one a latch; without, one for each whole chain of bits."""
    clocks = edges_to(trace, roles["clock"], 1)
    level = trace.level_at(roles["data"], clocks - 1)
    if "latch" in roles:
        at = edges_to(trace, roles["latch"], 1)
        last = np.searchsorted(clocks, at, side="right")
        enough = last >= chain.bits
        at, last = at[enough], last[enough]
    else:
        last = np.arange(chain.bits, len(clocks) + 1, chain.bits)
        at = clocks[last - 1] if len(last) else np.empty(0, np.int64)
    index = last[:, None] - chain.bits + np.arange(chain.bits)
    bits = level[index] if len(index) else np.empty((0, chain.bits), np.uint8)
    places = np.arange(chain.bits - 1, -1, -1) if chain.msb_first else np.arange(chain.bits)
    value = ((bits & 1).astype(np.uint64) << places.astype(np.uint64)).sum(axis=1, dtype=np.uint64)
    starts = clocks[last - chain.bits] if len(last) else at
    return Words(value, starts, at, at, np.ones(len(at), bool), (bits == 2).any(axis=1))
