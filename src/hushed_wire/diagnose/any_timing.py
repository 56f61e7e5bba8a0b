"""Minimum times of SPI and parallel parts against the measured ones, and the table of margins, of I2C too."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np

from ..bus import i2c_timing
from ..bus.edges_timing import MEASURES, Column, measure_parallel, measure_spi
from ..finding import Finding
from ..rig import DeviceReading
from ..units import parse, show
from .any_case import AnyCase

__all__ = ["RULES", "Margin", "margins"]

TOLERANCE = 1.02  # oscillators of drivers are off by this much without harm


@dataclass
class Margin:
    """One time of a part as required and as measured, in seconds. below: how many are beyond it. lines: captured names.

    at_most: the time is the longest that is allowed, and `smallest` the longest that was measured.
    """

    device: str
    symbol: str
    what: str
    required: float
    smallest: float
    usual: float
    count: int
    below: int
    first: float | None
    source: str
    lines: list[str]
    code: str
    at_most: bool = False

    @property
    def spare(self) -> float:
        """Seconds between the worst that was measured and what is required; negative beyond it."""
        return (self.required - self.smallest) * (1 if self.at_most else -1)


def _columns(case: AnyCase, reading: DeviceReading) -> dict[str, Column]:
    """What is measured on the bus that a device hangs on."""
    bus = case.bus
    roles = {role: case.trace.names.index(line) for role, line in bus.lines.items() if line in case.trace.names}
    if bus.kind == "spi":
        select = reading.device.select or next((role for role in ("cs", "cs1") if role in roles), "")
        return measure_spi(case.trace, roles, bus.mode, 1 if bus.select == "high" else 0, select if select in roles else "")
    return measure_parallel(case.trace, roles) if bus.kind == "parallel" else {}


def _table(case: AnyCase) -> list[Margin]:
    out: list[Margin] = []
    tick = float(case.trace.tick)
    slack = case.trace.resolution()
    for reading in case.hearing.devices:
        if (
            reading.device.on != case.bus.name
            or case.bus.kind not in ("spi", "parallel")
            or not any(len(c) for c in reading.chips)
        ):
            continue
        columns = _columns(case, reading)
        limits = dict(reading.part.limits)
        source = f"{reading.part.source}: {limits.pop('source', '')}"
        for symbol, text in limits.items():
            what, code = MEASURES.get(symbol, ("", ""))
            if symbol == "spi_clock" and case.bus.kind == "spi":
                what, code = "clock period", "timing.clock-too-fast"
            column = columns.get(what)
            if column is None or not len(column.value):
                continue
            needed = 1 / float(parse(text, "Hz")) if what == "clock period" else float(parse(text, "s"))
            value = column.value
            if what == "clock period":
                value = np.array([np.median(value)])  # an oscillator's mean tells; single periods jitter
                bad = np.flatnonzero((value + slack / np.sqrt(len(column.value))) * tick * TOLERANCE < needed)
            else:
                bad = np.flatnonzero((value + slack) * tick < needed)
            first = case.trace.seconds(int(column.when[bad[0]])) if len(bad) else None
            count = len(column.value)
            below = count if what == "clock period" and len(bad) else len(bad)
            lines = [name for role in column.lines for name in _names(case, role)]
            out.append(Margin(
                reading.device.name, symbol, what, needed, float(value.min()) * tick, float(np.median(column.value)) * tick, count, below, first,
                source, lines, code,
            ))  # fmt: skip
    return out


def _names(case: AnyCase, role: str) -> list[str]:
    if role == "data":
        return [
            line for name, line in case.bus.lines.items() if name[0] == "d" and name[1:].isdecimal() and line in case.trace.names
        ]
    name = case.bus.lines.get(role, "")
    return [name] if name in case.trace.names else []


REMEDIES = {
    "timing.pulse-short": "make the pulse longer: a wait between the two edges, or a slower clock",
    "timing.setup-short": "set the line earlier: put it ahead of the edge by at least that time, or slow the clock down",
    "timing.hold-short": "keep the line for longer behind the edge: change it only after that time",
    "timing.clock-too-fast": "set the bus clock to what the part allows",
}


def times(case: AnyCase) -> Iterator[Finding]:
    """Every minimum time of the parts that the capture shows broken, one finding a code and device."""
    table = _table(case)
    fast = {margin.device for margin in table if margin.code == "timing.clock-too-fast" and margin.below}
    for device in dict.fromkeys(margin.device for margin in table):
        for code in dict.fromkeys(margin.code for margin in table):
            own = [margin for margin in table if margin.device == device and margin.code == code]
            broken = sorted((margin for margin in own if margin.below), key=lambda margin: margin.smallest / margin.required)
            if own and not broken:
                least = min(own, key=lambda margin: margin.smallest / margin.required)
                case.rule_out(
                    code,
                    f"{least.symbol} ({least.what}) is {show(least.smallest, 's')} at the least, {show(least.required, 's')} is required",
                )
            if not broken or (code != "timing.clock-too-fast" and device in fast and "clock" in broken[0].what):
                continue
            worst = broken[0]
            rate = code == "timing.clock-too-fast"
            what = (
                f"the clock runs at {show(1 / worst.usual, 'Hz')}; '{device}' allows {show(1 / worst.required, 'Hz')}"
                if rate
                else f"{worst.symbol}, the {worst.what}, is {show(worst.smallest, 's')} at the least; '{device}' needs {show(worst.required, 's')} "
                f"({worst.below:,} of {worst.count:,} are too short)"
            )
            yield Finding(
                code, what, REMEDIES[code], device=device, lines=worst.lines, start=worst.first, end=case.trace.seconds(case.trace.end),
                count=sum(margin.below for margin in broken),
                evidence={
                    "measured": show(worst.usual if rate else worst.smallest, "s"), "required": show(worst.required, "s"), "source": worst.source,
                    **({"too": ", ".join(f"{m.symbol} {show(m.smallest, 's')}" for m in broken[1:])} if broken[1:] else {}),
                },
                explains=["setup.unknown-command", "setup.undocumented-value", "frame.truncated-word", "timing.setup-short", "timing.hold-short"]
                if rate else [],
            )  # fmt: skip


def margins(case: AnyCase) -> list[Margin]:
    """Every time that is limited, required and measured, even when all is good."""
    if case.bus.kind != "i2c":
        return _table(case)
    scl, sda = case.line("scl"), case.line("sda")
    if scl is None or sda is None:
        return []
    columns = i2c_timing.measure(case.trace, scl, sda)
    clock = i2c_timing.median_clock(case.trace, columns)
    mode = i2c_timing.mode_of(clock) if clock else 0
    out = []
    for margin in i2c_timing.margins(case.trace, columns, mode):
        required = margin.minimum if margin.minimum is not None else margin.maximum
        if required is None:
            continue
        lines = [line for line in case.bus.lines.values() if line in case.trace.names]
        longest = margin.symbol != "fSCL" and margin.minimum is None
        least, usual = margin.most if longest else margin.least, margin.typical
        if margin.symbol == "fSCL":  # as periods, like all others
            required, least, usual = 1 / required, 1 / margin.most, 1 / usual
        out.append(Margin(
            "", margin.symbol, margin.mode, required, least, usual, margin.measurements, margin.beyond, margin.first,
            "I2C-bus specification, characteristics of the SDA and SCL bus lines", lines, "", longest,
        ))  # fmt: skip
    return out


RULES: list[Callable[[AnyCase], Iterator[Finding]]] = [times]
