"""Files: VCD as in IEEE 1364, CSV in volts, raw samples."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from .wave import Wave

__all__ = ["csv", "raw", "vcd"]


def vcd(wave: Wave, path: Path) -> None:
    """Every change, at nanoseconds."""
    marks = {name: chr(33 + number) for number, name in enumerate(wave.names)}
    out = ["$timescale 1 ns $end", "$scope module bench $end"]
    out += [f"$var wire 1 {mark} {name} $end" for name, mark in marks.items()]
    out += ["$upscope $end", "$enddefinitions $end", "#0", *(f"{wave.first[name]}{mark}" for name, mark in marks.items())]
    last = 0
    for when, name, level in wave.changes:
        if when != last:
            out.append(f"#{when}")
            last = when
        out.append(f"{level}{marks[name]}")
    out.append(f"#{max(last + 1, int(wave.now))}")
    path.write_text("\n".join(out) + "\n")


def csv(times: NDArray[np.float64], volts: dict[str, NDArray[np.float64]], path: Path) -> None:
    """A table as an oscilloscope saves it."""
    rows = np.column_stack([times, *volts.values()])
    head = ",".join(["Time (s)", *(f"{name} (V)" for name in volts)])
    np.savetxt(path, rows, fmt=["%.9f", *["%.3f"] * len(volts)], delimiter=",", header=head, comments="")


def raw(wave: Wave, step: int, path: Path) -> None:
    """One byte a sample, one bit a line, so many nanoseconds apart."""
    count = int(wave.now) // step
    out = np.zeros(count, np.uint8)
    for bit, name in enumerate(wave.names):
        changes = [(when, level) for when, own, level in wave.changes if own == name]
        at = np.array([0, *(-(-when // step) for when, _ in changes)])
        levels = np.array([wave.first[name], *(level for _, level in changes)], np.uint8)
        out |= levels[np.searchsorted(at, np.arange(count), side="right") - 1] << bit
    path.write_bytes(out.tobytes())
