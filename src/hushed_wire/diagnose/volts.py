"""Captures in volts: levels against what the parts take, rise and fall times, fights between drivers, noise.

Times are fitted, not taken from two points: an edge of an open-drain line is an exponential, so the logarithm of what is left of the way to
its level is a straight line, whose slope is the time constant R x C.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..finding import Finding
from ..rig import Setup
from ..rig.schema import Bus
from ..trace import Edges, Trace
from ..trace.threshold import Waveforms
from ..units import parse, show
from .any_case import EVERYTHING

__all__ = ["Edge", "electric", "line_volts"]

RISE = 0.8473  # ln(0.7/0.3): from 30 % to 70 % of an exponential, between which the I2C-bus specification takes tr, in time constants
LONGEST_RISE = ((100e3, 1000e-9), (400e3, 300e-9), (1e6, 120e-9))  # I2C-bus specification, tr by mode
LONGEST_FIT = 2000  # samples
EDGES = 400  # that are fitted
BETWEEN = (0.3, 0.7)  # of the swing: neither low nor high
NOISE = [*EVERYTHING, "wiring.glitches", "wiring.loose-contact", "frame.bit-slip", "frame.data-refused", "frame.missing-stop", "timing.pulse-short",
         "timing.setup-short", "timing.hold-short", "timing.clock-too-fast", "capture.undersampled"]  # fmt: skip
PLATEAU = 1.5e-6  # seconds that a level between the two has to last to be one


@dataclass(frozen=True)
class Edge:
    """A line in volts. low, high: levels. rise, fall: 30 % to 70 % in seconds, nan where no edge could be fitted. noise: volts RMS.

    between: plateaus between the levels (moments in ticks). crossings: pulses at the threshold of a sample or two.
    """

    low: float
    high: float
    rise: float
    fall: float
    noise: float
    between: NDArray[np.int64]
    crossings: NDArray[np.int64]
    top: float


def line_volts(waves: Waveforms, trace: Trace, line: int) -> Edge:
    """What is measured on one line."""
    volts, times = waves.volts[line].astype(float), waves.times
    low, high, _ = trace.volts[line] if trace.volts else (float(np.nanmin(volts)), float(np.nanmax(volts)), 0.0)
    swing = max(high - low, 1e-6)
    tick = float(trace.tick)
    settled = np.abs(volts - high) < 0.1 * swing
    bottom = np.abs(volts - low) < 0.1 * swing
    # Noise of what lies still: differences of neighbours, which a slope hardly touches.
    steps = np.abs(np.diff(volts)[(settled[1:] & settled[:-1]) | (bottom[1:] & bottom[:-1])])
    noise = float(np.nanmedian(steps)) * 1.4826 / np.sqrt(2) if len(steps) > 8 else 0.0
    edges = trace.edges(line)
    rise, fall = (_constant(volts, times, edges, low, high, level, noise) * tick * RISE for level in (1, 0))
    inside = (volts > low + BETWEEN[0] * swing) & (volts < low + BETWEEN[1] * swing)
    first, last = _runs(inside)
    flat = np.array(
        [
            _is_flat(volts[a:b], noise, swing) and abs(volts[a] - volts[max(0, a - 1)]) > max(0.15 * swing, 4 * noise)
            for a, b in zip(first.tolist(), last.tolist(), strict=True)
        ],
        bool,
    )
    lasts = (times[np.minimum(last, len(times) - 1)] - times[first]) * tick if len(first) else np.empty(0)
    own = edges.durations()[1:-1] * tick
    step = max(1, trace.resolution()) * tick
    short = np.flatnonzero(own <= 2.01 * step)
    usual = float(np.median(own)) if len(own) else 0.0
    crossings = edges.times[1:-1][short] if usual > 6 * step else edges.times[:0]
    return Edge(
        low,
        high,
        rise,
        fall,
        noise,
        times[first[flat & (lasts >= PLATEAU)]],
        crossings,
        float(np.nanmax(volts)) if len(volts) else 0.0,
    )


def _is_flat(piece: NDArray[Any], noise: float, swing: float) -> bool:
    return len(piece) >= 3 and float(np.ptp(piece)) < max(8 * noise, 0.12 * swing)


def _runs(mask: NDArray[np.bool_]) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    edge = np.flatnonzero(np.diff(np.concatenate([[False], mask, [False]]).astype(np.int8)))
    return edge[0::2], edge[1::2]


def _constant(volts: NDArray[Any], times: NDArray[Any], edges: Edges, low: float, high: float, level: int, noise: float) -> float:
    """The time constant of edges towards a level, in ticks: the median of straight lines through the logarithm of what is left."""
    top = float(np.nanpercentile(volts, 99.9))  # where rises are cut short the usual level is below the one that is aimed at
    goal, swing = (top, top - low) if level else (low, high - low)
    which = 1 + np.flatnonzero(edges.level[1:] == level)
    if swing <= 0 or len(which) < 4:
        return float("nan")
    which = which[:: max(1, len(which) // EDGES)]
    behind = np.append(edges.times, times[-1])
    columns = [
        np.searchsorted(times, column).tolist() for column in (edges.times[which - 1], edges.times[which], behind[which + 1])
    ]
    found = []
    for before, index, end in zip(*columns, strict=True):
        # An edge begins ahead of the threshold: with the last sample that is still where the line was furthest from its goal.
        first = max(before, index - LONGEST_FIT)
        path = (goal - volts[first : index + 1]) / swing * (1 if level else -1)
        near = np.flatnonzero(path >= np.nanmax(path) - max(0.05, 3 * noise / swing)) if len(path) else path
        start = first + int(near[-1]) if len(near) else index
        span = slice(start, min(index + LONGEST_FIT, end))
        left = (goal - volts[span]) / swing * (1 if level else -1)
        stop = np.flatnonzero(left < max(0.08, 4 * noise / swing))
        count = int(stop[0]) if len(stop) else len(left) * (len(left) > 8)
        if count < 3 or (left[:count] <= 0).any():
            continue
        when = times[span][:count].astype(float)
        slope = np.polyfit(when - when[0], np.log(left[:count]), 1)[0]
        if slope < 0:
            found.append(-1 / slope)
    return float(np.median(found)) if len(found) >= 4 else float("nan")


def electric(trace: Trace, waves: Waveforms, plan: Setup, bus: Bus) -> Iterator[Finding]:
    """What the volts of a bus's lines tell."""
    driver = bus.driver
    supply = float(parse(driver.supply, "V"))
    given = not plan.assumed
    clock = float(parse(bus.clock, "Hz")) if bus.clock else 400e3
    longest = next((rise for most, rise in LONGEST_RISE if clock <= most * 1.02), LONGEST_RISE[-1][1])
    vih = max((device_vih(plan, name) * supply for name in (device.part for device in plan.rig.device)), default=0.7 * supply)
    start, end = trace.seconds(trace.start), trace.seconds(trace.end)
    for role, name in bus.lines.items():
        if name not in waves.names:
            continue
        line = waves.names.index(name)
        own = line_volts(waves, trace, line)
        swing = own.high - own.low
        moves = len(trace.edges(line).times) - 1
        open_drain = bus.kind == "i2c" and role in ("scl", "sda")
        if len(own.between) and swing > 0.4:
            first = trace.seconds(int(own.between[0]))
            yield Finding(
                "wiring.contention", f"{name} lies between low and high in {len(own.between)} place{'s' if len(own.between) > 1 else ''}, about "
                f"{own.low + swing / 2:.2f} V: two drivers pull against each other",
                "find the second driver: a pin that is a push-pull output where it should be open-drain, two devices that answer at once, or a line "
                "that another peripheral drives",
                lines=[name], start=first, end=trace.seconds(int(own.between[-1])), count=len(own.between),
                evidence={"low": f"{own.low:.2f} V", "high": f"{own.high:.2f} V"}, explains=[*EVERYTHING, "wiring.level-mismatch", "capture.noisy-threshold"],
            )  # fmt: skip
        if open_drain and (climbing := _climbing(waves, trace, bus, line)):
            yield _missing(
                name,
                driver,
                f"it is still on its way up in {climbing:.0%} of the clocks",
                longest,
                (start, end),
                {"supply": f"{supply:g} V"},
            )
        elif open_drain and moves > 8:
            yield from _pulled(trace, name, own, driver, longest, clock, vih if given else 0.7 * max(own.top, 1e-9), (start, end))
        if given and moves > 2 and own.high < vih - 0.05 and not (open_drain and own.rise > 2 * longest):
            yield Finding(
                "wiring.level-mismatch", f"{name} only gets up to {own.high:.2f} V; the parts take a level for high from {vih:.2f} V on (supply {supply:g} V)",
                "feed driver and display from one supply, or put a level shifter between them; look for a series resistor or a second pull-down on the line",
                lines=[name], start=start, end=end, evidence={"high": f"{own.high:.2f} V", "needed": f"{vih:.2f} V", "low": f"{own.low:.2f} V"},
                explains=[code for code in EVERYTHING if code.startswith(("setup.", "frame."))],
            )  # fmt: skip
        if len(own.crossings) > 4 and own.noise > 0.04 * max(swing, 0.4):
            yield Finding(
                "capture.noisy-threshold", f"{name} has {own.noise * 1000:.0f} mV of noise, which crosses the threshold in {len(own.crossings)} places",
                "shorten the probe's ground lead, limit its bandwidth, or widen the band: --hysteresis "
                f"{min(0.6 * swing, 8 * own.noise):.1f}V",
                lines=[name], start=trace.seconds(int(own.crossings[0])), end=trace.seconds(int(own.crossings[-1])), count=len(own.crossings),
                evidence={"noise": f"{own.noise * 1000:.0f} mV", "swing": f"{swing:.2f} V"},
                explains=NOISE,
            )  # fmt: skip


