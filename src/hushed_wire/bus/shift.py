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
from ..trace.model import Samples, Times
from .changes import Change, edges_to, trace_of
from .pieces import States
from .words import Words

__all__ = ["Chain", "Decoder", "chain_length", "decode", "duration", "encode"]


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
    return Decoder(roles, chain).feed(trace)


class Decoder:
    """Loads from blocks of a trace, each complete at its latch (or, without one, with its last bit)."""

    def __init__(self, roles: dict[str, int], chain: Chain) -> None:
        """roles: role to line number in the blocks."""
        self.roles, self.chain = roles, chain
        self.states = States()
        self.time, self.level = np.empty(0, np.int64), np.empty(0, np.uint8)  # the bits that the chain holds

    def feed(self, block: Trace | Samples) -> Words:
        """The loads that are complete within `block`."""
        states, bits = self.states, self.chain.bits
        states.feed(block)
        at = states.to(self.roles["clock"], 1)
        ahead = len(self.time)
        time = np.concatenate([self.time, states.when(at)])
        level = np.concatenate([self.level, states.bit(self.roles["data"], at)])
        if "latch" in self.roles:
            latches = states.to(self.roles["latch"], 1)
            last, when = np.searchsorted(at, latches, side="right") + ahead, states.when(latches)
            enough = last >= bits
            last, when = last[enough], when[enough]
            keep = bits
        else:
            last = np.arange(bits, len(time) + 1, bits)
            when = time[last - 1]
            keep = len(time) % bits
        index = last[:, None] - bits + np.arange(bits)
        found = level[index] if len(index) else np.empty((0, bits), np.uint8)
        starts = time[last - bits] if len(last) else when
        self.time, self.level = (column[max(0, len(time) - keep) :] for column in (time, level))
        places = np.arange(bits - 1, -1, -1) if self.chain.msb_first else np.arange(bits)
        value = ((found & 1).astype(np.uint64) << places.astype(np.uint64)).sum(axis=1, dtype=np.uint64)
        return Words(value, starts, when, when, np.ones(len(when), bool), (found == 2).any(axis=1))
