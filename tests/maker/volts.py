"""What an oscilloscope sees of an open-drain bus: a pull-up into a capacitance, a driver with an impedance, noise, steps and limits of a converter."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .wave import Wave

__all__ = ["Bench", "seen"]


@dataclass(frozen=True)
class Bench:
    """ohms: of each pull-up, by line. farads: of each line. low: volts of a low. rate: samples a second. least, most: where the scope clips."""

    supply: float = 3.3
    ohms: float = 2200.0
    farads: float = 80e-12
    low: float = 0.1
    noise: float = 0.03
    rate: float = 8e6
    step: float = 0.01
    least: float = -1.0
    most: float = 8.0


def seen(wave: Wave, benches: dict[str, Bench], seed: int) -> tuple[NDArray[np.float64], dict[str, NDArray[np.float64]]]:
    """Seconds, and volts of each line. A line rises by R times C and falls by some 25 ohms times C."""
    chance = np.random.default_rng(seed)
    bench = next(iter(benches.values()))
    times = np.arange(int(wave.now * 1e-9 * bench.rate)) / bench.rate
    out = {}
    for name in wave.names:
        own = benches[name]
        changes = [(0.0, wave.first[name])] + [(when * 1e-9, level) for when, line, level in wave.changes if line == name]
        volts = np.empty_like(times)
        value = own.supply if wave.first[name] else own.low
        edges = np.searchsorted(times, [when for when, _ in changes] + [np.inf])
        for number, (when, level) in enumerate(changes):
            end = changes[number + 1][0] if number + 1 < len(changes) else float(times[-1]) + 1
            target, tau = (own.supply, own.ohms * own.farads) if level else (own.low, 25 * own.farads)
            first, last = edges[number], edges[number + 1]
            volts[first:last] = target + (value - target) * np.exp(-(times[first:last] - when) / tau)
            value = target + (value - target) * float(np.exp(-(end - when) / tau))
        volts += chance.normal(0, own.noise, len(times))
        out[name] = np.clip(np.round(volts / own.step) * own.step, own.least, own.most)
    return times, out