def device_vih(plan: Setup, part: str) -> float:
    """The share of the supply that a part takes for high."""
    from ..part import load

    levels = load(part).levels
    return levels.vih if levels is not None and levels.vih < 1 else 0.7


def _pulled(
    trace: Trace, name: str, own: Edge, driver: Any, longest: float, clock: float, vih: float, span: tuple[float, float]
) -> Iterator[Finding]:
    """The pull-up of an open-drain line, by how fast it rises and how far it gets."""
    if not np.isfinite(own.rise) or own.noise > 0.05 * (own.high - own.low):
        return  # through so much noise no slope can be told
    pull_up, capacitance = float(parse(driver.pull_up, "Ohm")), float(parse(driver.capacitance, "F"))
    tau = own.rise / RISE
    resistor, load = tau / capacitance, tau / pull_up
    # Without a resistor only leakage and the inputs' own pull-ups are left: it takes most of a clock to rise, or never gets there.
    missing = own.rise > 0.8 / clock or (own.rise > 0.3 / clock and own.high < vih)
    if own.rise <= 1.15 * longest and not missing:
        return
    evidence = {
        "rise time 30 % to 70 %": show(own.rise, "s"), "allowed": show(longest, "s"),
        "fall time": show(own.fall, "s") if np.isfinite(own.fall) else "not measured",
        "would be": f"a pull-up of {show(resistor, 'Ohm')} at {show(capacitance, 'F')}, or {show(load, 'F')} at {show(pull_up, 'Ohm')}",
        "source": "I2C-bus specification, tr",
    }  # fmt: skip
    if missing:
        yield _missing(
            name, driver, f"it takes {show(own.rise, 's')} to rise, {show(longest, 's')} are allowed", longest, span, evidence
        )
        return
    wanted = 0.7 * longest / RISE / capacitance
    yield Finding(
        "wiring.weak-pullup", f"{name} takes {show(own.rise, 's')} to rise, {show(longest, 's')} are allowed: its pull-up is too large for this "
        f"clock and capacitance",
        f"fit a pull-up of {show(wanted, 'Ohm')} or so from {name} to the supply, shorten the wires, or slow the clock down",
        lines=[name], start=span[0], end=span[1], evidence=evidence, explains=[*NOISE, *SLOW],
    )  # fmt: skip


