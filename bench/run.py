"""Speed, as ratios to plain references in C: whole processes, the two in turn, the median of the pairs.

make bench                              100 million samples a row
make bench ARGS="--samples 500"         the full size, in millions
"""

from __future__ import annotations

import argparse
import json
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from fractions import Fraction
from pathlib import Path

import numpy as np

from hushed_wire.bus import i2c

HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).parent / "hushed-wire"
RATE = 20_000_000
TICK = Fraction(1, RATE)


def samples(path: Path, millions: float, words: int) -> None:
    """Raw samples of one byte: transactions of `words` words at 400 kHz, repeated up to size."""
    random = np.random.default_rng(words)
    count = max(1, 40_000 // (words + 2))
    value = random.integers(0, 256, count * words).astype(np.uint8)
    value[::words] = 0x7A
    lengths, gap = np.full(count, words), random.integers(100, 400, count)
    timing = i2c.Timing.at(Fraction(400_000), TICK)
    trace = i2c.encode(value, np.ones(len(value), bool), lengths, np.zeros(count, bool), gap, timing, TICK, 100, 100)
    lasting = np.diff(trace.times, append=trace.end)
    block = np.repeat(trace.levels, lasting).astype(np.uint8).tobytes()
    total = int(millions * 1e6)
    with path.open("wb") as file:
        while total > 0:
            file.write(block[:total])
            total -= len(block)


def timed(command: list[str], out: Path) -> tuple[float, float]:
    """Wall seconds and peak memory (MB) of a whole process."""
    begin = time.perf_counter()
    with out.open("wb") as file:
        process = subprocess.Popen(command, stdout=file)
        _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{command[0]} failed with status {process.returncode}")
    return time.perf_counter() - begin, usage.ru_maxrss / 1024


def same(ours: Path, theirs: Path, most: int = 20_000) -> bool:
    """Whether both outputs say the same: every count, and the first `most` lines value by value."""
    with ours.open() as a, theirs.open() as b:
        for number, (own, other) in enumerate(zip(a, b, strict=False)):
            if number >= most:
                break
            mine, plain = json.loads(own), json.loads(other)
            for key, value in plain.items():
                near = (
                    np.allclose(mine[key], value, rtol=1e-7, atol=1e-12)
                    if isinstance(value, float) or key == "times"
                    else mine[key] == value
                )
                if not near:
                    print(f"line {number + 1}: {key}: {str(mine[key])[:80]} is not {str(value)[:80]}")
                    return False
    tails = [
        subprocess.run(["tail", "-n", "1", str(path)], capture_output=True, text=True, check=True).stdout
        for path in (ours, theirs)
    ]
    own, other = (json.loads(tail) for tail in tails)
    return own["transactions"] == other["transactions"] and own["words"] == other["words"]


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--samples", type=float, default=100, metavar="MILLIONS")
    parser.add_argument("--pairs", type=int, default=3)
    args = parser.parse_args()
    if subprocess.run(["cc", "--version"], capture_output=True, check=False).returncode:
        print("the references want a C compiler: apt-get install gcc libc6-dev")
        return 2
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for binary, flags in (("lines", []), ("count", ["-DCOUNT"])):
            subprocess.run(["cc", "-O2", *flags, "-o", str(folder / binary), str(HERE / "i2c_lines.c")], check=True)
        print(f"{args.samples:g} M samples of 1 byte, {args.pairs} pairs each, this machine: {os.cpu_count()} cores")
        print(f"{'work':<52} {'ours':>8} {'C':>8} {'ratio':>7} {'peak':>8}  bar")
        for words, kind in ((1026, "long transactions"), (3, "short transactions")):
            path = folder / "samples.bin"
            samples(path, args.samples, words)
            base = [str(PROGRAM), "decode", str(path), "--raw", "1", "--rate", f"{RATE}Hz", "--line", "scl=0", "--line", "sda=1"]
            for title, options, reference, bar in (
                (f"raw I2C to JSON Lines, {kind}", ["--format", "jsonl"], "lines", "0.8 with the issue on all buses"),
                (
                    f"raw I2C, summary only, {kind}",
                    ["--format", "jsonl", "--summary"],
                    "count",
                    "1.5 with the issue on all buses",
                ),
            ):
                ours, theirs, ratios, peak = [], [], [], 0.0
                for pair in range(args.pairs + 1):
                    own, memory = timed([*base, *options], folder / "ours")
                    plain, _ = timed([str(folder / reference), str(path), str(RATE)], folder / "theirs")
                    if pair:  # the first pair warms the caches
                        ours.append(own)
                        theirs.append(plain)
                        ratios.append(own / plain)
                        peak = max(peak, memory)
                    elif not same(folder / "ours", folder / "theirs"):
                        print(f"{title}: the outputs differ")
                        return 1
                row = statistics.median(ours), statistics.median(theirs), statistics.median(ratios)
                print(f"{title:<52} {row[0]:7.2f}s {row[1]:7.2f}s {row[2]:7.2f} {peak:5.0f} MB  {bar}")
    assert resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime > 0
    return 0


if __name__ == "__main__":
    sys.exit(main())
