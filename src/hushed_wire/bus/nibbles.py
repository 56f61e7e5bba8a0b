"""Nibbles on d4 to d7 as bytes: each by itself while the part takes whole words, two by two behind the command that switches it to halves.

Which commands switch is the part's description. The loop is over changes of width, not over words.

A capture may begin while the part is at work: then what comes first is no such command of a start-up, or halves that come in pairs tell
it. The rests tell which half is the first: within a byte they are shorter than between bytes; where they do not, both halves of a byte are data, or
both a command.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from .words import Words

__all__ = ["Nibbles", "Switch"]

MOST = 64  # halves by which it is told which are the first ones of bytes


class Switch(NamedTuple):
    """The upper halves of the command that switches the width of a part's interface: from then on it takes halves, or whole words."""

    halves: int
    whole: int


class Nibbles:
    """Bytes of the nibbles that `feed` takes, piece by piece; half a byte waits for its other half."""

    def __init__(self, switch: Switch) -> None:
        self.switch = switch
        self.four = False
        self.begun = False
        self.held: tuple[Words, NDArray[np.bool_]] | None = None

    def rest(self) -> tuple[Words, NDArray[np.bool_]] | None:
        """What waited until the end to be told; None where nothing did."""
        if self.begun or self.held is None:
            return None
        (words, data), self.held = self.held, None
        return self.feed(words, data, last=True)

    def feed(self, words: Words, data: NDArray[np.bool_], last: bool = False) -> tuple[Words, NDArray[np.bool_]]:
        """words, data: what a bus of four lines latched. Returns the bytes, each with the times of its second half."""
        if self.held is not None:
            words, data = Words.join([self.held[0], words]), np.concatenate([self.held[1], data])
            self.held = None
        high = (words.value >> 4 & 15).astype(np.uint32)
        if not self.begun:
            first = _at_work(words, high, data, self.switch, last)
            if first is None:
                self.held = words, data
                return words.take(slice(0, 0)), data[:0]
            self.begun, self.four = True, first >= 0
            if first > 0:
                words, data, high = words.take(slice(first, None)), data[first:], high[first:]
        pieces: list[tuple[NDArray[Any], NDArray[Any]]] = []  # word that completes each byte, and the byte
        at = 0
        while at < len(high):
            if not self.four:
                to_four = np.flatnonzero((high[at:] == self.switch.halves) & ~data[at:])
                end = at + int(to_four[0]) + 1 if len(to_four) else len(high)
                pieces.append((np.arange(at, end), high[at:end] << 4))
                self.four = bool(len(to_four))
            else:
                count = (len(high) - at) // 2
                value = high[at : at + 2 * count : 2] << 4 | high[at + 1 : at + 2 * count : 2]
                to_eight = np.flatnonzero((value >> 4 == self.switch.whole) & ~data[at : at + 2 * count : 2])
                count = int(to_eight[0]) + 1 if len(to_eight) else count
                pieces.append((at + 1 + 2 * np.arange(count), value[:count]))
                end = at + 2 * count
                self.four = not len(to_eight)
                if self.four and end < len(high):
                    self.held = words.take(slice(end, None)), data[end:]
                    break
            at = end
        if not pieces:
            return words.take(slice(0, 0)), data[:0]
        index = np.concatenate([place for place, _ in pieces])
        out = words.take(index)
        out.value = np.concatenate([value for _, value in pieces])
        return out, data[index]


def _at_work(words: Words, high: NDArray[np.uint32], data: NDArray[np.bool_], switch: Switch, last: bool = False) -> int | None:
    """-1 where a part's start-up comes first; else how many halves are ahead of the first whole byte. None: more has to be known. last: no more comes."""
    count = len(high)
    if count < 2:
        return (-1 if count and not data[0] and int(high[0]) in switch else 0) if last else None
    # Whole words three times, then halves, and then the switch to halves again, which is its upper and its lower half.
    if (
        not data[:2].any()
        and int(high[0]) in switch
        and int(high[1]) in (switch if int(high[0]) == switch.whole else (switch.halves,))
    ):
        return -1
    if count > 2:
        within, behind = (int(words.effect[k + 1] - words.effect[k]) for k in (0, 1))
        if 2 * behind < within or 2 * within < behind:
            return int(2 * behind < within)
    turns = np.flatnonzero(data[1:MOST] != data[: min(count, MOST) - 1])  # both halves of a byte are of one kind
    if len(turns):
        return int(turns[0] + 1) % 2
    return 0 if last or count >= MOST else None
