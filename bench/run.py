"""Speed, as ratios to plain references (in C; an interpreter that imports NumPy): whole processes in turn, median of the pairs.

make bench                              100 million samples a row
make bench ARGS="--samples 500"         the full size, in millions
"""

from __future__ import annotations

import argparse
import json
import math
import os
import resource
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

HERE = Path(__file__).parent
PROGRAM = Path(sys.executable).parent / "hushed-wire"
RATE = 20_000_000


def timed(command: list[str], out: Path) -> tuple[float, float]:
    """Wall seconds and peak memory (MB) of a whole process.

    The kernel counts the memory of the process that starts it, too, so this one stays small: it imports no NumPy.
    """
    begin = time.perf_counter()
    with out.open("wb") as file:
        process = subprocess.Popen(command, stdout=file)
        _, status, usage = os.wait4(process.pid, 0)
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise SystemExit(f"{command[0]} failed with status {process.returncode}")
    return time.perf_counter() - begin, usage.ru_maxrss / 1024


def close(a: float, b: float) -> bool:
    """Equal but for the digits that printf leaves out."""
    return math.isclose(a, b, rel_tol=1e-7, abs_tol=1e-12)


def same(ours: Path, theirs: Path, most: int = 20_000) -> bool:
    """Whether both outputs say the same: every count, and the first `most` lines value by value."""
    with ours.open() as a, theirs.open() as b:
        for number, (own, other) in enumerate(zip(a, b, strict=False)):
            if number >= most:
                break
            mine, plain = json.loads(own), json.loads(other)
            for key, value in plain.items():
                if key == "times":
                    near = len(mine[key]) == len(value) and all(map(close, mine[key], value))
                else:
                    near = close(mine[key], value) if isinstance(value, float) else mine[key] == value
                if not near:
                    print(f"line {number + 1}: {key}: {str(mine[key])[:80]} is not {str(value)[:80]}")
                    return False
    tails = [
        subprocess.run(["tail", "-n", "1", str(path)], capture_output=True, text=True, check=True).stdout
        for path in (ours, theirs)
    ]
    own, other = (json.loads(tail) for tail in tails)
    return own["transactions"] == other["transactions"] and own["words"] == other["words"]


def start_up(folder: Path, pairs: int) -> None:
    """Rows of what has to start fast, against an interpreter that imports NumPy."""
    subprocess.run([str(PROGRAM), "demo", str(folder / "demo"), "--no-tour"], check=True, capture_output=True)
    rig = ["--rig", str(folder / "demo" / "front-desk.toml")]
    short = folder / "short.hush"
    short.write_text("display off\nmultiplex-ratio 64\ncharge-pump on\ndisplay on\n")
    for title, words, bar in (
        ("--help", ["--help"], "1.0"),
        ("--version", ["--version"], "1.0"),
        ("catalog", ["catalog"], "1.0"),
        ("catalog of one part", ["catalog", "st7789"], "1.0"),
        ("explain", ["explain", "ssd1306", "AE", "D5", "80", "A8", "3F"], "1.0"),
        ("build of a short sequence", ["build", str(short), "--part", "ssd1306"], "1.0"),
        ("build of a short sequence on a rig", ["build", str(short), *rig], "1.0"),
        ("scan of the desk", ["scan", *rig], "1.5"),
        ("send of a short sequence to the desk", ["send", str(short), *rig, "--link", "desk"], "1.5"),
        ("pack of a picture", ["pack", str(folder / "demo" / "tide.pbm"), "--part", "ssd1306", "--as", "hex"], "1.5"),
    ):
        imports = "numpy, PIL.Image" if words[0] == "pack" else "numpy"
        ours, theirs, ratios, peak = [], [], [], 0.0
        for pair in range(4 * pairs + 1):
            own, memory = timed([str(PROGRAM), *words], folder / "ours")
            plain, _ = timed([sys.executable, "-c", f"import {imports}"], folder / "theirs")
            if pair:
                ours.append(own)
                theirs.append(plain)
                ratios.append(own / plain)
                peak = max(peak, memory)
        row = statistics.median(ours), statistics.median(theirs), statistics.median(ratios)
        print(f"{f'{title}, against import {imports}':<52} {row[0]:7.2f}s {row[1]:7.2f}s {row[2]:7.2f} {peak:5.0f} MB  {bar}")


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
        print(f"{'work':<52} {'ours':>8} {'plain':>8} {'ratio':>7} {'peak':>8}  bar")
        for words, kind in ((1026, "long transactions"), (3, "short transactions")):
            path = folder / "samples.bin"
            subprocess.run(
                [sys.executable, str(HERE / "samples.py"), str(path), str(args.samples), str(words), str(RATE)], check=True
            )
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
        done = subprocess.run([sys.executable, str(HERE / "frame.py")], capture_output=True, text=True, check=False)
        own, plain, ratio, same_words = done.stdout.split()
        row = f"{float(own):7.2f}s {float(plain):7.2f}s {float(ratio):6.1f}x"
        print(f"{'colour frame to wires, against a Python loop':<52} {row} {'':>8}  20x or more, outputs {same_words}")
        done = subprocess.run([sys.executable, str(HERE / "frame.py"), "pack"], capture_output=True, text=True, check=False)
        own, plain, ratio, same_words = done.stdout.split()
        row = f"{float(own):6.2f}ms {float(plain):6.2f}ms {float(ratio):7.2f}"
        print(f"{'320x240 pixels to 16 bits, against plain NumPy':<52} {row} {'':>8}  1.5, outputs {same_words}")
        start_up(folder, args.pairs)
    assert resource.getrusage(resource.RUSAGE_CHILDREN).ru_utime > 0
    return 0


if __name__ == "__main__":
    sys.exit(main())
