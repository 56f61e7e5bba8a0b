"""Every symbol of the I2C-bus specification's timing table: limits per speed mode, and what a capture measures.

Source: I2C-bus specification (UM10204), table "Characteristics of the SDA and SCL bus lines for Standard, Fast, and
Fast-mode Plus I2C-bus devices". Rise and fall times need volts and are not measured here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from math import gcd
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.measured import Cycles, Growing, Measured, narrowed
from ..trace.model import GRIDDED, Times
from .changes import excerpt
from .i2c import BEGIN, CEASE, DATA, FALL, RISE, Events, Finder, spike_ticks

__all__ = ["LIMITS", "MODES", "SYMBOLS", "Margin", "Measuring", "OfBlocks", "margins", "measure", "mode_of"]

MODES = ("Standard-mode", "Fast-mode", "Fast-mode Plus")
NS = 1e-9
# symbol: (what it is, (min, max) a mode in seconds, for fSCL in hertz); None: no limit
LIMITS: dict[str, tuple[str, tuple[tuple[float | None, float | None], ...]]] = {
    "fSCL": ("SCL clock frequency", ((None, 100e3), (None, 400e3), (None, 1e6))),
    "tHD;STA": ("hold time of a (repeated) START", ((4000 * NS, None), (600 * NS, None), (260 * NS, None))),
    "tLOW": ("low period of SCL", ((4700 * NS, None), (1300 * NS, None), (500 * NS, None))),
    "tHIGH": ("high period of SCL", ((4000 * NS, None), (600 * NS, None), (260 * NS, None))),
    "tSU;STA": ("set-up time of a repeated START", ((4700 * NS, None), (600 * NS, None), (260 * NS, None))),
    "tHD;DAT": ("data hold time", ((0.0, None), (0.0, None), (0.0, None))),
    "tSU;DAT": ("data set-up time", ((250 * NS, None), (100 * NS, None), (50 * NS, None))),
    "tVD;DAT": ("data valid time", ((None, 3450 * NS), (None, 900 * NS), (None, 450 * NS))),
    "tVD;ACK": ("data valid acknowledge time", ((None, 3450 * NS), (None, 900 * NS), (None, 450 * NS))),
    "tSU;STO": ("set-up time of STOP", ((4000 * NS, None), (600 * NS, None), (260 * NS, None))),
    "tBUF": ("bus free time between STOP and START", ((4700 * NS, None), (1300 * NS, None), (500 * NS, None))),
}
SYMBOLS = tuple(LIMITS)
# tVD limits bind only a device that does not stretch the low period, and a driver that moves data late in a long low
# period harms nobody: the specification gives them for the case where SCL is at its fastest.
ONLY_AT_FULL_SPEED = {"tVD;DAT", "tVD;ACK"}
PULSE, SETUP, HOLD = "timing.pulse-short", "timing.setup-short", "timing.hold-short"
# The finding where a minimum is broken; of all others the clock tells.
CODE_OF = {
    "tLOW": PULSE, "tHIGH": PULSE, "tBUF": PULSE, "tSU;STA": SETUP, "tSU;DAT": SETUP, "tSU;STO": SETUP, "tHD;STA": HOLD, "tHD;DAT": HOLD,
}  # fmt: skip
CLOCKED = 400_000  # changes by which the clock is told
ROUNDING = 1e-9  # relative: a limit in seconds is seldom an exact number of ticks in floating point


@dataclass(frozen=True)
class Margin:
    """One symbol against one mode. measured: the extreme value, seconds or hertz. count: how many were beyond the limit."""

    symbol: str
    mode: str
    minimum: float | None
    maximum: float | None
    least: float
    typical: float
    most: float
    measurements: int
    beyond: int
    first: float | None


def mode_of(clock: float) -> int:
    """The index in MODES of the slowest mode that allows this clock (with 2 % for the tolerance of oscillators)."""
    for index, (_, most) in enumerate(LIMITS["fSCL"][1]):
        if most is not None and clock <= most * 1.02:
            return index
    return len(MODES) - 1


# Times from one edge, START or STOP to the next, and a row for each of them by what lies on both sides.
SPANS = {
    "tHD;STA": (BEGIN, FALL), "tLOW": (FALL, RISE), "tHIGH": (RISE, FALL), "tSU;STA": (RISE, BEGIN), "tSU;STO": (RISE, CEASE), "tBUF": (CEASE, BEGIN),
}  # fmt: skip
ROW = np.full(64, len(SPANS), np.uint8)
ROW[[here << 3 | after for here, after in SPANS.values()]] = range(len(SPANS))
KEPT = 3  # edges that times yet to come reach back to: of two periods that follow each other
PIECE = 1 << 16  # changes that are measured together: what they need on the way fits into the cache
VALID = ("tVD;DAT", "tVD;ACK")  # in words, and at the acknowledge


class Measuring:
    """The times of every symbol on one bus: `feed` blocks of a capture, of any size, in order, then ask what was `told`. Who has the events of the
    blocks gives these to `take`.

    fSCL is told as periods in ticks, from one rise to the next within a transaction.
    """

    def __init__(self, scl: int, sda: int) -> None:
        self.lines = scl, sda
        self._finder: Finder | None = None
        self._spans, self._valid = Growing(len(SPANS)), Growing(len(VALID))
        self._cycles, self._hold, self._setup = Cycles(), Growing(), Growing()
        # What the next times reach back to: the last KEPT edges, and the first and last data change behind them.
        self._time, self._kind = np.zeros(KEPT, np.int64), np.zeros(KEPT, np.uint8)
        self._since = 0  # edges since the last that parts transactions, at the last of these
        self._told = False  # whether the first span between these edges was counted

    def feed(self, block: Trace) -> None:
        """The next block."""
        if self._finder is None:
            self._finder = Finder(*self.lines, spike_ticks(block, self.lines[0]))
        self.take(self._finder.feed(block))

    def take(self, events: Events) -> None:
        """The events of the next block."""
        if not len(events.time):
            return
        if not self._kind.any():
            self._time[:] = events.time[0]
        since, time = narrowed(events.time, *self._time.tolist())
        kind = np.concatenate([self._kind, events.kind])
        data = kind == DATA
        edge, moved = np.flatnonzero(~data), np.flatnonzero(data)
        at, what = time.take(edge, mode="clip"), kind.take(edge, mode="clip")
        self._span(since, at, what)
        if len(moved):
            self._move(since, time, kind, what, moved)
        self._since = len(what) - 1 - self._part(what)[-1]
        behind = np.arange(edge[-1] + 1, len(time))
        kept = np.concatenate([edge[-KEPT:], behind[:1], behind[1:][-1:]])
        self._time, self._kind = since + time[kept].astype(np.int64), kind[kept]

    def _move(self, since: int, time: NDArray[Any], kind: NDArray[np.uint8], what: NDArray[np.uint8], moved: Times) -> None:
        """The first and the last data change within each low period. moved: all of them."""
        apart = moved[1:] - moved[:-1] > 1
        opens = np.flatnonzero(np.concatenate([[True], apart]))
        first, last = moved.take(opens), moved[np.concatenate([apart, [True]])]
        whole = (kind.take(first - 1) == FALL) & (kind.take(last + 1, mode="clip") == RISE)
        if not whole.all():
            opens, first, last = opens[whole], first[whole], last[whole]
        fall, rise, early, late = (time.take(which, mode="clip") for which in (first - 1, last + 1, first, last))
        self._hold.add(early - fall, early, since=since)
        self._setup.add(rise - late, rise, since=since)
        # Which of the nine bits it belongs to: behind what parts transactions, falls and rises take turns.
        low, marks = first - 1 - opens, self._part(what)
        each = np.concatenate([low.searchsorted(marks[1:]), [len(low)]])
        each[1:] -= each[:-1].copy()
        ninth = (low - np.repeat(marks, each)).astype(np.uint32) // np.uint32(2) % np.uint32(9) == 8
        self._valid.add(late - fall, late, ninth.view(np.uint8), since)

    def _part(self, what: NDArray[np.uint8]) -> NDArray[np.int64]:
        """Which of the edges part transactions, those ahead of all but the last included; below zero where that was in a block before."""
        return np.concatenate([[KEPT - 1 - self._since], np.flatnonzero(what[KEPT:] >= BEGIN) + KEPT])

    def _span(self, since: int, at: NDArray[Any], what: NDArray[np.uint8]) -> None:
        """Spans from edge to edge, but for those between the last edges, which are kept: what follows tells what they belong to."""
        if len(at) <= KEPT:
            return
        lasts, high = at[1:] - at[:-1], (what[:-1] == RISE) & (what[1:] == FALL)
        cycle = high[:-2] & high[2:]  # rise, fall, rise, fall: neighbours in one transaction
        begin = np.flatnonzero(cycle)
        self._cycles.add(lasts.take(begin, mode="clip"), lasts.take(begin + 1, mode="clip"), at.take(begin, mode="clip"), since)
        alone = ~cycle
        alone[1:] &= ~cycle[:-1]
        alone[0] &= not self._told
        self._told = bool(cycle[-1])
        self._alone(since, at, what, np.flatnonzero(alone))

    def _alone(self, since: int, at: NDArray[Any], what: NDArray[np.uint8], which: Times) -> None:
        """Spans that belong to no cycle."""
        end = at.take(which + 1)
        self._spans.add(end - at.take(which), end, ROW.take(what.take(which) << np.uint8(3) | what.take(which + 1)), since)

    def told(self) -> dict[str, Measured]:
        """All symbols, as far as they were measured; behind the last block."""
        if self._finder is not None:
            self.take(self._finder.finish())
            self._finder = None
        if self._kind.any():
            self._alone(0, self._time[:KEPT], self._kind[:KEPT], np.arange(self._told, KEPT - 1))
            self._kind[:] = 0
        both = ("scl", "sda")
        out = {symbol: self._spans.told(*both, row=row) for row, symbol in enumerate(SPANS)}
        out |= {symbol: self._valid.told(*both, row=row) for row, symbol in enumerate(VALID)}
        high, low, period = (own.ended for own in self._cycles.told())
        for symbol, own in (("tHIGH", high), ("tLOW", low)):
            out[symbol] = Measured.join([out[symbol], own])
        out |= {"fSCL": replace(period, lines=("scl",)), "tHD;DAT": self._hold.told(*both), "tSU;DAT": self._setup.told(*both)}
        return {symbol: out[symbol] for symbol in SYMBOLS}


class OfBlocks:
    """The same, and grain: ticks by which times may be off, as `Trace.resolution` has it."""

    def __init__(self, scl: int, sda: int) -> None:
        self._measuring = Measuring(scl, sda)
        self.grain = 0

    def feed(self, block: Trace) -> None:
        """The next block."""
        if not self.grain or len(block) >= GRIDDED:  # the few changes of a last one tell nothing
            self.grain = gcd(self.grain, block.resolution())
        self._measuring.feed(block)

    def told(self) -> dict[str, Measured]:
        """All symbols, behind the last block."""
        return self._measuring.told()


def measure(trace: Trace, scl: int, sda: int) -> dict[str, Measured]:
    """All symbols of a whole capture."""
    own = Measuring(scl, sda)
    for piece in trace.pieces(PIECE):
        own.feed(piece)
    return own.told()


def usual_clock(trace: Trace, scl: int, sda: int) -> float | None:
    """The clock in hertz, as the beginning of a capture shows it; None where nothing is clocked there."""
    part = excerpt(trace, CLOCKED, (scl, sda))
    return median_clock(part, measure(part, scl, sda))


def margins(trace: Trace, columns: Mapping[str, Measured], mode: int) -> list[Margin]:
    """Each symbol that was measured against its limits in a mode; beyond counts only what sampling cannot excuse."""
    out = []
    slack, tick = trace.resolution(), float(trace.tick)
    usual_period = columns["fSCL"].typical if len(columns["fSCL"]) else 0.0
    full_speed = 1.05 / (LIMITS["fSCL"][1][mode][1] or 1.0) / tick
    for symbol, column in columns.items():
        if not len(column):
            continue
        least, most = LIMITS[symbol][1][mode]
        floor = ceiling = None  # ticks between which all is well
        if symbol == "fSCL":
            floor = (1 / most if most else 0.0) / tick * (1 - ROUNDING) - slack
            low, usual, high = (1 / (ticks * tick) for ticks in (column.most, column.typical, max(1.0, column.least)))
        else:
            if symbol not in ONLY_AT_FULL_SPEED or usual_period <= full_speed:
                floor = None if least is None else least / tick * (1 - ROUNDING) - slack
                ceiling = None if most is None else most / tick * (1 + ROUNDING) + slack
            low, usual, high = (ticks * tick for ticks in (column.least, column.typical, column.most))
        beyond, first = column.beyond(floor, ceiling)
        at = None if first is None else trace.seconds(first)
        out.append(Margin(symbol, MODES[mode], least, most, low, usual, high, len(column), beyond, at))
    return out


def median_clock(trace: Trace, columns: Mapping[str, Measured]) -> float | None:
    """The usual clock in hertz, None where no two bits follow each other."""
    periods = columns["fSCL"]
    return None if not len(periods) else 1 / (periods.typical * float(Fraction(trace.tick)))
