"""From exact traces to what an instrument records: samples at a rate, with jitter, or volts with edges and noise."""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from .model import UNKNOWN, Trace, fold
from .threshold import Waveforms

__all__ = ["sampled", "volts"]


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


def volts(trace: Trace, rate: Fraction, supply: float, rise: float, seed: int = 0, noise: float = 0.02) -> Waveforms:
    """The trace as an instrument with volts would show it: open-drain lines that rise with the time constant `rise` (seconds)
    and fall ten times as fast, with `noise` (volts RMS). Edges are taken to settle before the next one."""
    random = np.random.default_rng(seed)
    count = int((trace.end - trace.start) * trace.tick * rate)
    when = (np.arange(count) / float(rate)) / float(trace.tick) + trace.start
    columns = []
    for line in range(len(trace.names)):
        edges = trace.edges(line)
        at = np.maximum(np.searchsorted(edges.times, when, side="right") - 1, 0)
        since = (when - edges.times[at]) * float(trace.tick)
        high = edges.level[at] == 1
        slope = np.exp(-since / np.where(high, rise, rise / 10))
        slope[at == 0] = 0.0  # the level at the start has long settled
        level = np.where(high, supply * (1 - slope), supply * slope)
        level[edges.level[at] == UNKNOWN] = np.nan
        columns.append((level + random.normal(0.0, noise, count)).astype(np.float32))
    return Waveforms(trace.names, np.arange(count, dtype=np.int64), tuple(columns), 1 / rate, count, 1)
