"""One wire on which the width of a pulse is the bit: a long one is a 1, a short one a 0, and a long low ends what was sent.

Strategy: pulses are pairs of edges; each is a bit by how long it lasts, eight are a word, and where the line lies low for longer than `RESET` a
transfer is over. A transfer whose beginning was not captured brings no words, as nobody knows whose bits they are. Source: WS2812B
datasheet, "Sequence chart", "Data transfer time".
"""

from __future__ import annotations

from collections.abc import Mapping
from fractions import Fraction
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.measured import Measured
from ..trace.model import Samples, Times
from .changes import Change, edges_to, trace_of
from .channel import Channel, ChannelDecoder, OpenTransfers, Wanted, Wired
from .moves import TICK, Move, Pace, begins
from .pieces import States
from .stretches import EachByItself, Measurer
from .words import CUT, END, START, STOP, Marks, Words

__all__ = ["PulseChannel", "decoders", "encode", "measuring", "samples_a_second", "seconds_of", "wires"]

ONE_FROM = Fraction(57, 10**8)  # seconds: between the longest zero (0.55 us) and the shortest one (0.65 us) of WS2812B
RESET = Fraction(50, 10**6)  # seconds of low from which on a transfer is over; later parts ask for 280 us, and drivers keep it
SHORT, LONG, BIT = Fraction(4, 10**7), Fraction(8, 10**7), Fraction(125, 10**8)  # high of a zero and of a one, and the whole bit
APART = 0.15  # of the shortest pulse: how far apart those of zeros and of ones are at the least
DATA = "data"


class PulseChannel:
    """The transfers on such a wire, from blocks of a trace."""

    def __init__(self, wired: Wired) -> None:
        self.wired = wired
        self.states = States()
        self.open = OpenTransfers(wired.name, "pulse", "", 8)
        self.one, self.reset = (max(1, int(seconds / wired.tick)) for seconds in (ONE_FROM, RESET))
        self.rise: int | None = None  # of a pulse that has not fallen yet
        self.fall: int | None = None  # of the last pulse
        self.begun = self.cut = False  # a transfer is open; its beginning was not captured
        self.start: int | None = None
        self.bits = (np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, np.uint8))  # of the word that is not whole
        self.words = 0
        self.end = 0

    def feed(self, block: Trace | Samples) -> Channel:
        """The transfers that are complete with a block."""
        self.states.feed(block)
        if self.start is None:
            self.start = block.start
        self.end = block.end
        line = self.wired.roles[DATA]
        rises, falls = (self.states.when(self.states.to(line, level)) for level in (1, 0))
        if self.rise is not None:
            rises = np.append(self.rise, rises)
        falls = falls[np.searchsorted(falls, rises[0], side="right") :] if len(rises) else falls[:0]
        whole = min(len(rises), len(falls))
        self.rise = int(rises[whole]) if len(rises) > whole else None
        return self._take(rises[:whole], falls[:whole], last=False)

    def finish(self) -> Channel:
        """The rest."""
        none = np.empty(0, np.int64)
        return self._take(none, none, last=True)

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return int(self.bits[0][0]) if len(self.bits[0]) else self.open.held

    def _take(self, rises: Times, falls: Times, last: bool) -> Channel:
        """rises, falls: of whole pulses. last: nothing comes any more."""
        before = self.fall if self.fall is not None else self.start if self.start is not None else 0
        rests = rises - np.concatenate([[before], falls[:-1]]) if len(rises) else rises
        opens = np.flatnonzero(rests >= self.reset)
        if len(rises) and not self.begun and not (len(opens) and opens[0] == 0):
            opens = np.append(0, opens)  # the capture begins within it
        marks: list[tuple[int, int, int, int]] = []
        words: list[Words] = []
        edges = [0, *opens.tolist(), len(rises)] if not len(opens) or opens[0] else [*opens.tolist(), len(rises)]
        starts = set(opens.tolist())
        for first, behind in pairwise(edges):
            if first in starts:
                self._close(marks, STOP, int(falls[first - 1]) if first else self.fall)
                self.cut = rests[first] < self.reset
                marks.append((int(rises[first]), CUT if self.cut else START, self.words, 0))
                self.begun = True
            words.append(self._words(rises[first:behind], falls[first:behind]))
        if len(falls):
            self.fall = int(falls[-1])
        quiet = self.begun and self.rise is None and self.fall is not None and self.end - self.fall >= self.reset
        if self.begun and (quiet or last):
            self._close(marks, STOP if quiet else END, self.fall)
        columns = np.array(marks, np.int64).reshape(-1, 4)
        own = Marks(columns[:, 0], columns[:, 1].astype(np.uint8), columns[:, 2], columns[:, 3].astype(np.uint8))
        return self.open.take(Words.join([_none(), *words]), own)

    def _close(self, marks: list[tuple[int, int, int, int]], kind: int, at: int | None) -> None:
        """Ends the transfer that is open, with its last pulse."""
        if self.begun:
            spare = 0 if self.cut else len(self.bits[0])
            marks.append((self.end if at is None else at, kind, self.words, spare))
        self.begun = False
        self.bits = tuple(column[:0] for column in self.bits)  # type: ignore[assignment]

    def _words(self, rises: Times, falls: Times) -> Words:
        """The whole words of a stretch of one transfer."""
        if self.cut or not len(rises):
            return _none()
        level = (falls - rises >= self.one).astype(np.uint8)
        starts, ends, bits = self.bits
        start, end, bit = np.concatenate([starts, rises]), np.concatenate([ends, falls]), np.concatenate([bits, level])
        count = len(bit) // 8
        self.bits = start[8 * count :], end[8 * count :], bit[8 * count :]
        value = np.packbits(bit[: 8 * count])
        last = end[7 : 8 * count : 8]
        self.words += count
        return Words(value, start[: 8 * count : 8], last, last, np.ones(count, bool), np.zeros(count, bool))


