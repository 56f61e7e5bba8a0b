"""What a bus moves, as columns: words, the marks between them, and the transactions that marks make of words.

A decoder yields `Words` and `Marks` piece by piece; `transactions` turns the whole of them into offset ranges. All times
are int64 ticks of the trace.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

__all__ = [
    "BEGAN",
    "Addresses",
    "CUT",
    "END",
    "ENDED",
    "LOST",
    "MARK_SIGNS",
    "RESTART",
    "START",
    "STOP",
    "Columns",
    "Marks",
    "Transactions",
    "Words",
    "transactions",
]

# Kinds of mark. CUT opens a transaction whose beginning was not captured; END and LOST close one without a STOP.
START, RESTART, STOP, CUT, LOST, END = range(1, 7)
BEGAN = {START: "start", RESTART: "restart", CUT: "cut"}
OPENS = np.array([kind in BEGAN for kind in range(END + 1)])
ENDED = {STOP: "stop", RESTART: "restart", START: "cut", LOST: "cut", END: "cut", CUT: "cut"}
MARK_SIGNS = {START: "S", RESTART: "Sr", STOP: "P"}  # as the I2C-bus specification writes them


@dataclass(eq=False)
class Columns:
    """Arrays of one length, joined and cut together."""

    def __len__(self) -> int:
        return len(getattr(self, next(iter(self.__dataclass_fields__))))

    @classmethod
    def join(cls, parts: list[Self]) -> Self:
        """Parts in order as one."""
        return cls(*(np.concatenate([getattr(part, name) for part in parts]) for name in cls.__dataclass_fields__))

    def take(self, which: Any) -> Self:
        """Only the rows that `which` (slice, mask or indices) picks."""
        return type(self)(*(getattr(self, name)[which] for name in self.__dataclass_fields__))


@dataclass(eq=False)
class Words(Columns):
    """value: (n,) what was moved. start, end: (n,) ticks. effect: (n,) tick at which the word takes effect.

    ack: (n,) acknowledged (buses without acknowledge: True). unclear: (n,) a bit of it was unknown (it reads 0).
    """

    value: NDArray[Any]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    effect: NDArray[np.int64]
    ack: NDArray[np.bool_]
    unclear: NDArray[np.bool_]


@dataclass(eq=False)
class Marks(Columns):
    """time: (m,) ticks. kind: (m,) START, … word: (m,) how many words came before. spare: (m,) bits of a broken-off word."""

    time: NDArray[np.int64]
    kind: NDArray[np.uint8]
    word: NDArray[np.int64]
    spare: NDArray[np.uint8]


@dataclass(eq=False)
class Transactions(Columns):
    """first, last: (m,) range of words, last exclusive. start, end: (m,) ticks. began, ended: (m,) kinds of mark.

    spare: (m,) bits of a word that was broken off at the end.
    """

    first: NDArray[np.int64]
    last: NDArray[np.int64]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    began: NDArray[np.uint8]
    ended: NDArray[np.uint8]
    spare: NDArray[np.uint8]


def transactions(marks: Marks) -> Transactions:
    """The transactions between marks; the last one has to be closed by a mark (decoders do so when they finish)."""
    opens = OPENS.take(marks.kind, mode="clip")
    opens[-1:] = False
    at = np.flatnonzero(opens)
    return Transactions(
        marks.word[at],
        marks.word[at + 1],
        marks.time[at],
        marks.time[at + 1],
        marks.kind[at],
        marks.kind[at + 1],
        marks.spare[at + 1],
    )


@dataclass(eq=False)
class Addresses(Columns):
    """address: (m,) -1 where none was seen. ten_bit, read, answered: (m,) bool. first: (m,) first word behind the address."""

    address: NDArray[np.int32]
    ten_bit: NDArray[np.bool_]
    read: NDArray[np.bool_]
    answered: NDArray[np.bool_]
    first: NDArray[np.int64]
