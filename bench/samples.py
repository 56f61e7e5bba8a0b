"""Makes captures for the bench: samples.py FILE MILLIONS WORDS RATE BUS, transactions of WORDS words.

BUS: i2c at 400 kHz and spi at 2.5 MHz, one byte a sample; parallel, two bytes a sample; vcd, vcd-many: text, MILLIONS of bytes, one or
eight changes a time; driver: a display's driver on I2C, as VCD; csv: text of four lines.
"""

import sys
import tempfile
from dataclasses import replace
from fractions import Fraction
from pathlib import Path

import numpy as np

from hushed_wire import load_rig, rehearse
from hushed_wire.bus import i2c, parallel, spi
from hushed_wire.trace import Trace
from hushed_wire.trace.vcd import write as write_vcd


def i2c_trace(words: int, tick: Fraction) -> Trace:
    random = np.random.default_rng(words)
    count = max(1, 40_000 // (words + 2))
    value = random.integers(0, 256, count * words).astype(np.uint8)
    value[::words] = 0x7A
    lengths, gap = np.full(count, words), random.integers(100, 400, count)
    timing = i2c.Timing.at(Fraction(400_000), tick)
    return i2c.encode(value, np.ones(len(value), bool), lengths, np.zeros(count, bool), gap, timing, tick, 100, 100)


def spi_trace(words: int, tick: Fraction) -> Trace:
    random = np.random.default_rng(words)
    count = max(1, 200_000 // (words + 2))
    value = random.integers(0, 256, count * words).astype(np.uint32)
    shape = spi.Shape(8, 4, 6, 6)
    lengths = np.full(count, words, np.int64)
    took = spi.durations(lengths, shape) + random.integers(20, 60, count)
    start = 100 + np.cumsum(took) - took
    roles = {"sck": 0, "mosi": 1, "cs": 2, "dc": 3}
    dc = random.random(len(value)) < 0.5
    return spi.encode(
        value, lengths, start, shape, roles, tuple(roles), tick, int(start[-1] + took[-1]) + 100, dc, ["cs"] * count
    )


def parallel_trace(words: int, tick: Fraction) -> Trace:
    random = np.random.default_rng(words)
    count = max(words, 100_000 // words * words)
    value = random.integers(0, 256, count).astype(np.uint32)
    pulse = parallel.Pulse(5, 8, 7)
    start = 100 + np.arange(count) * pulse.cycle + np.arange(count) // words * 3000
    roles = {f"d{k}": k for k in range(8)} | {"rs": 8, "e": 9}
    rs = np.arange(count) // words % 2 == 1
    return parallel.encode(value, rs, np.zeros(count, np.uint8), start, pulse, roles, tuple(roles), tick, int(start[-1]) + 100)


def vcd(path: Path, millions: float, many: int) -> None:
    """Text of wires that change one at a time, or `many` together."""
    random = np.random.default_rng(many)
    head = "$timescale 1 ns $end\n$scope module bench $end\n"
    head += "".join(f"$var wire 1 {chr(33 + k)} W{k} $end\n" for k in range(8)) + "$upscope $end\n$enddefinitions $end\n#0\n"
    head += "".join(f"0{chr(33 + k)}\n" for k in range(8))
    state, now = [0] * 8, 0
    pieces = [head]
    size, total = len(head), int(millions * 1e6)
    with path.open("w") as file:
        while size < total:
            steps = random.integers(10, 60, 50_000).tolist()
            wires = random.integers(0, 8, 50_000).tolist()
            for step, wire in zip(steps, wires, strict=True):
                now += step
                changed = range(many) if many > 1 else (wire,)
                for k in changed:
                    state[k] ^= 1
                pieces.append(f"#{now}\n" + "".join(f"{state[k]}{chr(33 + k)}\n" for k in changed))
            text = "".join(pieces)
            pieces = []
            size += len(text)
            file.write(text)


def driver(path: Path, millions: float) -> None:
    """A display that is set up and drawn on for as long as it takes, on I2C at 400 kHz, sampled at 10 MHz: VCD."""
    demo = Path(__file__).parent.parent / "src" / "hushed_wire" / "demo" / "files"
    start = (demo / "tide.hush").read_text().rpartition("picture")[0]
    frames = 40 if millions > 10 else 4
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "tide.pbm").write_bytes((demo / "tide.pbm").read_bytes())
        hush = Path(folder) / "long.hush"
        hush.write_text(f"{start}\nrepeat {frames}\npicture tide.pbm\nfill off\nend\n")
        once = rehearse(hush, load_rig(demo / "front-desk.toml"), rate="10MHz")
    lasts = once.end - once.start
    size = sum(map(len, write_vcd(once)))
    copies = max(1, round(millions * 1e6 / size))
    more = (replace(once, times=once.times + k * lasts, end=once.end + k * lasts) for k in range(1, copies))
    with path.open("wb") as file:
        for piece in write_vcd(once, more=more):
            file.write(piece)


def csv(path: Path, millions: float) -> None:
    """Time and four levels a row."""
    random = np.random.default_rng(4)
    total, size, now = int(millions * 1e6), 0, 0
    with path.open("w") as file:
        file.write("Time [s],SCK,MOSI,CS,DC\n")
        while size < total:
            rows = random.integers(0, 16, 50_000).tolist()
            text = "".join(f"{(now + k) * 5e-8:.8f},{v & 1},{v >> 1 & 1},{v >> 2 & 1},{v >> 3}\n" for k, v in enumerate(rows))
            now += len(rows)
            size += len(text)
            file.write(text)


def main() -> None:
    path, millions, words, rate = Path(sys.argv[1]), float(sys.argv[2]), int(sys.argv[3]), int(sys.argv[4])
    bus = sys.argv[5] if len(sys.argv) > 5 else "i2c"
    if bus.startswith("vcd"):
        vcd(path, millions, 8 if bus == "vcd-many" else 1)
        return
    if bus == "driver":
        driver(path, millions)
        return
    if bus == "csv":
        csv(path, millions)
        return
    trace = {"i2c": i2c_trace, "spi": spi_trace, "parallel": parallel_trace}[bus](words, Fraction(1, rate))
    kind = np.uint16 if bus == "parallel" else np.uint8
    block = np.repeat(trace.levels.astype(kind), np.diff(trace.times, append=trace.end)).tobytes()
    total = int(millions * 1e6) * kind().itemsize
    with path.open("wb") as file:
        while total > 0:
            file.write(block[:total])
            total -= len(block)


if __name__ == "__main__":
    main()
