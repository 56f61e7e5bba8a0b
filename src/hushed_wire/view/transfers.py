"""Transactions as records, one structure each: what JSON Lines and tables are written of. Keys are never renamed; times are in seconds.

A capture holds millions of them, so they are made column by column, and encoded as they are.
"""

from __future__ import annotations

from itertools import repeat
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.words import BEGAN, END, ENDED, Transactions, Words

if TYPE_CHECKING:  # a stream of transactions needs neither, and starts the faster
    from ..bus.channel import Channel
    from ..bus.i2c_transactions import Addresses

__all__ = ["Call", "Transfer", "calls", "transfers"]

WAYS = np.array(["write", "read"], object)
BEGINNINGS, ENDINGS = (np.array([names.get(kind) for kind in range(END + 1)], object) for names in (BEGAN, ENDED))
FEW_LENGTHS = 8  # with more lengths than this, matrices of each cost more than they save


class Call(msgspec.Struct, tag_field="record", tag="transaction", gc=False):
    """An I2C transaction. times: when each byte took effect. acks: of the address, then of each byte."""

    bus: str
    start: float
    end: float
    address: int | None
    ten_bit: bool
    direction: str | None
    bytes: list[int]
    times: list[float]
    acks: list[bool | None]
    ended: str
    began: str


class Transfer(msgspec.Struct, tag_field="record", tag="transaction", gc=False):
    """A transfer on another bus. dc: the level of D/C or RS with each word. answers: what MISO said, where it is captured."""

    bus: str
    start: float
    end: float
    select: str | None
    words: list[int]
    times: list[float]
    dc: list[int] | None
    direction: str
    answers: list[int] | msgspec.UnsetType
    continued: bool


def calls(words: Words, table: Transactions, who: Addresses, tick: tuple[int, int], bus: str) -> list[Call]:
    """I2C transactions. tick: numerator and denominator of the seconds a tick has."""
    up, down = tick
    rows = _Rows(who.first, table.last)
    acks = _acknowledged(words.ack, table)
    address: list[int | None] = who.address.tolist()
    ways: list[str | None] = WAYS.take(who.read).tolist()
    # Nearly all have an address of one byte, whose acknowledge is ahead of those of the bytes; the others are set right.
    for number in np.flatnonzero((who.address < 0) | who.ten_bit | (who.first != table.first + 1)).tolist():
        known = (address[number] or 0) >= 0
        answered = bool(who.answered[number]) if known else None
        acks[number] = [answered, *words.ack[who.first[number] : table.last[number]].tolist()]
        if not known:
            address[number] = ways[number] = None
    return list(
        map(
            Call,
            repeat(bus),
            (table.start * up / down).tolist(),
            (table.end * up / down).tolist(),
            address,
            who.ten_bit.tolist(),
            ways,
            rows.of(words.value),
            rows.of(words.effect * up / down),
            acks,
            ENDINGS.take(table.ended).tolist(),
            BEGINNINGS.take(table.began).tolist(),
        )
    )


def transfers(own: Channel, tick: tuple[int, int]) -> list[Transfer]:
    """Transfers of a channel of any bus but I2C; long ones in pieces."""
    from ..bus.channel import in_pieces

    up, down = tick
    table = in_pieces(own.words, own.table) if own.scan is None else own.table  # a picture of scanned LEDs is one
    rows = _Rows(table.first, table.last)
    way: Any = repeat("write")
    if own.read is not None and own.read.any():
        read = np.append(own.read, False)[table.first] & (table.last > table.first)
        way = WAYS.take(read).tolist()
    cut = (BEGINNINGS.take(table.began) == "cut") | (ENDINGS.take(table.ended) == "cut")
    return list(
        map(
            Transfer,
            repeat(own.bus),
            (table.start * up / down).tolist(),
            (table.end * up / down).tolist(),
            repeat(own.select or None),
            rows.of(own.words.value),
            rows.of(own.words.effect * up / down),
            repeat(None) if own.dc is None else rows.of(own.dc),
            way,
            repeat(msgspec.UNSET) if own.answers is None else rows.of(own.answers),
            cut.tolist(),
        )
    )


class _Rows:
    """Cuts columns into lists, one a transaction. Those of one length are cut as a matrix, which costs a third of a slice each."""

    def __init__(self, first: NDArray[np.int64], last: NDArray[np.int64]) -> None:
        """first, last: (m,) range of the columns' rows that each transaction has, last exclusive."""
        self.order: list[int] = []  # where each transaction's list is among those of the matrices; empty: in order
        self.matrices: list[NDArray[np.int64]] = []
        self.spans: list[slice] = []
        count = last - first
        if not len(count):
            return
        least = int(count.min())
        if least == int(count.max()):  # all alike, as polling drivers make them
            self.matrices.append(first[:, None] + np.arange(least))
            return
        lengths = np.unique(count)
        if len(lengths) > FEW_LENGTHS:
            self.spans = list(map(slice, first.tolist(), last.tolist()))
            return
        members = [np.flatnonzero(count == length) for length in lengths]
        for length, own in zip(lengths.tolist(), members, strict=True):
            self.matrices.append(first[own, None] + np.arange(length))
        self.order = np.argsort(np.concatenate(members)).tolist()

    def of(self, column: NDArray[Any]) -> list[list[Any]]:
        """(m,) lists of a column's rows."""
        if self.spans:
            return list(map(column.tolist().__getitem__, self.spans))
        out: list[list[Any]] = []
        for matrix in self.matrices:
            out += column.take(matrix).tolist() if matrix.size else [[] for _ in range(len(matrix))]
        return list(map(out.__getitem__, self.order)) if self.order else out


def _acknowledged(ack: NDArray[np.bool_], table: Transactions) -> list[list[bool | None]]:
    """(m,) acknowledges of each transaction's words. Lists in which all were given are one object: only read them."""
    counts = (table.last - table.first).tolist()
    full: dict[int, list[bool | None]] = {count: [True] * count for count in set(counts)}
    out = list(map(full.__getitem__, counts))
    refused = np.searchsorted(table.last, np.flatnonzero(~ack), side="right")
    for number in np.unique(refused[refused < len(out)]).tolist():
        out[number] = ack[table.first[number] : table.last[number]].tolist()
    return out
