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
from ..trace.model import Samples, Times, as_changes, joined
from .changes import Change, edges_to, trace_of
from .channel import Channel, ChannelDecoder, Runs, Wanted, Wired
from .moves import TICK, Move, Pace, begins
from .pieces import States
from .words import Words

__all__ = [
    "Chain",
    "Decoder",
    "ShiftChannel",
    "chain_length",
    "decode",
    "decoders",
    "duration",
    "encode",
    "samples_a_second",
    "seconds_of",
    "wires",
]

USUAL_CLOCK = Fraction(1_000_000)
SAMPLES_A_CLOCK = 12
LOOKED_AT = 20_000  # changes by which the length of a chain is found
LONGEST_CHAIN = 8  # registers: what is longer is no chain of them, but clocks without a latch


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


def decoders(wired: Wired, wanted: list[Wanted]) -> list[ChannelDecoder]:
    """A channel for each length of chain that hangs on the bus; one whose length is found by its latches, where none is told."""
    counts = dict.fromkeys(each.count for each in wanted if each.count)
    return [ShiftChannel(wired, count) for count in counts or [0]]


class ShiftChannel:
    """The loads of a chain, in runs without a rest. count: its registers, 0 where the beginning of the capture has to tell."""

    def __init__(self, wired: Wired, count: int) -> None:
        self.wired, self.count = wired, count
        self.decoder: Decoder | None = None
        self.runs, self.number = Runs(), 0
        self.waiting: list[Trace] = []

    def feed(self, block: Trace | Samples) -> Channel:
        """The loads that are complete with a block."""
        if self.decoder is None:
            self.waiting.append(as_changes(block))
            if not self.count and sum(map(len, self.waiting)) < LOOKED_AT:
                return self._take(_no_loads(), last=False)
            return self._take(self._begun(), last=False)
        return self._take(self.decoder.feed(block), last=False)

    def finish(self) -> Channel:
        """The rest."""
        return self._take(self._begun() if self.waiting else _no_loads(), last=True)

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return self.waiting[0].start if self.waiting else self.runs.held

    def _begun(self) -> Words:
        """The loads of what was kept until the length of the chain was known."""
        if not self.count:
            seen = joined(self.waiting)
            if len(seen) > LOOKED_AT:  # so that nothing depends on the size of blocks
                seen = seen.window(seen.start, int(seen.times[LOOKED_AT]))
            self.count = min(LONGEST_CHAIN, max(1, -(-chain_length(seen, self.wired.roles) // 8)))
        self.decoder = Decoder(self.wired.roles, Chain(8 * self.count, 1, self.wired.settings.msb_first))
        blocks, self.waiting = self.waiting, []
        return Words.join([_no_loads(), *map(self.decoder.feed, blocks)])

    def _take(self, words: Words, last: bool) -> Channel:
        each = np.arange(self.number, self.number + len(words))
        self.number += len(words)
        words, table, _ = self.runs.feed(words, each, last=last)
        return Channel(self.wired.name, "shift", "", words, table, 8 * self.count or 8)


def _no_loads() -> Words:
    none, no = np.empty(0, np.int64), np.empty(0, bool)
    return Words(np.empty(0, np.uint64), none, none, none, no, no)


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


# ---- what a driver moves -----------------------------------------------------------------------------------------------------


def wires(moves: list[Move], wired: Wired, pace: Pace, names: tuple[str, ...], lead: int, tail: int) -> tuple[Trace, Times]:
    """The exact trace of moves, and the tick at which each begins."""
    half = max(1, int(1 / pace.serial_clock(USUAL_CLOCK) / TICK / 2))
    chain = Chain(max([move.bits for move in moves if len(move.words)] or [8]), half, wired.settings.msb_first)
    sizes = np.array([len(move.words) for move in moves], np.int64)
    took = sizes * duration(chain)
    start = begins(moves, took, lead)
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    words = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)]).astype(np.uint64)
    number = np.concatenate([np.empty(0, np.int64), *(np.arange(len(move.words)) for move in moves)])
    at = np.repeat(start, sizes) + number * duration(chain)
    return encode(words, at, chain, wired.roles, names, TICK, end), start


def seconds_of(move: Move, wired: Wired, pace: Pace) -> float:
    """How long a move takes."""
    return len(move.words) * move.bits / float(pace.serial_clock(USUAL_CLOCK)) + float(move.pauses.sum() * TICK)


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wires."""
    return SAMPLES_A_CLOCK * pace.serial_clock(USUAL_CLOCK)
