"""Raw samples: one word of 1, 2, 4 or 8 bytes (little end first) a sample, bit i being line i. Nothing is ever widened.

A fixed buffer is filled again and again; only the moments of change leave it.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np

from ..errors import HushedError
from .model import Note, Samples, Trace
from .stream import Stream

__all__ = ["blocks_from", "lines_in", "read", "samples", "samples_from", "write"]

BUFFER = 1 << 21  # bytes; a piece costs about a millisecond whatever its size
PACKED = {"1bit": 1, "2bit": 2, "4bit": 4}
MOST_SAMPLES = 1 << 33
TYPES: dict[int, np.dtype[Any]] = {1: np.dtype("<u1"), 2: np.dtype("<u2"), 4: np.dtype("<u4"), 8: np.dtype("<u8")}


def lines_in(size: int | str) -> int:
    """Lines of a sample of so many bytes, or of packed bits; raises HushedError for what cannot be."""
    if size in PACKED:
        return PACKED[str(size)]
    if size not in TYPES:
        raise HushedError(
            f"a sample of {size} bytes",
            where="--raw",
            remedy="samples have 1, 2, 4 or 8 bytes; packed ones are 1bit, 2bit or 4bit",
        )
    return 8 * int(size)


def read(
    stream: Stream, size: int | str, rate: Fraction, lines: list[int] | None = None
) -> tuple[list[str], Fraction, Iterator[Trace]]:
    """Names ("0", "1", …), tick and the blocks. `lines` are those that matter: changes of others make no entries.

    size: bytes of a sample, or 1bit, 2bit, 4bit: so many lines, several samples a byte, the first in its lowest bits.
    """
    count = lines_in(size)
    if rate <= 0:
        raise HushedError("the sample rate must be above zero", where="--rate", remedy="write it like --rate 20MHz")
    names = [str(k) for k in range(count)]
    if isinstance(size, str) and size in PACKED:
        return names, 1 / rate, _packed(stream, count, 1 / rate)
    return names, 1 / rate, _blocks(stream, int(size), 1 / rate, lines)


def samples(stream: Stream, size: int, rate: Fraction, lines: list[int] | None = None) -> Iterator[Samples]:
    """The samples themselves, for those who look for edges of few lines only."""
    return _samples(stream, size, 1 / rate, lines)


def _packed(stream: Stream, count: int, tick: Fraction) -> Iterator[Trace]:
    """Blocks of packed samples: a table turns each byte into its samples."""
    per, mask = 8 // count, (1 << count) - 1
    table = np.array([[byte >> count * k & mask for k in range(per)] for byte in range(256)], np.uint8)
    names = tuple(str(k) for k in range(count))
    buffer = np.empty(BUFFER // per, np.uint8)
    view, done = buffer.data, 0
    while got := stream.readinto(view):
        samples = table[buffer[:got]].reshape(-1)
        changes = np.empty(len(samples), bool)
        np.not_equal(samples[1:], samples[:-1], out=changes[1:])
        changes[0] = True
        at = np.flatnonzero(changes)
        notes = (Note("capture.cut-short", "the file ends in the middle of its gzip data"),) if stream.cut else ()
        yield Trace(names, at + done, samples[at], done + len(samples), tick, None, 1, notes)
        done += len(samples)
    if not done:
        raise HushedError("the file is empty", where=stream.name, remedy="record the capture again")


def write(trace: Trace) -> Iterator[bytes]:
    """The trace as samples at its own rate, as few bytes each as hold its lines, in pieces; the twin of `read`.

    Raises HushedError where it has no sample interval, or levels that are unknown.
    """
    step = trace.resolution()
    size = next(width for width, kind in TYPES.items() if 8 * width >= len(trace.names))
    count = -(-(trace.end - trace.start) // step)
    if trace.unknown is not None and trace.unknown[1:].any():
        raise HushedError("some levels are unknown, which samples cannot say", remedy="write VCD, or the part that is known")
    if count > MOST_SAMPLES:
        raise HushedError(f"{count:,} samples", remedy="write a part of it with --from and --to, or another format")
    index = (trace.times - trace.start + step - 1) // step
    for first in range(0, count, BUFFER):
        last = min(count, first + BUFFER)
        low, high = np.searchsorted(index, [first, last - 1], side="right")
        places = np.concatenate([[first], index[low:high], [last]])
        states = trace.levels[max(0, low - 1) : high].astype(TYPES[size])
        yield np.repeat(states, np.diff(places)).tobytes()


def blocks_from(path: str, size: int, tick: Fraction, lines: list[int] | None, first: int) -> Iterator[Trace]:
    """The blocks of a plain file of samples from sample number `first` on, at the ticks that they have in the whole."""
    return (piece.trace() for piece in samples_from(path, size, tick, lines, first))


def samples_from(path: str, size: int, tick: Fraction, lines: list[int] | None, first: int) -> Iterator[Samples]:
    """The same as samples, not as blocks of changes."""
    with Path(path).open("rb") as file:
        file.seek(first * size)
        yield from _samples(Stream(file, path), size, tick, lines, first)


def _blocks(stream: Stream, size: int, tick: Fraction, lines: list[int] | None) -> Iterator[Trace]:
    return (piece.trace() for piece in _samples(stream, size, tick, lines))


def _samples(stream: Stream, size: int, tick: Fraction, lines: list[int] | None, first: int = 0) -> Iterator[Samples]:
    kind = TYPES[size]
    names = tuple(str(k) for k in range(8 * size))
    mask = kind.type(sum(1 << line for line in lines) if lines else (1 << 8 * size) - 1)
    buffer = np.empty(BUFFER // size + 1, dtype=kind)  # entry 0 is the last sample of the buffer before
    differs = np.empty(BUFFER // size, dtype=bool)
    view = buffer.view(np.uint8).data[size:]
    done = first
    notes: tuple[Note, ...] = ()
    while True:
        got = stream.readinto(view, size)
        count, odd = divmod(got, size)
        last = stream.ended
        if last and (odd or stream.cut):
            notes = (Note("capture.cut-short", "the file ends in the middle of a sample or of its gzip data"),)
        if not count:
            break
        if done == first:
            buffer[0] = buffer[1]
        yield Samples(names, done, buffer[: count + 1], tick, notes, mask, differs[:count])
        done += count
        buffer[0] = buffer[count]
        if last:
            break
    if not done:
        what = f"the file ends within its first sample of {size} bytes" if notes else "the file is empty"
        raise HushedError(what, where=stream.name, remedy="record the capture again")