def _none() -> Words:
    none, no = np.empty(0, np.int64), np.empty(0, bool)
    return Words(np.empty(0, np.uint8), none, none, none, no, no)


def decoders(wired: Wired, wanted: list[Wanted]) -> list[ChannelDecoder]:
    """The wire has one channel."""
    return [PulseChannel(wired)]


# ---- what a driver moves -----------------------------------------------------------------------------------------------------


def _ticks(seconds: Fraction, tick: Fraction) -> int:
    return max(1, round(seconds / tick))


def encode(
    value: NDArray[np.uint8],
    start: Times,
    lengths: Times,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
) -> Trace:
    """The trace of transfers; the twin of what a channel tells. value: (n,) bytes. start, lengths: (m,) tick and bytes of each transfer."""
    bits = np.unpackbits(value)
    whole = _ticks(BIT, tick)
    number = np.arange(len(bits)) - np.repeat(8 * (np.cumsum(lengths) - lengths), 8 * lengths)
    at = np.repeat(start, 8 * lengths) + number * whole
    high = np.where(bits == 1, _ticks(LONG, tick), _ticks(SHORT, tick))
    zero = np.zeros(1, np.int64)
    columns: list[Change] = [(zero, line, 0) for line in roles.values()]
    columns += [(at, roles[DATA], 1), (at + high, roles[DATA], 0)]
    return trace_of(columns, names, tick, end)


def wires(moves: list[Move], wired: Wired, pace: Pace, names: tuple[str, ...], lead: int, tail: int) -> tuple[Trace, Times]:
    """The exact trace of moves, each with the rest that ends it, and the tick at which each begins."""
    sizes = np.array([len(move.words) for move in moves], np.int64)
    rest = 6 * _ticks(RESET, TICK)
    took = np.where(sizes > 0, 8 * sizes * _ticks(BIT, TICK) + rest, 0)
    lead = max(lead, 2 * _ticks(RESET, TICK))
    start = begins(moves, took, lead)
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    value = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)]).astype(np.uint8)
    busy = sizes > 0
    return encode(value, start[busy], sizes[busy], wired.roles, names, TICK, end), start


def seconds_of(move: Move, wired: Wired, pace: Pace) -> float:
    """How long a move takes."""
    return float(8 * len(move.words) * BIT + 6 * RESET) + float(move.pauses.sum() * TICK)


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wire."""
    return Fraction(20) / SHORT


def _cut(high: Times, trace: Trace) -> float:
    """The length from which on a pulse is meant as a one: where lengths fall into two groups that lie on one side of what parts tell them apart by,
    between these."""
    told = float(ONE_FROM / trace.tick)
    lengths = np.unique(high)
    if len(lengths) < 2 or (lengths[0] < told <= lengths[-1]):
        return told
    steps = np.diff(lengths)
    widest = int(np.argmax(steps))
    apart = steps[widest] > max(2 * trace.resolution(), APART * float(lengths[0]))
    return float(lengths[widest] + lengths[widest + 1]) / 2 if apart else told


def measuring(roles: Mapping[str, int], mode: int, active: int, select: str) -> Measurer:
    """Measures how long the line is high and low for zeros and ones, and for how long it rests; mode, active and select play no role."""
    return EachByItself(lambda trace: _measured(trace, roles[DATA]))


def _measured(trace: Trace, line: int) -> Mapping[str, Measured]:
    rises, falls = edges_to(trace, line, 1), edges_to(trace, line, 0)
    falls = falls[np.searchsorted(falls, rises[0], side="right") :] if len(rises) else falls[:0]
    count = min(len(rises), len(falls))
    high = falls[:count] - rises[:count]
    ones = high >= _cut(high, trace)
    low = rises[1 : count + 1] - falls[: len(rises[1 : count + 1])]
    bit, within = ones[: len(low)], low < int(RESET / trace.tick) // 4
    rests = ~within
    when = falls[: len(low)]
    return {
        "zero high": Measured.of(high[~ones], rises[:count][~ones], DATA),
        "one high": Measured.of(high[ones], rises[:count][ones], DATA),
        "zero low": Measured.of(low[within & ~bit], when[within & ~bit], DATA),
        "one low": Measured.of(low[within & bit], when[within & bit], DATA),
        "rest": Measured.of(low[rests], when[rests], DATA),
    }
