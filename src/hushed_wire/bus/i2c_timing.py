"""Every symbol of the I2C-bus specification's timing table: limits per speed mode, and what a capture measures.

Source: I2C-bus specification (UM10204), table "Characteristics of the SDA and SCL bus lines for Standard, Fast, and
Fast-mode Plus I2C-bus devices". Rise and fall times need volts and are not measured here.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from fractions import Fraction
from math import gcd
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.measured import Growing, Measured, narrowed
from ..trace.model import GRIDDED, Times
from .changes import excerpt
from .i2c import BEGIN, CEASE, DATA, FALL, RISE, events_of
from .stretches import Stretches

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
VALID = ("tVD;DAT", "tVD;ACK")  # in words, and at the acknowledge


class Measuring:
    """The times of every symbol on one bus: `feed` stretches of a capture that end while the bus rests, in order, then ask what was `told`.

    fSCL is told as periods in ticks, from one rise to the next within a transaction.
    """

    def __init__(self, scl: int, sda: int) -> None:
        self.lines = scl, sda
        self._spans, self._valid = Growing(len(SPANS)), Growing(len(VALID))
        self._period, self._hold, self._setup = Growing(), Growing(), Growing()
        self._before: tuple[int, int] | None = None  # the last edge of the stretch before, and what it was

    def feed(self, stretch: Trace) -> None:
        """The next stretch."""
        events = events_of(stretch, *self.lines)
        since, time, kind = *narrowed(events.time), events.kind
        edge = np.flatnonzero(kind != DATA)
        at, what = time.take(edge, mode="clip"), kind.take(edge, mode="clip")
        self._across(since, at, what)
        pair = what[:-1] << np.uint8(3) | what[1:]  # what lies on both sides of each span, as one number
        self._spans.add(at[1:] - at[:-1], at[1:], ROW.take(pair, mode="clip"), since)
        bit = pair == (RISE << 3 | FALL)
        joined = np.flatnonzero(bit[:-2] & bit[2:])  # rise, fall, rise, fall: neighbours in one transaction
        end = at.take(joined + 2, mode="clip")
        self._period.add(end - at.take(joined, mode="clip"), end, since=since)
        # The first and the last data change within each low period, and which of the nine bits it belongs to.
        moved = np.flatnonzero((edge[1:] - edge[:-1] > 1) & (pair == (FALL << 3 | RISE)))
        fall, rise = at.take(moved, mode="clip"), at.take(moved + 1, mode="clip")
        first, last = time.take(edge.take(moved) + 1, mode="clip"), time.take(edge.take(moved + 1) - 1, mode="clip")
        self._hold.add(first - fall, first, since=since)
        self._setup.add(rise - last, rise, since=since)
        self._valid.add(last - fall, last, _ninth(what, moved).view(np.uint8), since)

    def _across(self, since: int, at: NDArray[Any], what: NDArray[np.uint8]) -> None:
        """The rest that a stretch before ended in, which is a time like any other."""
        if not len(at):
            return
        if self._before is not None:
            row = ROW[self._before[1] << 3 | int(what[0])]
            self._spans.add(at[:1] + np.int64(since - self._before[0]), at[:1], np.array([row]), since)
        self._before = since + int(at[-1]), int(what[-1])

    def told(self) -> dict[str, Measured]:
        """All symbols, as far as they were measured."""
        both = ("scl", "sda")
        out = {symbol: self._spans.told(*both, row=row) for row, symbol in enumerate(SPANS)}
        out |= {symbol: self._valid.told(*both, row=row) for row, symbol in enumerate(VALID)}
        out |= {"fSCL": self._period.told("scl"), "tHD;DAT": self._hold.told(*both), "tSU;DAT": self._setup.told(*both)}
        return {symbol: out[symbol] for symbol in SYMBOLS}


class OfBlocks:
    """The same of blocks of any size. grain: ticks by which times may be off, as `Trace.resolution` has it."""

    def __init__(self, scl: int, sda: int) -> None:
        both = 1 << scl | 1 << sda
        self._stretches, self._measuring = Stretches(both, both), Measuring(scl, sda)
        self.grain = 0

    def feed(self, block: Trace) -> None:
        """The next block."""
        for stretch in self._stretches.feed(block):
            self._take(stretch)

    def told(self) -> dict[str, Measured]:
        """All symbols, behind the last block."""
        for stretch in self._stretches.finish():
            self._take(stretch)
        return self._measuring.told()

    def _take(self, stretch: Trace) -> None:
        if not self.grain or len(stretch) >= GRIDDED:  # the few changes of a last one tell nothing
            self.grain = gcd(self.grain, stretch.resolution())
        self._measuring.feed(stretch)


def measure(trace: Trace, scl: int, sda: int) -> dict[str, Measured]:
    """All symbols of a whole capture."""
    own = OfBlocks(scl, sda)
    own.feed(trace)
    return own.told()


def usual_clock(trace: Trace, scl: int, sda: int) -> float | None:
    """The clock in hertz, as the beginning of a capture shows it; None where nothing is clocked there."""
    part = excerpt(trace, CLOCKED, (scl, sda))
    return median_clock(part, measure(part, scl, sda))


def _ninth(what: NDArray[np.uint8], low: Times) -> NDArray[np.bool_]:
    """Whether the bit that follows each of these low periods is the ninth of its word."""
    begin = np.flatnonzero(what == BEGIN)
    number = np.cumsum(what == RISE, dtype=np.int32)
    # Rises ahead of the START that opened the transaction which each low period is in; none ahead of the first START.
    each = np.diff(np.searchsorted(low, begin), prepend=0, append=len(low))
    ahead = np.repeat(np.concatenate([[0], number[begin]]), each)
    out: NDArray[np.bool_] = (number.take(low) - ahead) % 9 == 8
    return out


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
