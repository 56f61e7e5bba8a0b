"""I2C: trace to words and back.

Strategy: the levels of SCL and SDA, and which of them are unknown, make a code of four bits; the code before and after
each change, looked up in one table, gives the event: a clock edge, START, STOP, a data change. A bit is a rise of SCL that a
fall follows with no START or STOP between; every nine bits after a START are a word. All of it is array operations over
events, so `feed` may be given blocks of any size: what belongs to an unfinished word is carried to the next.

Rules kept: pulses shorter than tSP are ignored and counted (I2C-bus specification, table of the characteristics of the I/O stages); where
a sample shows both lines changed, SCL fell first or rose last; an edge out of unknown latches nothing; words ahead of the first START
are told from the next START or STOP backwards, as bits before it must fill whole words.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace, fold
from ..trace.model import Times
from .changes import number_within
from .spikes import BLIND, Spikes
from .words import CUT, END, LOST, RESTART, START, STOP, Marks, Transactions, Words, transactions

__all__ = [
    "Decoded",
    "Decoder",
    "Events",
    "Finder",
    "Timing",
    "decode",
    "encode",
    "spike_ticks",
]

USUAL_CLOCK = Fraction(400_000)
SAMPLES_A_CLOCK = 50
SPIKE = Fraction(50, 10**9)  # tSP, the longest spike that input filters take out (Fast-mode and Fast-mode Plus)
BEGINNING = 4000  # changes at the start of a capture that show how long the clock's pulses are
CLIPPED_BITS = 9 << 12  # bits kept while the first START or STOP is still to come

NONE, RISE, FALL, DATA, BEGIN, CEASE, BLUR = range(7)  # from BEGIN on they part transactions


def _event(before: int, after: int) -> int:
    """The event that one pair of codes makes."""
    scl0, scl1 = before & 1, after & 1
    if after & 4:
        return NONE if before & 4 else BLUR
    if before & 4:
        return NONE
    if scl0 != scl1:
        return RISE if scl1 else FALL
    if not scl1:
        return DATA if (before ^ after) & 0b1010 else NONE
    if (before ^ after) & 8:  # SDA came from or went to unknown while SCL was high
        return BLUR if after & 8 else NONE
    if after & 8 or not (before ^ after) & 2:
        return NONE
    return CEASE if after & 2 else BEGIN


EVENT = np.array([[_event(before, after) for after in range(16)] for before in range(16)], dtype=np.uint8).reshape(-1)
BACK = 4  # data changes in one low period that are stepped over one by one


@dataclass(eq=False)
class Events:
    """time: (n,) ticks. kind: (n,) of RISE, FALL, DATA, BEGIN, CEASE, BLUR. code: (n,) the four-bit code after it."""

    time: Times
    kind: NDArray[np.uint8]
    code: NDArray[np.uint8]

    @property
    def sda(self) -> NDArray[np.uint8]:
        """(n,) level after it, 2 when unknown."""
        return SDA_OF[self.code]

    def then(self, later: Events) -> Events:
        """These and later ones."""
        time, kind = np.concatenate([self.time, later.time]), np.concatenate([self.kind, later.kind])
        return Events(time, kind, np.concatenate([self.code, later.code]))

    def part(self, which: Any) -> Events:
        """Only these."""
        return Events(self.time[which], self.kind[which], self.code[which])


@dataclass(eq=False)
class Decoded:
    """What a decoder yields. `until`: the tick up to which it is complete. spikes: pulses ignored on (SCL, SDA).

    stray: clock pulses outside any transaction. together: samples in which both lines changed while SCL was or went high.
    """

    words: Words
    marks: Marks
    until: int = 0
    spikes: tuple[int, int] = (0, 0)
    stray: int = 0
    together: int = 0

    def transactions(self) -> Transactions:
        """The transactions, as ranges of words."""
        return transactions(self.marks)


def codes_of(trace: Trace, scl: int, sda: int) -> NDArray[np.uint8]:
    """The four-bit code of each entry of a trace."""
    kind = trace.levels.dtype.type

    def pick(plane: NDArray[Any]) -> NDArray[np.uint8]:
        bits: NDArray[np.uint8] = ((plane >> kind(scl)) & kind(1)).astype(np.uint8, copy=False)
        bits |= (((plane >> kind(sda)) & kind(1)) << kind(1)).astype(np.uint8, copy=False)
        return bits

    code = pick(trace.levels)
    if trace.unknown is not None:
        code |= (pick(trace.unknown) << 2).astype(np.uint8)
    return code


class Finder:
    """Events from blocks of a trace; `feed(block)` then `finish()`. end: of the last block. together: as `Decoded` has it."""

    def __init__(self, scl: int, sda: int, width: int) -> None:
        """scl, sda: line numbers in the blocks. width: pulses of fewer ticks are ignored."""
        self.scl, self.sda = scl, sda
        self.spikes = Spikes(width) if width > 1 else None
        self.code = BLIND
        self.end = self.together = 0

    def feed(self, block: Trace) -> Events:
        """The events that are sure by the end of `block`."""
        self.end = block.end
        return self._take(block.times, codes_of(block, self.scl, self.sda), last=False)

    def finish(self) -> Events:
        """The rest."""
        return self._take(np.empty(0, np.int64), np.empty(0, np.uint8), last=True)

    def _take(self, times: Times, code: NDArray[np.uint8], last: bool) -> Events:
        if self.spikes is not None:
            times, code = self.spikes.feed(times, code, self.end, last)
        if not len(code):
            return Events(times, code, code)
        pair = np.empty(len(code), dtype=np.uint8)  # each code and the one ahead of it
        np.multiply(code[:-1], 16, out=pair[1:])  # far faster than shifting
        pair[:1] = self.code << 4
        pair |= code
        self.code = int(code[-1])
        kind = EVENT.take(pair, mode="clip")
        both = ((pair >> 4) ^ pair) & 3 == 3
        self.together += int(np.count_nonzero(both & (kind == RISE)))
        events = Events(times, kind, code)
        if kind[0] == NONE:  # what a block begins with is most often the state that was there
            events = events.part(slice(1, None))
        return events if events.kind.all() else events.part(np.flatnonzero(events.kind != NONE))


class Decoder:
    """Words and marks from blocks of a trace; `feed(block)` then `finish()`, each giving what became complete."""

    def __init__(self, scl: int, sda: int, tick: Fraction, spike: Fraction = SPIKE, width: int = 0) -> None:
        """scl, sda: line numbers in the blocks. tick: seconds. spike: pulses shorter than this (seconds) are ignored; width: the same
        in ticks, where it was worked out before."""
        self.finder = Finder(scl, sda, width or int(-(-spike // tick)))  # a pulse of fewer ticks is surely shorter
        self.inside: bool | None = None  # None: what came before the capture is not known
        self.carry = Events(np.empty(0, np.int64), np.empty(0, np.uint8), np.empty(0, np.uint8))
        self.words = 0
        self.stray = 0
        self.opened = False
        self.told: Callable[[Events], None] | None = None  # who wants the events, too

    def feed(self, block: Trace) -> Decoded:
        """The words that are complete within `block`."""
        return self._take(self.finder.feed(block), last=False)

    def finish(self) -> Decoded:
        """The rest: a transaction still open is closed by an END mark."""
        return self._take(self.finder.finish(), last=True)

    def _take(self, events: Events, last: bool) -> Decoded:
        if self.told is not None:
            self.told(events)
        if len(self.carry.time):
            events = self.carry.then(events)
        if self.inside is None:
            events = _clocked(events)
        return self._assemble(events, last)

    def _assemble(self, events: Events, last: bool) -> Decoded:
        time, kind = events.time, events.kind
        bits = np.flatnonzero((kind[:-1] == RISE) & (kind[1:] == FALL))
        marks = np.flatnonzero(kind >= BEGIN)
        if self.inside is None and not len(marks):
            return self._hold_clipped(events, bits, last)
        # Stretches between marks; stretch 0 goes on from before, stretch k begins with mark k - 1.
        stretch_first = np.concatenate([[0], np.searchsorted(bits, marks)])
        count = np.diff(stretch_first, append=len(bits))
        offset = np.zeros(len(count), dtype=np.int64)
        live = np.concatenate([[self.inside is not False], kind[marks] == BEGIN])
        clipped = self.inside is None
        if clipped:
            offset[0] = count[0] % 9
        whole = np.where(live, (count - offset) // 9, 0)
        owner, number = number_within(whole)
        first = (stretch_first + offset).take(owner, mode="clip") + 9 * number
        words = self._words(events, bits, first)
        done = np.concatenate([[0], np.cumsum(whole)])
        out = self._marks(time, kind, marks, live, count, offset, done, clipped)
        self.stray += int(count[~live].sum()) + (int(offset[0]) if clipped else 0)
        # What an unfinished word needs: everything from the fall that ended the last word, or from the last mark.
        position = marks[-1] if len(marks) else 0
        if live[-1] and whole[-1]:
            position = max(position, int(bits[first[-1] + 8]) + 1)
        elif not live[-1]:
            position = max(position, len(time) - 1)
        base, self.words = self.words, self.words + len(words)
        out.word += base
        if len(marks):
            self.inside = bool(live[-1])
        self.opened = self.inside is True
        spare = int(count[-1] - 9 * whole[-1]) if live[-1] else 0
        drop_mark = position < len(time) and kind[position] >= BEGIN
        self.carry = _clocked(events.part(slice(position + 1 if drop_mark else position, None)))
        if last and self.opened:
            closing = Marks(
                np.array([self.finder.end]), np.array([END], np.uint8), np.array([self.words]), np.array([spare], np.uint8)
            )
            out = Marks.join([out, closing])
        return self._decoded(words, out, last)

    def _hold_clipped(self, events: Events, bits: Times, last: bool) -> Decoded:
        """No START or STOP yet: keep the last bits, since words are told backwards from the mark to come."""
        if len(bits) > CLIPPED_BITS:
            cut = int(bits[-CLIPPED_BITS])
            self.stray += len(bits) - CLIPPED_BITS
            events = events.part(slice(cut, None))
            bits = bits[-CLIPPED_BITS:]
        self.carry = _clocked(events)
        if last:
            self.stray += len(bits)
        return self._decoded(_no_words(), _no_marks(), last)

    def _decoded(self, words: Words, marks: Marks, last: bool) -> Decoded:
        until, found = self.finder.end, self.finder.spikes
        if not last and found is not None:
            until -= found.width  # a pulse that began just before the end may yet turn out to be a spike
        if not last and len(self.carry.time):
            until = min(until, int(self.carry.time[0]))
        spikes = (found.count[0], found.count[1]) if found else (0, 0)
        return Decoded(words, marks, until, spikes, self.stray, self.finder.together)

    def _words(self, events: Events, bits: Times, first: Times) -> Words:
        codes = events.code.take(bits, mode="clip")
        level = codes >> 1 & 1
        blurred = codes & 8
        pairs = (level[:-1] << 1) | level[1:]
        fours = (pairs[:-2] << 2) | pairs[2:]
        ninth = bits.take(first + 8, mode="clip")
        value = ((fours[:-4] << 4) | fours[4:]).take(first, mode="clip") if len(first) else np.empty(0, np.uint8)
        unclear = np.zeros(len(first), bool)
        if blurred.any():
            level = np.where(blurred != 0, 1, level)
            seen = np.concatenate([[0], np.cumsum(blurred != 0)])
            unclear = seen[first + 9] != seen[first]
        effect, end = events.time.take(ninth, mode="clip"), events.time.take(ninth + 1, mode="clip")
        start = events.time.take(_fall_ahead(events.kind, bits.take(first, mode="clip")), mode="clip")
        return Words(value, start, end, effect, level.take(first + 8, mode="clip") == 0, unclear)

    def _marks(
        self,
        time: Times,
        kind: NDArray[np.uint8],
        marks: Times,
        live: NDArray[np.bool_],
        count: Times,
        offset: Times,
        done: Times,
        clipped: bool,
    ) -> Marks:
        inside = live[:-1].copy()  # whether a transaction was open when the mark came
        if clipped and len(marks):
            inside[0] = bool(count[0]) or kind[marks[0]] == CEASE
        spare = np.where(inside, (count - offset)[:-1] % 9, 0)
        own = kind[marks]
        new = MARK.take(own + np.uint8(8) * inside, mode="clip")
        keep = (own == BEGIN) | inside  # a STOP with nothing open marks nothing
        out = Marks(time[marks][keep], new[keep], done[1:-1][keep], spare[keep].astype(np.uint8))
        if clipped and len(marks) and inside[0]:
            opening = Marks(time[:1], np.array([CUT], np.uint8), np.zeros(1, np.int64), np.zeros(1, np.uint8))
            out = Marks.join([opening, out])
        return out


def _fall_ahead(kind: NDArray[np.uint8], rise: Times) -> Times:
    """(k,) the event with which the low period ahead of each rise began; the rise itself where that is not there."""
    out = rise - 1
    odd = np.flatnonzero(kind.take(out, mode="clip") != FALL)
    for _ in range(BACK):  # data changes lie between
        if not len(odd):
            return out
        out[odd] -= 1
        odd = odd[kind.take(out[odd], mode="clip") != FALL]
    if len(odd):
        falls = np.flatnonzero(kind == FALL)
        before = np.searchsorted(falls, rise[odd]) - 1
        out[odd] = np.where(before >= 0, falls[np.maximum(before, 0)] if len(falls) else 0, rise[odd])
    return out


def _clocked(events: Events) -> Events:
    """Without the data changes while SCL is low, which make no words and may be many."""
    return events.part(events.kind != DATA)


MARK = np.zeros(16, np.uint8)  # what an event that parts transactions is, by its kind, and 8 more where one was open
MARK[[BEGIN, CEASE, BLUR]] = START, STOP, LOST
MARK[[8 + BEGIN, 8 + CEASE, 8 + BLUR]] = RESTART, STOP, LOST
SDA_OF = np.array([2 if code & 8 else (code >> 1) & 1 for code in range(16)], dtype=np.uint8)


def _no_words() -> Words:
    none = np.empty(0, np.int64)
    return Words(np.empty(0, np.uint8), none, none, none, np.empty(0, bool), np.empty(0, bool))


def _no_marks() -> Marks:
    return Marks(np.empty(0, np.int64), np.empty(0, np.uint8), np.empty(0, np.int64), np.empty(0, np.uint8))


def spike_ticks(trace: Trace, scl: int, spike: Fraction = SPIKE) -> int:
    """Pulses of fewer ticks than this are spikes. One that is seen in a single sample may be as short as one, and is taken for one where

    the clock's own pulses are far longer; what is used of a trace is its beginning, as a stream has no more.
    """
    width = int(-(-spike // trace.tick))
    kind = trace.levels.dtype.type
    bits = (trace.levels[:BEGINNING] >> kind(scl)) & kind(1)
    moved = trace.times[:BEGINNING][np.append(True, bits[1:] != bits[:-1])] if len(bits) else trace.times
    steps = np.diff(moved)
    grain = trace.sample or trace.grain or 1
    if len(steps) > 16 and float(np.median(steps)) >= 10 * grain:
        width = max(width, grain + 1)
    return width


def decode(trace: Trace, scl: int = 0, sda: int = 1, spike: Fraction = SPIKE) -> Decoded:
    """A whole trace at once; scl and sda are line numbers. The twin of `encode`."""
    decoder = Decoder(scl, sda, trace.tick, spike, spike_ticks(trace, scl, spike))
    parts = [*map(decoder.feed, trace.pieces()), decoder.finish()]  # what a piece needs on the way fits into the cache
    out = parts[-1]
    out.words, out.marks = Words.join([part.words for part in parts]), Marks.join([part.marks for part in parts])
    return out


@dataclass(frozen=True)
class Timing:
    """How a driver clocks, in ticks: tLOW, tHIGH, data change after the fall, tHD;STA, tSU;STA, tSU;STO."""

    low: int
    high: int
    hold: int
    start_hold: int
    start_setup: int
    stop_setup: int

    @classmethod
    def at(cls, clock: Fraction, tick: Fraction) -> Timing:
        """The usual shape at a clock rate: low for 13/25 of a period (tLOW of Fast-mode), data moved early in it."""
        period = 1 / clock / tick
        low = round(period * 13 / 25)
        high = max(1, round(period) - low)
        return cls(max(2, low), high, max(1, low // 4), high, max(low, high), high)


def encode(
    value: NDArray[np.uint8],
    ack: NDArray[np.bool_],
    lengths: Times,
    restart: NDArray[np.bool_],
    gap: Times,
    timing: Timing,
    tick: Fraction,
    lead: int,
    tail: int,
) -> Trace:
    """The trace, lines SCL and SDA, that a driver makes of words; the twin of `decode`.

    value, ack: (n,) words. lengths: (m,) words of each transaction. restart: (m,) begins with a repeated START; the
    transaction before it has no STOP then. gap: (m,) ticks of idle bus ahead of a START. lead, tail: idle ticks at both ends.
    """
    if not len(lengths):
        return Trace(("SCL", "SDA"), np.zeros(1, np.int64), np.full(1, 3, np.uint8), lead + tail + 1, tick)
    period = timing.low + timing.high
    restart = restart.copy()
    restart[:1] = False
    ends_with_stop = np.append(~restart[1:], True)
    bits_of = lengths.astype(np.int64) * 9
    closing = np.where(ends_with_stop, timing.low + timing.stop_setup, timing.low + timing.start_setup)
    length = timing.start_hold + bits_of * period + closing
    ahead = np.where(restart, 0, gap)
    start = lead + np.cumsum(ahead) + np.concatenate([[0], np.cumsum(length)[:-1]]) if len(length) else np.empty(0, np.int64)
    # Bits of all words, most significant first, the acknowledge (low) ninth.
    bits = np.empty((len(value), 9), dtype=np.uint8)
    bits[:, :8] = np.unpackbits(value[:, None], axis=1)
    bits[:, 8] = ~ack
    owner = np.repeat(np.arange(len(lengths)), bits_of)
    number = np.arange(len(owner)) - np.repeat(
        np.concatenate([[0], np.cumsum(bits_of)[:-1]]) if len(bits_of) else bits_of, bits_of
    )
    fall = start[owner] + timing.start_hold + number * period
    last_fall = start + timing.start_hold + bits_of * period
    scl, sda = 0, 1
    columns = [  # (when, line, level)
        (np.zeros(1, np.int64), scl, 1),
        (np.zeros(1, np.int64), sda, 1),
        (start, sda, 0),
        (start + timing.start_hold, scl, 0),
        (fall + timing.hold, sda, bits.reshape(-1)),
        (fall + timing.low, scl, 1),
        (fall + period, scl, 0),
        (last_fall + timing.hold, sda, (~ends_with_stop).astype(np.uint8)),
        (last_fall + timing.low, scl, 1),
        ((last_fall + timing.low + timing.stop_setup)[ends_with_stop], sda, 1),
    ]
    times = np.concatenate([when for when, _, _ in columns])
    lines = np.concatenate([np.full(len(when), line, np.uint8) for when, line, _ in columns])
    levels = np.concatenate([np.broadcast_to(np.asarray(level, np.uint8), (len(when),)) for when, _, level in columns])
    order = np.argsort(times, kind="stable")
    changed, packed, _ = fold(times[order], lines[order], levels[order], 2)
    end = int(changed[-1]) + 1 + tail
    return Trace(("SCL", "SDA"), changed, packed, end, tick)
