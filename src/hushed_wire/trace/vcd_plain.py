"""The plainest value changes of a VCD, as most files are made of: lines `#123` and `0a`, wires that turn whenever they are named.

Strategy: one table tells what two bytes do to which bit. Where every change turns its wire, the packed levels are a running
exclusive or, and those at the last change ahead of a time line are the ones of the time before. How the wires stood ahead of
it all follows from the changes themselves, so that a piece can be taken apart before what comes ahead of it is known: a
wire that every change says to have stood low until then, did. Anything else (vectors, unknown levels, spaces, repeated
values, codes of several characters) is left to the general reader, piece by piece.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .model import Times, word_type
from .vcd_header import Lines

__all__ = ["MOST_DIGITS", "Parted", "Plain", "decimals"]

NEWLINE, HASH = 10, 35
MOST_DIGITS = 18  # of a time: more may not fit into 64 bits
ZEROS = np.uint64(0x3030303030303030)
NO_DIGIT = np.uint64(0x7676767676767676)  # what lifts a byte above 9 to 128
TOPS = np.uint64(0x8080808080808080)
STEPS = [
    (np.uint64(factor), np.uint64(bits), np.uint64(kept))
    for factor, bits, kept in ((10, 8, 0x00FF00FF00FF00FF), (100, 16, 0x0000FFFF0000FFFF), (10000, 32, 0xFFFFFFFF))
]  # bytes to tens, to thousands, to the whole


@dataclass(frozen=True, slots=True)
class Parted:
    """A piece taken apart. times (n,), levels (n,): packed, after each, as if all wires had stood low ahead of the piece.

    turned: wires that turn in it, as packed bits; stood: how these stood ahead of it. lines: how many lines it had.
    """

    times: Times
    levels: NDArray[Any]
    turned: int
    stood: int
    lines: int


class Plain:
    """What two bytes mean: `bit` holds the wire's bit by (value | code << 8), 0 where a change is not of the plain kind."""

    def __init__(self, lines: Lines) -> None:
        """lines: of one bit each, with codes of their own (`lines.plain`)."""
        kind = word_type(len(lines.names))
        self.bit: NDArray[Any] = np.zeros(1 << 16, kind)
        for slot in lines.slots:
            code = int(lines.keys[slot.code])
            if NEWLINE < code < 256:
                for value in b"01":
                    self.bit[value | code << 8] = kind(1 << slot.line)

    def parted(self, data: bytes, until: int) -> Parted | None:
        """None where `data` is not of the plain kind.

        data: whole lines, a time line first; the changes of its last time are complete. until: what all times lie before.
        """
        buf = np.frombuffer(data, np.uint8)
        stops = np.flatnonzero(buf == NEWLINE)
        starts = np.empty_like(stops)
        starts[0] = 0
        np.add(stops[:-1], 1, out=starts[1:])
        timed = buf.take(starts) == HASH
        lengths = stops - starts
        change = np.flatnonzero(~timed)
        if not len(change) or not (lengths.take(change) == 2).all():
            return None
        key = np.ndarray((len(buf) - 1,), "<u2", buffer=buf, strides=(1,))[starts.take(change)]
        bit = self.bit.take(key)
        if not bit.all():
            return None
        levels = np.bitwise_xor.accumulate(bit)
        was_high = (levels & bit != 0) ^ (key & 1).astype(bool)  # "1" is odd, "0" is even
        stood, low = (int(np.bitwise_or.reduce(bit * which)) for which in (was_high, ~was_high))
        if stood & low:  # a value that was there already
            return None
        ticking = np.flatnonzero(timed)
        lengths = lengths.take(ticking) - 1
        if lengths.min() < 1 or lengths.max() > MOST_DIGITS:
            return None
        times, odd = decimals(buf, stops.take(ticking), lengths)
        if odd.any() or times[-1] >= until or (times[1:] <= times[:-1]).any():
            return None
        counts = np.diff(ticking, append=len(starts)) - 1
        last = np.cumsum(counts) - 1
        some = counts > 0
        if not some.all():
            times, last = times[some], last[some]
        return Parted(times, levels.take(last), stood | low, stood, len(starts))


def decimals(buf: NDArray[np.uint8], stops: Times, lengths: Times) -> tuple[Times, NDArray[np.bool_]]:
    """The whole numbers of `lengths` digits (n,), 1 to 18 of them, that end ahead of `stops` (n,), and which hold anything but digits.

    Eight digits are read as one word, and its bytes added up to tens, hundreds and so on in three steps.
    """
    value = np.zeros(len(stops), dtype=np.int64)
    odd = np.zeros(len(stops), dtype=bool)
    if not len(stops):
        return value, odd
    longest = int(lengths.max())
    early = int(np.searchsorted(stops, 8 * -(-longest // 8)))  # of these a word would begin ahead of the buffer
    for index in range(early):
        digits = buf[stops[index] - lengths[index] : stops[index]].tobytes()
        odd[index] = not digits.isdigit()
        value[index] = 0 if odd[index] else int(digits)
    if early == len(stops):
        return value, odd
    words = np.ndarray((len(buf) - 7,), "<u8", buffer=buf, strides=(1,))
    stops, lengths = stops[early:], lengths[early:]
    shortest = int(lengths.min())
    for first in range(0, longest, 8):
        if longest - first <= 2:  # a digit or two
            for place in range(first, longest):
                digit = buf.take(stops - (place + 1)) - np.uint8(48)
                if shortest <= place:
                    digit[lengths <= place] = 0
                odd[early:] |= digit > 9
                value[early:] += digit * np.int64(10**place)
            break
        part = words[stops - (first + 8)]
        part ^= ZEROS
        if shortest < first + 8:  # what stands ahead of the number counts as zeros
            ahead = (np.clip(first + 8 - lengths, 0, 8) * 8).astype(np.uint64)
            whole = ahead == 64  # a shift of 64 is none
            part >>= np.minimum(ahead, 63)
            part <<= np.minimum(ahead, 63)
            part[whole] = 0
        odd[early:] |= ((part + NO_DIGIT) | part) & TOPS != 0
        for factor, bits, kept in STEPS:
            more = part >> bits
            part *= factor
            part += more
            part &= kept
        value[early:] += part.view(np.int64) * 10**first if first else part.view(np.int64)
    return value, odd
