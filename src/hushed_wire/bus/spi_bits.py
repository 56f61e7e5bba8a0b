"""How words of SPI are clocked, and the bits that a clock sampled: what the decoder carries between blocks, and the words that bits make."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Times

__all__ = ["Bits", "Shape", "values_of"]


@dataclass(frozen=True)
class Shape:
    """How a bus is clocked. bits: of a word. half: ticks of half a clock. lead, trail: ticks between select and clock."""

    bits: int
    half: int
    lead: int
    trail: int
    mode: int = 0
    msb_first: bool = True
    active: int = 0  # the level that selects


@dataclass(eq=False)
class Bits:
    """Sampled bits. time: (n,) ticks. data: (n,) levels. answer, dc: (n,) levels of MISO and of the D/C line, None without."""

    time: Times
    data: NDArray[np.uint8]
    answer: NDArray[np.uint8] | None = None
    dc: NDArray[np.uint8] | None = None

    @classmethod
    def none(cls) -> Bits:
        """No bit."""
        return cls(np.empty(0, np.int64), np.empty(0, np.uint8))

    def like(self, other: Bits) -> Bits:
        """The same with the columns that another one has."""
        return Bits(
            self.time, self.data, None if other.answer is None else self.data[:0], None if other.dc is None else self.data[:0]
        )

    @classmethod
    def join(cls, parts: list[Bits]) -> Bits:
        """Two parts, in order."""
        head, tail = parts
        if not len(head.time):
            return tail

        def column(a: NDArray[np.uint8] | None, b: NDArray[np.uint8] | None) -> NDArray[np.uint8] | None:
            return None if a is None or b is None else np.concatenate([a, b])

        return cls(
            np.concatenate([head.time, tail.time]), np.concatenate([head.data, tail.data]), column(head.answer, tail.answer), column(head.dc, tail.dc)
        )  # fmt: skip

    def take(self, which: Any) -> Bits:
        """Only the rows that `which` picks."""
        return Bits(
            self.time[which],
            self.data[which],
            None if self.answer is None else self.answer[which],
            None if self.dc is None else self.dc[which],
        )


def values_of(data: NDArray[np.uint8], shape: Shape) -> tuple[NDArray[np.uint32], NDArray[np.bool_]]:
    """The words that bits make, and which of them had an unknown bit (it reads 0)."""
    blurred = bool((data == 2).any())
    known = data & 1 if blurred else data
    if shape.bits == 8:
        order: Literal["big", "little"] = "big" if shape.msb_first else "little"
        value = np.packbits(known, bitorder=order).astype(np.uint32)
    else:
        places = np.arange(shape.bits - 1, -1, -1) if shape.msb_first else np.arange(shape.bits)
        value = (known.reshape(-1, shape.bits).astype(np.uint32) << places.astype(np.uint32)).sum(axis=1, dtype=np.uint32)
    unclear = (data.reshape(-1, shape.bits) == 2).any(axis=1) if blurred else np.zeros(len(value), bool)
    return value, unclear
