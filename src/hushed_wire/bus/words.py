"""What a bus moves, as columns: words, the marks between them, and the transactions that marks make of words.

A decoder yields `Words` and `Marks` piece by piece; `transactions` turns the whole of them into offset ranges. All times
are int64 ticks of the trace.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from ..trace.column import Column

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
    "Held",
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

    @property
    def columns(self) -> dict[str, NDArray[Any]]:
        """Each by its name."""
        return {name: getattr(self, name) for name in self.__dataclass_fields__}

    def none(self) -> Self:
        """No rows; nothing of these is kept for them, as it would be for a part of no length."""
        return type(self)(*(np.empty(0, column.dtype) for column in self.columns.values()))

    def take(self, which: Any) -> Self:
        """Only the rows that `which` (slice, mask or indices) picks."""
        return type(self)(*(getattr(self, name)[which] for name in self.__dataclass_fields__))


class Held:
    """Columns of one length, part by part as they come. Many rows are not held twice on the way, and their ticks and numbers are kept in half the
    room, while all are so small that their sums and differences are told as well."""

    def __init__(self) -> None:
        self.count = 0
        self._few: list[dict[str, NDArray[Any]]] = []
        self._many: dict[str, Column] = {}

    def add(self, **parts: NDArray[Any] | None) -> None:
        """More rows of each column; None where there is no such column."""
        there = {name: values for name, values in parts.items() if values is not None}
        self.count += len(next(iter(there.values())))
        self._few.append(there)
        if self._many or self.count >= MANY:
            for few in self._few:
                for name, values in few.items():
                    self._add(name, values)
            self._few = []

    def _add(self, name: str, values: NDArray[Any]) -> None:
        wide = values.dtype == np.int64
        narrow = wide and (not len(values) or (int(values.min()) > -NARROW and int(values.max()) < NARROW))
        own = self._many.setdefault(name, Column(np.int32 if narrow else values.dtype))
        if own.kind == np.int32 and wide and not narrow:
            before, own = own, Column(np.int64)
            own.add(before.whole())
            self._many[name] = own
        own.add(values)

    def whole(self) -> dict[str, Any]:
        """All of them by name; nothing is added any more."""
        if self._many:
            return {name: own.whole() for name, own in self._many.items()}
        if len(self._few) == 1:
            return dict(self._few[0])
        return {name: np.concatenate([few[name] for few in self._few]) for name in (self._few[0] if self._few else ())}


MANY = 1 << 18  # rows from which on their room matters
NARROW = 1 << 30


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
