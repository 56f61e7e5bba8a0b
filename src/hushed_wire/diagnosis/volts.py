"""What is measured on a line in volts: its levels, rise and fall times, noise, and plateaus between the levels.

Times are fitted, not taken from two points: an edge of an open-drain line is an exponential with the time constant R x C. The fit tells how
sure it is, and how well an exponential explains the edges at all; nothing is claimed beyond that.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..trace import Edges, Trace
from ..trace.model import Waveforms

__all__ = ["RISE", "Edge", "climbing", "line_volts"]

RISE = 0.8473  # ln(0.7/0.3): from 30 % to 70 % of an exponential, between which the I2C-bus specification takes tr, in time constants
LONGEST_FIT = 2000  # samples
EDGES = 60  # that are fitted
SAMPLES = 200  # of an edge that are fitted
BETWEEN = (0.3, 0.7)  # of the swing: neither low nor high
PLATEAU = 1.5e-6  # seconds that a level between the two has to last to be one


@dataclass(frozen=True)
class Edge:
    """A line in volts. low, high: levels. rise, fall: 30 % to 70 % in seconds, nan where no edge could be fitted. rise_error: the standard
    uncertainty of `rise`; residual: volts RMS that the fit of the rises leaves over. noise: volts RMS of what lies still.

    between: plateaus between the levels (moments in ticks). crossings: pulses at the threshold of a sample or two.
    """

    low: float
    high: float
    rise: float
    fall: float
    rise_error: float
    residual: float
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
    up, down = (_fitted(volts, times, edges, low, high, level, noise) for level in (1, 0))
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
        up.constant * tick * RISE,
        down.constant * tick * RISE,
        up.error * tick * RISE,
        up.residual,
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


@dataclass(frozen=True)
class Fit:
    """An exponential through the edges of a line towards one level. constant: ticks, and error: its standard uncertainty; nan where
    nothing could be fitted. residual: RMS of what the fit leaves over, in volts."""

    constant: float
    error: float
    residual: float


NO_FIT = Fit(float("nan"), float("nan"), float("nan"))


def _fitted(volts: NDArray[Any], times: NDArray[Any], edges: Edges, low: float, high: float, level: int, noise: float) -> Fit:
    """Least squares of volts = goal - step * exp(-t / constant) through all edges at once: one goal and one constant for the line, since
    resistor and capacitance are the same each time, a step for each edge, since it may begin anywhere.

    For each constant that is tried goal and steps follow in closed form, so edges that are cut short long before their goal count
    for as much as they tell, and noise does not bend the fit, as it would bend a logarithm.
    """
    which = 1 + np.flatnonzero(edges.level[1:] == level)
    if high <= low or len(which) < 4:
        return NO_FIT
    which = which[:: max(1, len(which) // EDGES)]
    behind = np.append(edges.times, times[-1])
    columns = [np.searchsorted(times, column) for column in (edges.times[which - 1], edges.times[which], behind[which + 1])]
    rows = [
        _rising(volts, before, index, end, level == 1, max(0.05 * (high - low), 4 * noise))
        for before, index, end in zip(*(column.tolist() for column in columns), strict=True)
    ]
    rows = [row for row in rows if len(row) >= 3]
    if len(rows) < 4:
        return NO_FIT
    size = max(map(len, rows))
    value, when, count = np.zeros((len(rows), size)), np.zeros((len(rows), size)), np.array([len(row) for row in rows])
    for number, row in enumerate(rows):
        value[number, : len(row)], when[number, : len(row)] = volts[row], times[row] - times[row[0]]
    known = np.arange(size) < count[:, None]
    step = float(np.median(np.diff(times))) if len(times) > 1 else 1.0
    least, most = 0.2 * step, 4.0 * float(when.max())
    for _ in range(4):  # narrower and narrower around the best
        tried = np.geomspace(least, most, 24)
        left = np.array([_left_over(value, when, known, count, constant) for constant in tried])
        best = int(left.argmin())
        least, most = float(tried[max(0, best - 1)]), float(tried[min(len(tried) - 1, best + 1)])
    constant = float(tried[best])
    free = max(1, int(count.sum()) - len(rows) - 2)
    variance = max(float(left[best]), 0.0) / free
    near = 0.02 * constant
    around = [_left_over(value, when, known, count, constant + side * near) for side in (-1, 0, 1)]
    bend = (around[0] - 2 * around[1] + around[2]) / near**2
    error = float(np.sqrt(2 * variance / bend)) if bend > 0 else float("inf")
    return Fit(constant, error, float(np.sqrt(variance)))


def _rising(volts: NDArray[Any], before: int, index: int, end: int, up: bool, slack: float) -> NDArray[np.int64]:
    """The samples of one edge. It begins ahead of the threshold: behind the last sample that lies still where the line was furthest from
    its goal, but for `slack` volts. Of a long one only some samples are taken."""
    first = max(before, index - LONGEST_FIT)
    path = volts[first : index + 1] * (-1 if up else 1)
    away = np.flatnonzero(path >= np.nanmax(path) - slack) if len(path) and np.isfinite(path).any() else path[:0]
    start = first + int(away[-1]) + 1 if len(away) else index
    # It ends ahead of the next edge, which leaves its level ahead of the threshold, too.
    path = volts[index:end] * (1 if up else -1)
    near = np.flatnonzero(path >= np.nanmax(path) - slack / 2) if len(path) and np.isfinite(path).any() else path[:0]
    stop = min(index + int(near[-1]) if len(near) else end, start + LONGEST_FIT)
    at = np.arange(start, stop, max(1, (stop - start) // SAMPLES))
    known: NDArray[np.int64] = at[np.isfinite(volts[at])]
    return known


def _left_over(
    value: NDArray[np.float64], when: NDArray[np.float64], known: NDArray[np.bool_], count: NDArray[np.int64], constant: float
) -> float:
    """The squares that the best goal and steps leave over for one time constant."""
    bend = np.where(known, np.exp(-when / constant), 0.0)
    ones, squares = bend.sum(axis=1), (bend**2).sum(axis=1)
    both, total = (value * bend).sum(axis=1), value.sum(axis=1)
    share = ones / squares
    # What is left is a parabola in the goal: its coefficients, and its least value.
    a = float((count - ones * share).sum())
    b = float((total - both * share).sum())
    c = float((value**2).sum() - (both**2 / squares).sum())
    return c - b * b / a if a > 1e-9 else c


def climbing(waves: Waveforms, trace: Trace, clock: str, line: int, own: Edge) -> float:
    """The share of rises of a clock line at which a data line is on its way up, between its levels and higher a sample later; 0 where that is rare."""
    swing = own.high - own.low
    if clock not in waves.names or waves.names.index(clock) == line or swing < 0.2:
        return 0.0
    edges = trace.edges(waves.names.index(clock))
    at = np.searchsorted(waves.times, edges.times[1:][edges.level[1:] == 1])
    at = at[at < len(waves.times) - 2]
    if len(at) < 32:
        return 0.0
    volts = waves.volts[line].astype(float)
    here = (volts[at] - own.low) / swing
    rises = volts[at + 2] - volts[at] > 3 * own.noise
    share = float(np.mean((here > 0.15) & (here < 0.7) & rises))
    return share if share > 0.15 else 0.0
