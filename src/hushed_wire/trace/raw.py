"""Raw samples: one word of 1, 2, 4 or 8 bytes (little end first) a sample, bit i being line i. Nothing is ever widened.

A fixed buffer is filled again and again; only the moments of change leave it.
"""

from __future__ import annotations

from collections.abc import Iterator
from fractions import Fraction
from typing import Any

import numpy as np

from ..errors import HushedError
from .model import Note, Trace
from .stream import Stream

__all__ = ["read"]

BUFFER = 1 << 20
TYPES: dict[int, np.dtype[Any]] = {1: np.dtype("<u1"), 2: np.dtype("<u2"), 4: np.dtype("<u4"), 8: np.dtype("<u8")}


def read(
    stream: Stream, size: int, rate: Fraction, lines: list[int] | None = None
) -> tuple[list[str], Fraction, Iterator[Trace]]:
    """Names ("0", "1", …), tick and the blocks. `lines` are those that matter: changes of others make no entries."""
    if size not in TYPES:
        raise HushedError(f"a sample of {size} bytes", where="--raw", remedy="samples have 1, 2, 4 or 8 bytes")
    if rate <= 0:
        raise HushedError("the sample rate must be above zero", where="--rate", remedy="write it like --rate 20MHz")
    return [str(k) for k in range(8 * size)], 1 / rate, _blocks(stream, size, 1 / rate, lines)


def _blocks(stream: Stream, size: int, tick: Fraction, lines: list[int] | None) -> Iterator[Trace]:
    kind = TYPES[size]
    names = tuple(str(k) for k in range(8 * size))
    mask = kind.type(sum(1 << line for line in lines) if lines else (1 << 8 * size) - 1)
    whole = lines is None or len(lines) == 8 * size
    buffer = np.empty(BUFFER // size + 1, dtype=kind)  # entry 0 is the last sample of the buffer before
    differs = np.empty(BUFFER // size, dtype=bool)
    view = buffer.view(np.uint8).data[size:]
    done = 0
    notes: tuple[Note, ...] = ()
    while True:
        got = stream.readinto(view)
        count, odd = divmod(got, size)
        last = got < len(view)
        if last and (odd or stream.cut):
            notes = (Note("capture.cut-short", "the file ends in the middle of a sample or of its gzip data"),)
        if not count:
            break
        samples = buffer[1 : count + 1]
        if not whole:
            np.bitwise_and(samples, mask, out=samples)
        changes = differs[:count]
        np.not_equal(buffer[1 : count + 1], buffer[:count], out=changes)
        changes[0] = True  # the state at the start of the block
        at = np.flatnonzero(changes)
        yield Trace(names, at + done, samples[at], done + count, tick, None, 1, notes)
        done += count
        buffer[0] = buffer[count]
        if last:
            break
    if not done:
        raise HushedError("the file is empty", where=stream.name, remedy="record the capture again")
