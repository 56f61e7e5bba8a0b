"""Times that are limited, required and measured: of parts by their descriptions, of the I2C bus by its specification.

Which symbol of a description is measured as what stands with the kinds of bus (`bus.base`). Times between two lines may be off by one sample
interval, so a limit is broken only beyond that.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from ..bus import i2c_timing
from ..bus.base import Measure
from ..part import Commands, Part
from ..part.split import DATA
from ..rig import DeviceReading
from ..trace.measured import Measured
from ..units import parse, show
from .case import Case, select_for

__all__ = ["Margin", "margins", "of_execution", "of_parts", "of_specification"]

ROUNDING = 1e-9  # relative: a limit in seconds is seldom an exact number of ticks in floating point
TOLERANCE = 1.02  # oscillators of drivers are off by this much without harm
# Of a part's typical time. Its oscillator may be faster than that (HD44780U, Electrical Characteristics, Internal Clock Operation: 270 kHz typical,
# up to 350 kHz, which makes 0.77), so what is told between that and here is likely, and not certain.
EXECUTES = 0.85
BESIDE_CLOCK = ("tLOW", "tHIGH")  # told beside a clock that is too fast


@dataclass
class Margin:
    """One time as required and as measured, in seconds. below: how many are beyond it. lines: captured names.

    at_most: the time is the longest that is allowed, and `smallest` the longest that was measured. rate: it is the period of a clock.
    beside: other times that tell more of it.
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
    rate: bool = False
    beside: Mapping[str, str] = field(default_factory=dict)

    @property
    def spare(self) -> float:
        """Seconds between the worst that was measured and what is required; negative beyond it."""
        return (self.required - self.smallest) * (1 if self.at_most else -1)


def of_parts(case: Case) -> list[Margin]:
    """Every limit of the parts directly on a bus that was measured."""
    out: list[Margin] = []
    for device, part, select in _on(case):
        limits = dict(part.limits)
        source = f"{part.source}: {limits.pop('source', '')}"
        wanted = {symbol: case.kind.measures[symbol] for symbol in limits if symbol in case.kind.measures}
        if not wanted:
            continue
        columns = _columns(case, select)
        for symbol, measure in wanted.items():
            column = columns.get(measure.what)
            if column is not None and len(column):
                out.append(_margin(case, device, symbol, measure, limits[symbol], column, source))
    return out


def of_execution(case: Case) -> list[Margin]:
    """How long each part was left alone behind what keeps it busy, against the time that its description gives: of data, and of commands.

    What came behind a read is left out: whoever reads has seen whether it was busy.
    """
    out: list[Margin] = []
    for reading in case.devices:
        groups: dict[tuple[str, str, str], list[tuple[NDArray[np.int64], NDArray[np.int64]]]] = {}
        for own in reading.chips:
            for key, words in _busy_words(reading.part, own).items():
                payload = own.payload
                last = words[words < len(payload) - 1]
                rest = payload.start[last + 1] - payload.time[last]
                alone = ~_read_between(case, reading, payload.time[last], payload.start[last + 1])
                groups.setdefault(key, []).append((rest[alone], payload.time[last][alone]))
        for (name, text, source), found in groups.items():
            value, when = (np.concatenate(column) for column in zip(*found, strict=True))
            if len(value):
                out.append(_execution(case, reading, name, text, f"{reading.part.source}: {source}", value, when))
    return out


def _busy_words(part: Part, own: Commands) -> dict[tuple[str, str, str], NDArray[np.int64]]:
    """By name, time and source: the words behind which a part is busy for that time."""
    out: dict[tuple[str, str, str], NDArray[np.int64]] = {}
    times: dict[tuple[str, str], list[int]] = {}
    for kind in np.unique(own.kind[own.kind >= 0]).tolist():
        command = part.command[kind]
        if command.takes:
            times.setdefault((command.takes, command.source), []).append(kind)
    for (takes, source), kinds in times.items():
        at = np.flatnonzero(np.isin(own.kind, kinds))
        names = ", ".join(part.command[kind].name for kind in kinds[:3]) + (", …" if len(kinds) > 3 else "")
        out[names, takes, source] = own.first[at] + own.count[at] - 1
    if "data" in part.waits:
        runs = np.flatnonzero(own.kind == DATA)
        first, count = own.first[runs], own.count[runs]
        words = np.repeat(first - np.cumsum(count) + count, count) + np.arange(int(count.sum()))
        out["data", part.waits["data"], part.waits.get("source", "")] = words
    return out


