"""Makes raw samples for the bench: samples.py FILE MILLIONS WORDS RATE, transactions of WORDS words at 400 kHz."""

import sys
from fractions import Fraction
from pathlib import Path

import numpy as np

from hushed_wire.bus import i2c


def main() -> None:
    path, millions, words, rate = Path(sys.argv[1]), float(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4])
    random, tick = np.random.default_rng(words), Fraction(1, rate)
    count = max(1, 40_000 // (words + 2))
    value = random.integers(0, 256, count * words).astype(np.uint8)
    value[::words] = 0x7A
    lengths, gap = np.full(count, words), random.integers(100, 400, count)
    timing = i2c.Timing.at(Fraction(400_000), tick)
    trace = i2c.encode(value, np.ones(len(value), bool), lengths, np.zeros(count, bool), gap, timing, tick, 100, 100)
    block = np.repeat(trace.levels, np.diff(trace.times, append=trace.end)).astype(np.uint8).tobytes()
    total = int(millions * 1e6)
    with path.open("wb") as file:
        while total > 0:
            file.write(block[:total])
            total -= len(block)


if __name__ == "__main__":
    main()