SLOW = [
    "wiring.level-mismatch",
    "wiring.contention",
    "address.no-answer",
    "address.neighbour",
    "capture.noisy-threshold",
    "wiring.stuck-line",
]


def _missing(name: str, driver: Any, how: str, longest: float, span: tuple[float, float], evidence: dict[str, Any]) -> Finding:
    wanted = 0.7 * longest / RISE / float(parse(driver.capacitance, "F"))
    return Finding(
        "wiring.missing-pullup", f"{name} has no pull-up to speak of: {how}",
        f"fit a pull-up of {show(wanted, 'Ohm')} or so from {name} to the supply (a driver's internal one is far too large)",
        lines=[name], start=span[0], end=span[1], evidence=evidence, explains=[*NOISE, *SLOW],
    )  # fmt: skip


def _climbing(waves: Waveforms, trace: Trace, bus: Bus, line: int) -> float:
    """The share of clocks at whose rise a data line is on its way up, between the levels; 0 where that is rare."""
    scl = bus.lines.get("scl", "")
    if scl not in waves.names or waves.names.index(scl) == line:
        return 0.0
    edges = trace.edges(waves.names.index(scl))
    at = np.searchsorted(waves.times, edges.times[1:][edges.level[1:] == 1])
    at = at[at < len(waves.times) - 1]
    if len(at) < 32:
        return 0.0
    volts = waves.volts[line].astype(float)
    top = float(np.nanpercentile(volts, 99.9))
    here = volts[at]
    share = float(np.mean((here > 0.12 * top) & (here < 0.7 * top)))
    return share if share > 0.15 else 0.0
