"""Every symbol of the I2C-bus specification's timing table: limits per speed mode, and what a capture measures.

Source: I2C-bus specification (UM10204), table "Characteristics of the SDA and SCL bus lines for Standard, Fast, and
Fast-mode Plus I2C-bus devices". Rise and fall times need volts and are not measured here.
"""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times
from .changes import excerpt
from .i2c import BEGIN, CEASE, DATA, FALL, RISE, events_of
from .measured import Measured

__all__ = ["LIMITS", "MODES", "SYMBOLS", "Margin", "margins", "measure", "mode_of"]

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
PART = 1 << 18  # changes that are measured at once
AT_REST = 4  # times as long as the bus usually has both lines high
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


def _column(when: Times, value: Times, *lines: str) -> Measured:
    return Measured.of(value, when, *(lines or ("scl", "sda")))


def mode_of(clock: float) -> int:
    """The index in MODES of the slowest mode that allows this clock (with 2 % for the tolerance of oscillators)."""
    for index, (_, most) in enumerate(LIMITS["fSCL"][1]):
        if most is not None and clock <= most * 1.02:
            return index
    return len(MODES) - 1


def measure(trace: Trace, scl: int, sda: int) -> dict[str, Measured]:
    """All symbols of a capture; fSCL as periods in ticks (from one rise to the next within a transaction).

    A long capture is measured in parts that end while the bus rests, so that what is needed on the way stays small.
    """
    with ThreadPoolExecutor(2) as pool:  # most of it is spent in columns, which let others run
        parts = list(pool.map(lambda part: _measured(part, scl, sda), _parts(trace, scl, sda)))
    return {symbol: Measured.join([part[symbol] for part in parts]) for symbol in SYMBOLS}


def _parts(trace: Trace, scl: int, sda: int) -> Iterator[Trace]:
    """The trace, cut in the middle of the longest rest with both lines high that each stretch has."""
    idle = trace.levels.dtype.type(1 << scl | 1 << sda)
    begin, at, count = trace.start, PART, len(trace)
    while at + PART // 2 < count:
        span = slice(at, min(count, at + PART))
        rests = np.diff(trace.times[span.start : span.stop + 1], append=trace.end if span.stop == count else [])
        rests = np.where((trace.levels[span][: len(rests)] & idle) == idle, rests, 0)
        longest = int(np.argmax(rests))
        if rests[longest] >= AT_REST * np.median(rests[rests > 0]) if (rests > 0).any() else False:
            cut = int(trace.times[at + longest]) + int(rests[longest]) // 2
            yield trace.window(begin, cut)
            begin, at = cut, at + longest + PART
        else:
            at += PART
    yield trace if begin == trace.start else trace.window(begin, trace.end)


def _measured(trace: Trace, scl: int, sda: int) -> dict[str, Measured]:
    events = events_of(trace, scl, sda)
    time, kind = events.time, events.kind
    edge = np.flatnonzero(kind != DATA)
    at, what = time[edge], kind[edge]
    here, after = what[:-1], what[1:]
    span = np.diff(at)
    pair = here << np.uint8(4) | after  # what lies on both sides of each span, as one number

    def places(first: int, second: int) -> Times:
        found: Times = np.flatnonzero(pair == (first << 4 | second))
        return found

    def between(first: int, second: int) -> Measured:
        found = places(first, second)
        return _column(at.take(found + 1), span.take(found))

    bit, low = places(RISE, FALL), places(FALL, RISE)
    out = {
        "tHD;STA": between(BEGIN, FALL),
        "tLOW": _column(at.take(low + 1), span.take(low)),
        "tHIGH": _column(at.take(bit + 1), span.take(bit)),
        "tSU;STA": between(RISE, BEGIN),
        "tSU;STO": between(RISE, CEASE),
        "tBUF": between(CEASE, BEGIN),
    }
    joined = bit[:-1][np.diff(bit) == 2]  # rise, fall, rise, fall: neighbours in one transaction
    out["fSCL"] = _column(at[joined + 2], at[joined + 2] - at[joined], "scl")
    # The first and the last data change within each low period, and which of the nine bits it belongs to.
    position = edge[low]
    first_data = position + 1
    last_data = edge[low + 1] - 1
    moved = last_data >= first_data
    fall_at, rise_at = time[position[moved]], time[edge[low + 1][moved]]
    first_at, last_at = time[first_data[moved]], time[last_data[moved]]
    out["tHD;DAT"] = _column(first_at, first_at - fall_at)
    out["tSU;DAT"] = _column(rise_at, rise_at - last_at)
    ninth = _ninth(what, low)[moved]
    out["tVD;DAT"] = _column(last_at[~ninth], (last_at - fall_at)[~ninth])
    out["tVD;ACK"] = _column(last_at[ninth], (last_at - fall_at)[ninth])
    return {symbol: out[symbol] for symbol in SYMBOLS}


def usual_clock(trace: Trace, scl: int, sda: int) -> float | None:
    """The clock in hertz, as the beginning of a capture shows it; None where nothing is clocked there."""
    part = excerpt(trace, CLOCKED, (scl, sda))
    return median_clock(part, measure(part, scl, sda))


def _ninth(what: NDArray[np.uint8], low: Times) -> NDArray[np.bool_]:
    """Whether the bit that follows each low period is the ninth of its word."""
    begin = np.flatnonzero(what == BEGIN)
    number = np.cumsum(what == RISE, dtype=np.int32)
    # Rises ahead of the START that opened the transaction which each low period is in; none ahead of the first START.
    each = np.diff(np.searchsorted(low, begin), prepend=0, append=len(low))
    ahead = np.repeat(np.concatenate([[0], number[begin]]), each)
    out: NDArray[np.bool_] = (number[low] - ahead) % 9 == 8
    return out


def margins(trace: Trace, columns: dict[str, Measured], mode: int) -> list[Margin]:
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


def median_clock(trace: Trace, columns: dict[str, Measured]) -> float | None:
    """The usual clock in hertz, None where no two bits follow each other."""
    periods = columns["fSCL"]
    return None if not len(periods) else 1 / (periods.typical * float(Fraction(trace.tick)))
