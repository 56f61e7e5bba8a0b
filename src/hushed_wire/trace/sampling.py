"""From exact traces to what an instrument records: samples at a rate, with jitter, or volts with edges and noise."""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction

import numpy as np

from .model import UNKNOWN, Trace, Waveforms, fold

__all__ = ["Electrics", "sampled", "volts"]


def sampled(trace: Trace, rate: Fraction, seed: int = 0, jitter: float = 0.0) -> Trace:
    """The trace as sampled at `rate` (Hz), the phase of the samples and an edge jitter (seconds RMS) taken from `seed`.

    What falls between two samples is lost, as it is in life.
    """
    random = np.random.default_rng(seed)
    phase = float(random.uniform())
    ratio = float(trace.tick * rate)
    times, lines, values = [], [], []
    for line in range(len(trace.names)):
        edges = trace.edges(line)
        moved = (edges.times - trace.start) * ratio
        moved[1:] += random.normal(0.0, jitter * float(rate), len(moved) - 1) if jitter else 0.0
        moved = np.maximum.accumulate(moved)  # jitter never turns the order of a line's edges round
        at = np.ceil(moved - phase).astype(np.int64)
        at[0] = 0
        times.append(np.maximum(at, 0))
        lines.append(np.full(len(at), line, np.uint8))
        values.append(edges.level)
    order = np.argsort(np.concatenate(times), kind="stable")
    columns = [np.concatenate(part)[order] for part in (times, lines, values)]
    changed, packed, unknown = fold(columns[0], columns[1], columns[2], len(trace.names))
    end = max(int((trace.end - trace.start) * ratio), int(changed[-1]) + 1)
    return Trace(trace.names, changed, packed, end, 1 / rate, unknown, 1)


@dataclass(frozen=True)
class Electrics:
    """How one line behaves in volts. rise, fall: time constants in seconds. high: the level it gets up to. noise: volts RMS.

    fights: how many times two drivers pull against each other on it.
    """

    high: float
    rise: float
    fall: float
    noise: float = 0.02
    fights: int = 0


def volts(trace: Trace, rate: Fraction, lines: list[Electrics], seed: int = 0) -> Waveforms:
    """The trace as an instrument with volts would show it: each line charges towards its level from where it was."""
    random = np.random.default_rng(seed)
    count = int((trace.end - trace.start) * trace.tick * rate)
    when = (np.arange(count) / float(rate)) / float(trace.tick) + trace.start
    columns = []
    for line, own in enumerate(lines):
        edges = trace.edges(line)
        wanted = np.where(edges.level == 1, own.high, 0.0)
        constant = np.where(edges.level == 1, own.rise, own.fall)
        # What is left of the way to its level at the end of each stretch; where an edge comes early, the next one starts from there.
        left = np.exp(-np.diff(edges.times) * float(trace.tick) / constant[:-1])
        begin = np.empty(len(wanted))
        begin[0] = level = wanted[0]
        for number, (goal, rest) in enumerate(zip(wanted[:-1].tolist(), left.tolist(), strict=True), 1):
            begin[number] = level = goal + (level - goal) * rest
        at = np.maximum(np.searchsorted(edges.times, when, side="right") - 1, 0)
        since = (when - edges.times[at]) * float(trace.tick)
        shown = wanted[at] + (begin[at] - wanted[at]) * np.exp(-since / constant[at])
        shown[edges.level[at] == UNKNOWN] = np.nan
        for _ in range(own.fights):
            first = int(random.integers(0, max(1, count)))
            shown[first : first + max(3, int(float(rate) * 3e-6))] = own.high * random.uniform(0.4, 0.55)
        columns.append((shown + random.normal(0.0, own.noise, count)).astype(np.float32))
    return Waveforms(trace.names, np.arange(count, dtype=np.int64), tuple(columns), 1 / rate, count, 1)
