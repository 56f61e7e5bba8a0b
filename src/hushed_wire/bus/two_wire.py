"""Two wires without addresses: a clock, and a data line on which START and STOP part transfers, the lowest bit of a byte first.

On the wires it is I2C turned end for end: the same START and STOP, eight bits and an acknowledge, so it is decoded and encoded by `i2c`, and bytes are
turned over. What tells the two apart is what is said: there is no address, the first byte of a transfer is a command.

Source: TM1637 datasheet, "Data transmission": data may change while CLK is low; START is a fall of DIO while CLK is high, STOP a rise; the part
pulls DIO low with the ninth clock.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Samples, Times, as_changes, word_type
from . import i2c, i2c_timing
from .channel import Channel, ChannelDecoder, Wanted, Wired
from .i2c_transactions import I2cChannel
from .moves import TICK, Move, Pace, begins
from .stretches import Measurer

__all__ = ["TwoWireChannel", "decoders", "encode", "measuring", "samples_a_second", "seconds_of", "wires"]

USUAL_CLOCK = Fraction(100_000)
TURNED = np.array([int(f"{value:08b}"[::-1], 2) for value in range(256)], np.uint8)  # bytes with their bits in the other order
CLOCK, DATA = "clock", "data"


class TwoWireChannel:
    """The transfers on such a bus."""

    def __init__(self, wired: Wired) -> None:
        self.wired = wired
        roles = {"scl": wired.roles[CLOCK], "sda": wired.roles[DATA]}
        self.inner = I2cChannel(replace(wired, roles=roles))

    def tell(self, told: Callable[[i2c.Events], None]) -> None:
        """Names who wants the events, too."""
        self.inner.tell(told)

    def feed(self, block: Trace | Samples) -> Channel:
        """The transfers that are complete with a block."""
        return self._turned(self.inner.feed(as_changes(block)))

    def finish(self) -> Channel:
        """The rest."""
        return self._turned(self.inner.finish())

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return self.inner.held

    def _turned(self, own: Channel) -> Channel:
        words = replace(own.words, value=TURNED[own.words.value])
        return replace(own, kind="two-wire", words=words, who=None)


def decoders(wired: Wired, wanted: list[Wanted]) -> list[ChannelDecoder]:
    """The bus has one channel."""
    return [TwoWireChannel(wired)]


def _pulse(pace: Pace) -> i2c.Timing:
    return i2c.Timing.at(pace.serial_clock(USUAL_CLOCK), TICK)


def _lasts(sizes: Times, timing: i2c.Timing) -> Times:
    """(m,) ticks that transfers of so many words last, from START to STOP."""
    return timing.start_hold + 9 * sizes * (timing.low + timing.high) + timing.low + timing.stop_setup


def encode(
    value: NDArray[np.uint8],
    lengths: Times,
    gap: Times,
    timing: i2c.Timing,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
) -> Trace:
    """The trace that a driver makes of transfers, each acknowledged; the twin of what a channel tells.

    value: (n,) bytes. lengths, gap: (m,) bytes of each transfer, and ticks of rest ahead of it. end: tick at which the trace ends, at the least.
    """
    acknowledged, no_restart = np.ones(len(value), bool), np.zeros(len(lengths), bool)
    own = i2c.encode(TURNED[value], acknowledged, lengths, no_restart, gap, timing, tick, 0, 0)
    kind = word_type(len(names))
    levels = (own.levels & 1).astype(kind) << kind(roles[CLOCK])
    levels |= (own.levels >> 1 & 1).astype(kind) << kind(roles[DATA])
    return Trace(names, own.times, levels, max(end, int(own.times[-1]) + 1), tick)


def wires(moves: list[Move], wired: Wired, pace: Pace, names: tuple[str, ...], lead: int, tail: int) -> tuple[Trace, Times]:
    """The exact trace of moves, every byte acknowledged, and the tick at which each begins."""
    timing = _pulse(pace)
    sizes = np.array([len(move.words) for move in moves], np.int64)
    took = np.where(sizes > 0, _lasts(sizes, timing), 0)
    start = begins(moves, took, lead)
    busy = np.flatnonzero(sizes > 0)
    value = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)]).astype(np.uint8)
    ends = start[busy] + took[busy]
    gap = start[busy] - np.concatenate([[0], ends[:-1]])
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    return encode(value, sizes[busy], gap, timing, wired.roles, names, TICK, end), start


def seconds_of(move: Move, wired: Wired, pace: Pace) -> float:
    """How long a move takes."""
    return float(_lasts(np.array([len(move.words)]), _pulse(pace))[0] * TICK) + float(move.pauses.sum() * TICK)


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wires."""
    return i2c.SAMPLES_A_CLOCK * pace.serial_clock(USUAL_CLOCK)


def measuring(roles: Mapping[str, int], mode: int, active: int, select: str) -> Measurer:
    """Measures times by the I2C-bus specification's symbols, whose edges these are; mode, active and select play no role."""
    return i2c_timing.Measuring(roles[CLOCK], roles[DATA])
