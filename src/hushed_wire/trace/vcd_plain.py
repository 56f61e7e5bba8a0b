"""The plainest value changes of a VCD, as most files are made of: lines `#123` and `0a`, wires that turn whenever they are named.

Strategy: one table tells what two bytes do to which bit. Where every change turns its wire, the packed levels are a running
exclusive or, and those at the last change ahead of a time line are the ones of the time before. Whether they did turn is
asked of the result: each wire must stand as its last change said. Anything else (vectors, unknown levels, spaces, repeated
values, codes of several characters) is left to the general reader, piece by piece.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .model import Times, word_type
from .vcd_header import Lines

__all__ = ["Plain", "decimal"]

NEWLINE, HASH = 10, 35


class Plain:
    """What two bytes mean: `bit` holds the wire's bit by (value << 8 | code), 0 where a change is not of the plain kind."""

    def __init__(self, lines: Lines) -> None:
        """lines: of one bit each, with codes of their own (`lines.plain`)."""
        kind = word_type(len(lines.names))
        self.bit: NDArray[Any] = np.zeros(1 << 16, kind)
        self.high = np.zeros(1 << 16, bool)
        for slot in lines.slots:
            code = int(lines.keys[slot.code])
            if NEWLINE < code < 256:
                for value, high in ((b"0", False), (b"1", True)):
                    self.bit[value[0] << 8 | code] = kind(1 << slot.line)
                    self.high[value[0] << 8 | code] = high

    def parted(self, data: bytes, state: int, until: int) -> tuple[Times, NDArray[Any], int] | None:
        """Times (n,), packed levels (n,) after each, and how many lines were read; None where `data` is not of the plain kind.

        data: whole lines, a time line first; the changes of its last time are complete. state: packed levels ahead of it.
        until: what all times lie before.
        """
        buf = np.frombuffer(data, np.uint8)
        stops = np.flatnonzero(buf == NEWLINE)
        starts = np.empty_like(stops)
        starts[0] = 0
        np.add(stops[:-1], 1, out=starts[1:])
        first = buf[starts]
        timed = first == HASH
        change = np.flatnonzero(~timed)
        if not len(change) or not ((stops - starts == 2) | timed).all():
            return None
        at = starts[change]
        key = first[change].astype(np.uint16) << np.uint16(8)
        key |= buf[at + 1]
        bit = self.bit[key]
        if not bit.all():
            return None
        levels = np.bitwise_xor.accumulate(bit)
        levels ^= levels.dtype.type(state)
        if not np.array_equal((levels & bit) != 0, self.high[key]):
            return None
        ticking = np.flatnonzero(timed)
        times = moments(buf, starts[ticking] + 1, stops[ticking])
        if times is None or times[-1] >= until or (times[1:] <= times[:-1]).any():
            return None
        counts = np.diff(ticking, append=len(starts)) - 1
        last = np.cumsum(counts) - 1
        some = counts > 0
        if some.all():
            return times, levels[last], len(starts)
        return times[some], levels[last[some]], len(starts)


def moments(buf: NDArray[np.uint8], starts: Times, stops: Times) -> Times | None:
    """The whole numbers between `starts` and `stops` (n,); None where one is none, or has more than 18 digits."""
    lengths = stops - starts
    if len(lengths) and (lengths.min() < 1 or lengths.max() > 18):
        return None
    out = np.empty(len(starts), dtype=np.int64)
    for length in np.flatnonzero(np.bincount(lengths)).tolist():  # few: most times of a piece have as many digits
        which = np.flatnonzero(lengths == length)
        value, odd = decimal(buf, starts[which], length)
        if odd.any():
            return None
        out[which] = value
    return out


def decimal(buf: NDArray[np.uint8], at: Times, length: int) -> tuple[Times, NDArray[np.bool_]]:
    """The numbers of `length` digits that begin at each place, and which of them hold something else than digits."""
    value = np.zeros(len(at), dtype=np.int64)
    worst = np.zeros(len(at), dtype=np.uint8)
    for first in range(0, length, 9):  # nine digits fit into 32 bits, which are faster
        part = np.zeros(len(at), dtype=np.uint32)
        for place in range(first, min(first + 9, length)):
            digit = buf[at + place] - np.uint8(48)
            np.maximum(worst, digit, out=worst)
            part *= np.uint32(10)
            part += digit
        value *= int(10 ** min(9, length - first))
        value += part
    return value, worst > 9
