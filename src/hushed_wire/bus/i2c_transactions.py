"""Whole I2C transactions piece by piece, and whom each is for, as columns: addresses of 7 and 10 bits, direction, whether it was answered.

A first byte 11110xx announces a 10-bit address (I2C-bus specification, 3.1.11), but only when it is acknowledged and a second
byte follows: refused, it is far more often a 7-bit address that a driver shifted twice.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import replace
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Samples, as_changes
from . import i2c, i2c_timing
from .changes import behind_quiet
from .channel import Channel, ChannelDecoder, Disturbances, Wanted, Wired
from .i2c import encode
from .moves import Pace
from .stretches import Measurer
from .words import BEGAN, CUT, Addresses, Marks, Transactions, Words, transactions

__all__ = [
    "SEARCH",
    "insisted",
    "Addresses",
    "I2cChannel",
    "addresses",
    "decoders",
    "encode",
    "fresh_start",
    "measuring",
    "refused",
    "samples_a_second",
]

SEARCH = 9  # so many addresses tried in vain are a search for devices, not calls of one
INSISTS = 2  # calls more than usual from which on somebody is meant


def refused(words: Words, transactions: Transactions, who: Addresses) -> NDArray[np.bool_]:
    """(n,) words that were not acknowledged, but for the last of a read: a driver ends a read so on purpose."""
    out = ~words.ack
    out[transactions.last[who.read & who.answered] - 1] = False
    return out


def addresses(words: Words, transactions: Transactions, before: int = -1) -> Addresses:
    """The addresses of all transactions, (m,). before: the 10-bit address that was written last ahead of them, -1 where none was."""
    count = transactions.last - transactions.first
    known = (transactions.began != CUT) & (count > 0)
    if not len(words):
        none = np.zeros(len(transactions), dtype=bool)
        return Addresses(np.full(len(none), -1, np.int32), none, none, none, transactions.first)
    at = np.minimum(transactions.first, len(words) - 1)
    byte, ack = words.value[at].astype(np.int32), words.ack[at]
    known &= ~words.unclear[at]
    read = byte & 1 == 1
    prefix = known & (byte & 0xF8 == 0xF0) & ack
    written = prefix & ~read & (count > 1)
    second = words.value[np.minimum(at + 1, len(words) - 1)].astype(np.int32)
    ten = (byte >> 1 & 3) << 8 | second
    # A 10-bit read repeats only the prefix; its low byte is that of the last 10-bit write.
    last_write = np.maximum.accumulate(np.where(written, np.arange(len(byte)), -1))
    latest = np.where(last_write >= 0, ten[np.maximum(last_write, 0)], before)
    reread = prefix & read & (latest >= 0) & ((byte >> 1 & 3) == latest >> 8)
    address = np.where(written, ten, np.where(reread, latest, byte >> 1))
    answered = np.where(written, ack & words.ack[np.minimum(at + 1, len(words) - 1)], ack)
    first = transactions.first + np.where(known, 1 + written, 0)
    return Addresses(
        np.where(known, address, -1).astype(np.int32),
        written | reread,
        read & known,
        answered & known,
        np.minimum(first, transactions.last),
    )


class I2cChannel:
    """The transactions on an I2C bus, whatever their length: a controller's room bounds them."""

    def __init__(self, wired: Wired, behind_stop: bool = False) -> None:
        """behind_stop: what comes begins behind a STOP."""
        self.wired, self.behind_stop = wired, behind_stop
        self.decoder: i2c.Decoder | None = None
        self.words: list[Words] = []  # in parts, so that a transaction that never ends is not copied with every block
        self.marks: Marks | None = None
        self.base = 0
        self.ten_bit = -1  # address that was written last
        self.told: Callable[[i2c.Events], None] | None = None  # who wants the events, too

    def tell(self, told: Callable[[i2c.Events], None]) -> None:
        """Names who wants the events, too."""
        self.told = told

    def feed(self, block: Trace | Samples) -> Channel:
        """The transactions that are complete with a block."""
        own = as_changes(block)
        return self._take(self._decoder(own).feed(own))

    def finish(self) -> Channel:
        """The rest."""
        return self._take(self._decoder(None).finish())

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return next((int(words.start[0]) for words in self.words if len(words)), None)

    def _decoder(self, block: Trace | None) -> i2c.Decoder:
        if self.decoder is None:
            scl, sda = self.wired.roles["scl"], self.wired.roles["sda"]
            width = i2c.spike_ticks(block, scl) if block is not None else 0
            self.decoder = i2c.Decoder(scl, sda, self.wired.tick, width=width)
            self.decoder.inside = False if self.behind_stop else None
            self.decoder.told = self.told
        return self.decoder

    def _take(self, part: i2c.Decoded) -> Channel:
        self.words.append(part.words)
        over = Disturbances(part.spikes, part.stray, part.together)
        if not len(part.marks):
            return self._told(part.words.take(slice(0, 0)), transactions(part.marks), over)
        words = Words.join(self.words)
        marks = part.marks if self.marks is None else Marks.join([self.marks, part.marks])
        # Whole transactions go out; the one that is open stays, and with it nothing else.
        here = replace(marks, word=marks.word - self.base)
        table = transactions(here)
        done = int(here.word[-1])
        still = int(here.kind[-1]) in BEGAN
        self.words = [words.take(slice(done, None)) if done else words]
        self.marks = marks.take(slice(len(marks) - 1, None)) if still else marks.take(slice(0, 0))
        self.base += done
        return self._told(words.take(slice(0, done)), table, over)

    def _told(self, words: Words, table: Transactions, over: Disturbances) -> Channel:
        who = addresses(words, table, self.ten_bit)
        written = who.address[who.ten_bit & ~who.read]
        self.ten_bit = int(written[-1]) if len(written) else self.ten_bit
        return Channel(self.wired.name, "i2c", "", words, table, who=who, passed_over=over)


def decoders(wired: Wired, wanted: list[Wanted], behind_stop: bool = False) -> list[ChannelDecoder]:
    """The bus has one channel, whoever hangs on it. behind_stop: what comes begins behind a STOP."""
    return [I2cChannel(wired, behind_stop)]


def fresh_start(block: Trace, wired: Wired) -> int | None:
    """A tick behind which nothing depends on what came ahead: behind a STOP that nothing follows for a while, so that it is none of a spike's."""
    scl, sda = wired.roles["scl"], wired.roles["sda"]
    code = i2c.codes_of(block, scl, sda)
    stops = np.flatnonzero((code[:-1] == 1) & (code[1:] == 3)) + 1  # SCL high, SDA from low to high
    return behind_quiet(block, stops, max(8, 4 * i2c.spike_ticks(block, scl)))


def measuring(roles: Mapping[str, int], mode: int, active: int, select: str) -> Measurer:
    """Measures the times of the I2C-bus specification, by symbol; mode, active and select play no role."""
    return i2c_timing.Measuring(roles["scl"], roles["sda"])


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wires."""
    return i2c.SAMPLES_A_CLOCK * pace.serial_clock(i2c.USUAL_CLOCK)


def insisted(who: Addresses) -> list[int]:
    """Addresses that never answer and that were called far more often than a search calls each."""
    tried, count = np.unique(who.address[who.address >= 0], return_counts=True)
    answered = set(who.address[who.answered].tolist())
    usual = int(np.median(count)) if len(count) else 0
    return [
        int(address)
        for address, calls in zip(tried, count, strict=True)
        if calls >= usual + INSISTS and int(address) not in answered
    ]