def _read_between(case: Case, reading: DeviceReading, begin: NDArray[np.int64], end: NDArray[np.int64]) -> NDArray[np.bool_]:
    """Whether something was read from the lines that a device hangs on between two moments."""
    channels = [own for own in case.reading.on(reading.device.on) if own.read is not None and len(own.words)]
    if not channels:
        return np.zeros(len(begin), bool)
    moments = np.sort(np.concatenate([own.words.effect[own.read] for own in channels]))
    return np.searchsorted(moments, end) > np.searchsorted(moments, begin)


def _execution(
    case: Case, reading: DeviceReading, name: str, text: str, source: str, value: NDArray[np.int64], when: NDArray[np.int64]
) -> Margin:
    tick, slack, needed = float(case.trace.tick), case.trace.resolution(), float(parse(text, "s"))
    bad = np.flatnonzero((value + slack) * tick < EXECUTES * needed)
    first = case.seconds(int(when[bad[0]])) if len(bad) else None
    return Margin(
        reading.device.name, "busy", f"rest behind {name}", needed, float(value.min()) * tick, float(np.median(value)) * tick, len(value), len(bad),
        first, source, [], "timing.wait-short",
    )  # fmt: skip


def _on(case: Case) -> Iterator[tuple[str, Part, str]]:
    """Name, part and select's role of every display and bridge on the bus itself that was spoken to."""
    for reading in case.direct:
        if len(reading):
            yield reading.device.name, reading.part, select_for(case, reading.device.select)
    for bridge in case.bridges:
        if bridge.on == case.bus.name and bridge.name in case.reading.driven:
            yield bridge.name, bridge.chip, select_for(case, bridge.select)


def _columns(case: Case, select: str) -> Mapping[str, Measured]:
    """What is measured on a bus at this select, by what it is called."""
    return case.times("" if case.kind.started else select)


def _margin(case: Case, device: str, symbol: str, measure: Measure, text: str, column: Measured, source: str) -> Margin:
    tick, slack = float(case.trace.tick), case.trace.resolution()
    limit = float(parse(text, measure.unit))
    rate = measure.unit == "Hz"
    needed = 1 / limit if rate else limit
    count, least = len(column), column.least
    if rate:
        # An oscillator's mean tells, of bits that follow one another without a pause; single periods jitter.
        least = column.mean_upto(1.5 * column.typical)
        fast = (least + slack / np.sqrt(count)) * tick * TOLERANCE < needed
        below, first = (count, int(column.when.min())) if fast else (0, None)
    else:
        below, first = column.beyond(needed / tick * (1 - ROUNDING) - slack, None)
    beside = {}
    if rate and case.kind.addressed:
        beside = {name: show(case.times()[name].typical * tick, "s") for name in BESIDE_CLOCK if len(case.times()[name])}
    return Margin(
        device, symbol, measure.what, needed, least * tick, column.typical * tick, count, below, None if first is None else case.seconds(first),
        source, [line for role in column.lines for line in _names(case, role)], measure.code, rate=rate, beside=beside,
    )  # fmt: skip


def _names(case: Case, role: str) -> list[str]:
    return case.names(*(case.kind.data_lines(case.bus.lines) if role == "data" else (role,)))


def of_specification(case: Case) -> list[Margin]:
    """The timing table of the I2C-bus specification, in the mode that the clock asks for."""
    clock = i2c_timing.median_clock(case.trace, case.times())
    mode = i2c_timing.mode_of(clock) if clock else 0
    out = []
    for entry in i2c_timing.margins(case.trace, case.times(), mode):
        required = entry.minimum if entry.minimum is not None else entry.maximum
        if required is None:
            continue
        rate = entry.symbol == "fSCL"
        longest = not rate and entry.minimum is None
        least, usual = entry.most if longest else entry.least, entry.typical
        if rate:  # as periods, like all others
            required, least, usual = 1 / required, 1 / entry.most, 1 / usual
        out.append(Margin(
            "", entry.symbol, entry.mode, required, least, usual, entry.measurements, entry.beyond, entry.first,
            "I2C-bus specification, characteristics of the SDA and SCL bus lines", case.names("scl", "sda"), i2c_timing.CODE_OF.get(entry.symbol, ""),
            longest, rate,
        ))  # fmt: skip
    return out


def margins(case: Case) -> list[Margin]:
    """Every time that is limited, required and measured, even when all is good."""
    return [*(of_specification(case) if case.kind.addressed else []), *of_parts(case), *of_execution(case)]
