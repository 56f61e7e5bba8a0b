"""What the tests share: the installed program, the demo data, shorthand traces."""

from __future__ import annotations

import atexit
import functools
import json
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterable, Sequence
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

import forked
from hushed_wire.bus import i2c
from hushed_wire.bus.channel import Channel, Said
from hushed_wire.trace import Trace, read_capture

PROGRAM = Path(sys.executable).parent / "hushed-wire"
FIXTURES = Path(__file__).parent / "fixtures"
ROOT = Path(__file__).parent.parent
TICK = Fraction(1, 10**8)


def program(*words: str, cwd: Path | None = None, stdin: bytes | None = None) -> subprocess.CompletedProcess[bytes]:
    """Runs the installed program, in a process of its own."""
    return forked.run(str(PROGRAM), words, cwd or demo(), stdin)


def program_json(*words: str, cwd: Path | None = None) -> Any:
    """What the program prints with --format json."""
    return json.loads(program(*words, "--format", "json", cwd=cwd).stdout)


@functools.cache
def demo() -> Path:
    """The demo's folder, made once by the installed program; a copy of it where all tests run."""
    folder = scratch() / "skerry-haven"
    if "HUSHED_WIRE_TESTS_DEMO" in os.environ:
        shutil.copytree(os.environ["HUSHED_WIRE_TESTS_DEMO"], folder)
        return folder
    done = subprocess.run([str(PROGRAM), "demo", str(folder), "--no-tour"], capture_output=True, timeout=300, check=False)
    assert done.returncode == 0, done.stderr
    return folder


def scratch() -> Path:
    """A folder of its own, gone when the tests end."""
    folder = Path(tempfile.mkdtemp(prefix="hushed-wire-tests-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def i2c_trace(
    transfers: Sequence[tuple[Sequence[int], Sequence[bool]]],
    restart: Sequence[bool] | None = None,
    clock: int = 400_000,
    tick: Fraction = TICK,
) -> Trace:
    """The trace of (bytes, acknowledges) of each transaction."""
    value = np.array([byte for data, _ in transfers for byte in data], dtype=np.uint8)
    ack = np.array([bit for _, acks in transfers for bit in acks], dtype=bool)
    lengths = np.array([len(data) for data, _ in transfers], dtype=np.int64)
    again = np.array(restart or [False] * len(transfers), dtype=bool)
    gap = np.full(len(transfers), 1000, dtype=np.int64)
    return i2c.encode(value, ack, lengths, again, gap, i2c.Timing.at(Fraction(clock), tick), tick, 500, 500)


def raw_samples(name: str, kind: str, shift: int) -> None:
    """The healthy capture as raw samples in the demo's folder: words of `kind`, SCL and SDA moved up by `shift` bits."""
    trace = read_capture(demo() / "healthy.vcd")
    changes = np.zeros(trace.end // trace.sample, dtype=np.int64)
    changes[trace.times[1:] // trace.sample] = 1
    (demo() / name).write_bytes((trace.levels[np.cumsum(changes)].astype(np.int64) << shift).astype(kind).tobytes())


def as_one(parts: Iterable[Channel]) -> Channel:
    """Pieces of a channel, put together."""
    said = Said()
    for part in parts:
        said.take(part)
    return said.whole()


def acked(*data: int) -> tuple[list[int], list[bool]]:
    """A transaction whose bytes are all acknowledged."""
    return list(data), [True] * len(data)


def payloads(trace: Trace, rig: Any) -> dict[str, list[Any]]:
    """What each device of a rig was sent, one payload for each of its chips."""
    from hushed_wire.rig import decode

    return {reading.device.name: [chip.payload for chip in reading.chips] for reading in decode(trace, rig).devices}
