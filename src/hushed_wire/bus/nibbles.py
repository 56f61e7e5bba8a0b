"""Nibbles on d4 to d7 as bytes: each by itself while the part takes eight bits, two by two behind function-set width=4.

Source: HD44780U datasheet, Figure 24. The loop is over changes of width, not over words.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .words import Words

__all__ = ["Nibbles"]


class Nibbles:
    """Bytes of the nibbles that `feed` takes, piece by piece; half a byte waits for its other half."""

    def __init__(self) -> None:
        self.four = False
        self.held: tuple[Words, NDArray[np.bool_]] | None = None

    def feed(self, words: Words, data: NDArray[np.bool_]) -> tuple[Words, NDArray[np.bool_]]:
        """words, data: what a bus of four lines latched. Returns the bytes, each with the times of its second half."""
        if self.held is not None:
            words, data = Words.join([self.held[0], words]), np.concatenate([self.held[1], data])
            self.held = None
        high = (words.value >> 4 & 15).astype(np.uint32)
        pieces: list[tuple[NDArray[Any], NDArray[Any]]] = []  # word that completes each byte, and the byte
        at = 0
        while at < len(high):
            if not self.four:
                to_four = np.flatnonzero((high[at:] == 2) & ~data[at:])
                end = at + int(to_four[0]) + 1 if len(to_four) else len(high)
                pieces.append((np.arange(at, end), high[at:end] << 4))
                self.four = bool(len(to_four))
            else:
                count = (len(high) - at) // 2
                value = high[at : at + 2 * count : 2] << 4 | high[at + 1 : at + 2 * count : 2]
                to_eight = np.flatnonzero((value >> 4 == 3) & ~data[at : at + 2 * count : 2])
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
