"""From volts to levels: thresholds with hysteresis, given or found in the histogram of the line."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .model import Note, Times, Trace, Waveforms, fold

__all__ = ["levels", "limits"]

BINS = 256
PEAK = 6  # bins on either side of a peak that count as its noise
SWING = 0.4  # volts: a line that moves less than this does not switch
BAND = 0.2  # hysteresis found by itself, as a share of the swing


def limits(volts: NDArray[np.float32]) -> tuple[float, float]:
    """The low and the high level of a line in volts: where the histogram peaks in the lower and in the upper half."""
    finite = volts[np.isfinite(volts)].astype(np.float64)
    if not len(finite):
        return 0.0, 0.0
    if float(finite.max() - finite.min()) < SWING:
        middle = float(np.median(finite))
        return middle, middle
    count, edge = np.histogram(finite, bins=BINS)
    center = (edge[1:] + edge[:-1]) / 2
    half = BINS // 2

    def level(part: slice) -> float:
        # The peak, and the bins around it that its noise fills.
        peak = int(np.argmax(count[part])) + (part.start or 0)
        near = slice(max(0, peak - PEAK), peak + PEAK + 1)
        return round(float(np.average(center[near], weights=count[near])), 3) + 0.0

    return level(slice(0, half)), level(slice(half, BINS))


def levels(waveforms: Waveforms, threshold: float | None = None, hysteresis: float | None = None) -> Trace:
    """The trace of `waveforms`. threshold and hysteresis (full width) in volts; by default the middle and a fifth of the swing.

    A line that does not switch gets the threshold of the others: half the largest swing seen. Samples that are not
    numbers are unknown; so is a line ahead of the first sample that is clearly low or high.
    """
    found = [limits(line) for line in waveforms.volts]
    top = max((high for low, high in found if high - low >= SWING), default=max((high for _, high in found), default=0.0))
    volts, notes = [], []
    parts: list[tuple[Times, int, NDArray[np.uint8]]] = []
    for number, (line, (low, high)) in enumerate(zip(waveforms.volts, found, strict=True)):
        switches = high - low >= SWING
        middle = threshold if threshold is not None else ((low + high) / 2 if switches else max(top, 2 * SWING) / 2)
        band = hysteresis if hysteresis is not None else (BAND * (high - low) if switches else 0.0)
        volts.append((low, high, middle))
        if switches and not low < middle < high:
            text = f"{waveforms.names[number]} goes from {low:.2f} V to {high:.2f} V and never crosses the threshold of {middle:.2f} V"
            notes.append(Note("capture.silent", text))
        state = np.zeros(len(line), dtype=np.int8)
        state[line >= middle + band / 2] = 1
        state[line < middle - band / 2] = -1
        state[np.isnan(line)] = 2
        # Between the two thresholds a line keeps what it had: carry the last decided sample forward.
        decided = np.where(state != 0, np.arange(len(state)), 0)
        state = state[np.maximum.accumulate(decided)]
        level = np.select([state == 1, state == -1], [1, 0], 2).astype(np.uint8)
        change = np.flatnonzero(np.append(True, level[1:] != level[:-1]))
        parts.append((waveforms.times[change], number, level[change]))
    times = np.concatenate([times for times, _, _ in parts])
    lines = np.concatenate([np.full(len(times), number) for times, number, _ in parts])
    values = np.concatenate([level for _, _, level in parts])
    order = np.argsort(times, kind="stable")
    changed, packed, unknown = fold(times[order], lines[order], values[order], len(parts))
    return Trace(
        waveforms.names,
        changed,
        packed,
        waveforms.end,
        waveforms.tick,
        unknown,
        waveforms.sample,
        tuple(notes),
        tuple(volts),
        waves=waveforms,
    )
