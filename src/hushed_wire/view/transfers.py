"""Transactions as records, one structure each: what JSON Lines and tables are written of. Keys are never renamed; times are in seconds.

A capture holds millions of them, so they are made column by column, and encoded as they are.
"""

from __future__ import annotations

from itertools import repeat
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np

from ..bus.words import BEGAN, ENDED, Transactions, Words

if TYPE_CHECKING:  # a stream of transactions needs neither, and starts the faster
    from ..bus.i2c_address import Addresses
    from ..rig.channel import Channel

__all__ = ["Call", "Transfer", "calls", "plain", "transfers"]

WAYS = ("write", "read")


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


def plain(entry: Call | Transfer) -> dict[str, Any]:
    """The same as a dictionary, without the key that says what kind of record it is."""
    return {key: value for key, value in msgspec.structs.asdict(entry).items() if value is not msgspec.UNSET}


def calls(words: Words, table: Transactions, who: Addresses, tick: tuple[int, int], bus: str) -> list[Call]:
    """I2C transactions. tick: numerator and denominator of the seconds a tick has."""
    up, down = tick
    first, last = table.first.tolist(), table.last.tolist()
    spans = list(map(slice, who.first.tolist(), last))
    ack = words.ack.tolist()
    acks: list[list[bool | None]] = list(map(ack.__getitem__, map(slice, first, last)))
    address: list[int | None] = who.address.tolist()
    ways: list[str | None] = list(map(WAYS.__getitem__, who.read.tolist()))
    # Nearly all have an address of one byte, whose acknowledge is ahead of those of the bytes; the others are set right.
    for number in np.flatnonzero((who.address < 0) | who.ten_bit | (who.first != table.first + 1)).tolist():
        known = (address[number] or 0) >= 0
        answered = bool(who.answered[number]) if known else None
        acks[number] = [answered, *ack[spans[number]]]
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
            map(words.value.tolist().__getitem__, spans),
            map((words.effect * up / down).tolist().__getitem__, spans),
            acks,
            map(ENDED.__getitem__, table.ended.tolist()),
            map(BEGAN.__getitem__, table.began.tolist()),
        )
    )


def transfers(own: Channel, tick: tuple[int, int]) -> list[Transfer]:
    """Transfers of a channel of any bus but I2C; long ones in pieces."""
    from ..rig.channel import in_pieces

    up, down = tick
    table = in_pieces(own.words, own.table)
    spans = list(map(slice, table.first.tolist(), table.last.tolist()))
    way: Any = repeat("write")
    if own.read is not None:
        read = own.read
        way = ["read" if span.stop > span.start and read[span.start] else "write" for span in spans]
    return list(
        map(
            Transfer,
            repeat(own.bus),
            (table.start * up / down).tolist(),
            (table.end * up / down).tolist(),
            repeat(own.select or None),
            map(own.words.value.tolist().__getitem__, spans),
            map((own.words.effect * up / down).tolist().__getitem__, spans),
            repeat(None) if own.dc is None else map(own.dc.tolist().__getitem__, spans),
            way,
            repeat(msgspec.UNSET) if own.answers is None else map(own.answers.tolist().__getitem__, spans),
            [BEGAN[began] == "cut" or ENDED[ended] == "cut" for began, ended in zip(table.began.tolist(), table.ended.tolist(), strict=True)],
        )
    )  # fmt: skip
