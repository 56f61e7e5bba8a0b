"""How many words and transactions go over SPI, without asking what they say: for summaries of long raw captures.

Strategy: sampling edges become bits of packed bytes, whose running count is looked up at the edges of the select; no edge has a
place of its own. Whatever is counted here is what `spi.Decoder` would have decoded from the same samples.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Samples
from .base import SELECTS
from .channel import Runs, Wired
from .pieces import States
from .spi import Shape

__all__ = ["Tally", "tallies"]

ONES = np.array([bin(byte).count("1") for byte in range(256)], np.uint8)


class Tally:
    """Counts the words of one select; `feed(block)` then `finish()`, each giving the words of each transaction that ended."""

    def __init__(self, sck: int, cs: int, shape: Shape) -> None:
        """sck, cs: line numbers in the blocks."""
        self.sck, self.cs, self.shape = sck, cs, shape
        idle, late = shape.mode >> 1, shape.mode & 1
        self.edge = (1 - idle) if not late else idle
        self.states = States()
        self.open: bool | None = None  # None: nothing was fed yet
        self.bits = 0  # of the transaction that is open
        self.sums = np.zeros(1, np.int64)

    def feed(self, block: Samples) -> NDArray[np.int64]:
        """(n,) words of each transaction that ended within `block`."""
        self.states.feed(block)
        packed = np.packbits(self.states.look(self.sck, np.greater if self.edge else np.less))
        edges, level = self.states.moves(self.cs)
        if self.open is None:
            self.open = bool((int(self.states.levels[0]) >> self.cs & 1) == self.shape.active)
        inside = np.append(self.open, level == self.shape.active)
        if len(self.sums) <= len(packed):
            self.sums = np.zeros(len(packed) + 1, np.int64)
        sums = self.sums[: len(packed) + 1]
        np.cumsum(ONES.take(packed), out=sums[1:])
        ends = np.append(np.diff(self._before(edges, packed, sums), prepend=0), 0)
        ends[-1] = sums[-1] - int(ends.sum())
        ends[0] += self.bits
        self.open, self.bits = bool(inside[-1]), int(ends[-1]) if inside[-1] else 0
        words: NDArray[np.int64] = ends[:-1][inside[:-1]] // self.shape.bits
        return words

    @staticmethod
    def _before(edges: NDArray[np.int64], packed: NDArray[np.uint8], sums: NDArray[np.int64]) -> NDArray[np.int64]:
        """(n,) how many bits are set ahead of each edge."""
        place = edges >> 3
        out: NDArray[np.int64] = sums[place] + ONES[packed[place] >> (8 - (edges & 7)).astype(np.uint8)]
        return out

    def finish(self) -> NDArray[np.int64]:
        """The words of the transaction that is still open, if one is."""
        return np.array([self.bits // self.shape.bits] if self.open else [], np.int64)


def tallies(wired: Wired, runs: Runs | None = None) -> list[Tally]:
    """What counts the words of raw samples without reading one; nothing without a select."""
    own = wired.settings
    shape = Shape(own.bits or 8, 1, 0, 0, own.mode, own.msb_first, own.active)
    return [Tally(wired.roles["sck"], line, shape) for role, line in wired.roles.items() if role in SELECTS]
