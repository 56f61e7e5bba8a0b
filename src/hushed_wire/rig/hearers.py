"""Channels of a bus piece by piece: for each a function from a block of the capture (or its end, None) to what became complete.

Whole transactions leave, long ones in pieces of `LONGEST` words, so that memory holds one block and what is open. The twin for
captures that are read whole is `follow`. A bus's module is loaded only where that bus is heard.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import numpy as np

from ..bus.words import BEGAN, CUT, END, Marks, Transactions, Words, transactions
from ..trace import Trace
from ..trace.model import Samples
from .channel import LONGEST, Channel, Runs

if TYPE_CHECKING:
    from ..bus import i2c
    from .schema import Bus

__all__ = ["Hearer", "I2c", "hearers", "of_parallel", "of_shift", "of_spi"]

Hearer = Callable[[Trace | Samples | None], list[Channel]]


class I2c:
    """The transactions on an I2C bus, whatever their length: a controller's room bounds them."""

    def __init__(self, bus: str, roles: dict[str, int], tick: Fraction, stopped: bool = False) -> None:
        """stopped: what is heard begins behind a STOP."""
        self.bus, self.roles, self.tick, self.stopped = bus, roles, tick, stopped
        self.decoder: i2c.Decoder | None = None
        self.words: list[Words] = []  # in parts, so that a transaction that never ends is not copied with every block
        self.marks: Marks | None = None
        self.base = 0
        self.spikes, self.stray = (0, 0), 0

    def __call__(self, block: Trace | Samples | None) -> list[Channel]:
        from ..bus import i2c
        from ..bus.i2c_address import addresses

        scl, sda = self.roles["scl"], self.roles["sda"]
        if isinstance(block, Samples):
            block = block.trace()
        if self.decoder is None:
            width = i2c.spike_ticks(block, scl) if block is not None else 0
            self.decoder = i2c.Decoder(scl, sda, self.tick, width=width)
            self.decoder.inside = False if self.stopped else None
        part = self.decoder.finish() if block is None else self.decoder.feed(block)
        self.spikes, self.stray = part.spikes, part.stray
        self.words.append(part.words)
        if not len(part.marks):
            return []
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
        return [Channel(self.bus, "i2c", "", words, table, who=addresses(words, table))]


class _Open:
    """The transactions of one channel as they become complete; a long one comes in records of `LONGEST` words."""

    def __init__(self, bus: str, kind: str, select: str, bits: int) -> None:
        self.bus, self.kind, self.select, self.bits = bus, kind, select, bits
        self.words: Words | None = None
        self.columns: dict[str, Any] = {}
        self.marks: Marks | None = None
        self.base = 0

    def take(self, words: Words, marks: Marks, **columns: Any) -> Channel:
        """What is complete, as a channel; a piece of a longer transaction has began or ended CUT or END."""
        if self.words is not None:
            words = Words.join([self.words, words])
            columns = {key: None if new is None else np.concatenate([self.columns[key], new]) for key, new in columns.items()}
        assert self.marks is None or len(self.marks) <= 1
        here = marks if self.marks is None else Marks.join([self.marks, marks])
        local = replace(here, word=here.word - self.base)
        closed = transactions(local)
        done = int(local.word[-1]) if len(local) else 0
        still = len(local) > 0 and int(local.kind[-1]) in BEGAN
        keep = local.take(slice(len(local) - 1, None)) if still else local.take(slice(0, 0))
        # A transaction that does not end gives its whole pieces and goes on.
        size = max(0, len(words) - done - 1) // LONGEST * LONGEST if still else 0
        if size:
            kind, begin = int(keep.kind[0]), int(keep.time[0])
            piece = (done, done + size, begin, int(words.end[done + size - 1]), kind, END, 0)
            closed = Transactions.join([closed, Transactions(*(np.array([value]) for value in piece))])
            done += size
            keep = Marks(words.start[done : done + 1], np.array([CUT], np.uint8), np.array([done]), np.zeros(1, np.uint8))
        channel = Channel(self.bus, self.kind, self.select, words, closed, self.bits, **columns)
        self.words = words.take(slice(done, None))
        self.columns = {key: None if value is None else value[done:] for key, value in columns.items()}
        self.base += done
        self.marks = replace(keep, word=keep.word + self.base - done)
        return channel


def hearers(bus: Bus, roles: dict[str, int], runs: Runs | None = None, counted: bool = False) -> list[Hearer]:
    """For each channel of a bus what makes its transactions of blocks, and of the end of the capture (None).

    counted: words need only be counted, whatever they say.
    """
    if bus.kind == "spi":
        selects: list[str] = [role for role in ("cs", "cs1", "cs2", "cs3") if role in roles]
        if counted:
            roles = {role: line for role, line in roles.items() if role == "sck" or role in selects}
        return [of_spi(bus, roles, role, bus.bits or 8) for role in selects or [""]]
    return [of_parallel(bus, roles, runs)]


def of_spi(bus: Bus, roles: dict[str, int], select: str, bits: int) -> Hearer:
    """select: role of a select line, "" for none. bits: of a word."""
    from ..bus import spi

    shape = spi.Shape(bits, 1, 0, 0, bus.mode, bus.order == "msb", 1 if bus.select == "high" else 0)
    decoder = spi.Decoder(roles["sck"], roles.get("mosi"), shape, roles.get(select), roles.get("dc"), roles.get("miso"))
    store = _Open(bus.name, "spi", select, bits)

    def hear(block: Trace | Samples | None) -> list[Channel]:
        piece = decoder.finish() if block is None else decoder.feed(block)
        return [store.take(piece.words, piece.marks, dc=piece.dc, answers=piece.answers)]

    return hear


def of_parallel(bus: Bus, roles: dict[str, int], runs: Runs | None = None) -> Hearer:
    """runs: what parts the transactions, where more is known of it."""
    from ..bus import parallel

    decoder, open_runs = parallel.Decoder(roles, 1 if bus.select == "high" else 0), runs or Runs()
    nibbles, bits = parallel.data_lines(roles)

    def hear(block: Trace | Samples | None) -> list[Channel]:
        found = decoder.feed(block if block is not None else _nothing())
        words = replace(found.words, value=found.words.value >> 4) if nibbles else found.words
        words, table, (data, read, chips) = open_runs.feed(words, found.data, found.read, found.chips, last=block is None)
        return [Channel(bus.name, "parallel", "", words, table, bits, data if "rs" in roles else None, read, chips=chips)]

    return hear


def of_shift(bus: Bus, roles: dict[str, int], bits: int) -> Hearer:
    """bits: of a load."""
    from ..bus import shift

    decoder = shift.Decoder(roles, shift.Chain(bits, 1, bus.order == "msb"))
    open_runs, number = Runs(), [0]

    def hear(block: Trace | Samples | None) -> list[Channel]:
        words = decoder.feed(block if block is not None else _nothing())
        each = np.arange(number[0], number[0] + len(words))
        number[0] += len(words)
        words, table, _ = open_runs.feed(words, each, last=block is None)
        return [Channel(bus.name, "shift", "", words, table, bits)]

    return hear


def _nothing() -> Trace:
    return Trace((), np.empty(0, np.int64), np.empty(0, np.uint8), 0, Fraction(1))
