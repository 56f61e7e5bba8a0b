"""Transactions as JSON Lines or CSV while a capture is still being read: memory holds one block and one open transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..rig.channel import Channel
from ..rig.hearers import I2c
from ..trace import Source, Trace
from .json_text import json_bytes
from .transfers import calls

__all__ = ["Told", "i2c_records", "json_lines"]

Told = Callable[[list[Any], int], bytes]  # transactions, and the bits of their words
ENCODER = msgspec.json.Encoder()
ADDRESSES = 1 + (1 << 10)  # none, and all of ten bits


def json_lines(entries: list[Any], bits: int = 8) -> bytes:
    """Transactions as JSON Lines."""
    return ENCODER.encode_lines(entries)


def i2c_records(
    source: Source,
    roles: dict[str, str],
    notes: list[Any],
    summary_only: bool = False,
    stopped: bool = False,
    told: Told | None = None,
) -> Iterator[bytes]:
    """The records of a capture, in pieces, the last one the summary; what the reader noted goes to `notes`.

    stopped: it begins behind a STOP. told: transactions as bytes, JSON Lines by default.
    """
    lines = Trace(tuple(source.names), np.empty(0, np.int64), np.empty(0, np.uint8), 0, source.tick)
    scl, sda = lines.index(roles["scl"]), lines.index(roles["sda"])
    if scl == sda:
        raise HushedError("SCL and SDA are the same line", where="--line", remedy="give each role a line of its own")
    hearer = I2c("bus", {"scl": scl, "sda": sda}, source.tick, stopped)
    counts = {"transactions": 0, "words": 0}
    called = np.zeros((2, ADDRESSES), np.int64)  # by address, one more than it is: how often it was called, and answered
    tick = source.tick.as_integer_ratio()
    told = told or json_lines

    def take(channels: list[Channel]) -> bytes:
        out = b""
        for own in channels:
            assert own.who is not None
            count_in(own, counts, called)
            if not summary_only and len(own.table):
                out += told(calls(own.words, own.table, own.who, tick, "bus"), own.bits)
        return out

    last = None
    for block in source.blocks():
        last = block
        piece = take(hearer(block))
        if piece:
            yield piece
    yield take(hearer(None))
    if last is not None:
        notes += last.notes
    yield json_bytes({"record": "summary", **counts, **said(called, hearer)}, pretty=False)


def count_in(own: Channel, counts: dict[str, int], called: NDArray[np.int64]) -> None:
    """Counts transactions, words and, on I2C, who was called."""
    counts["transactions"] += len(own.table)
    counts["words"] += int((own.table.last - own.table.first).sum())
    if own.who is not None:
        called[0] += np.bincount(own.who.address + 1, minlength=ADDRESSES)
        called[1] += np.bincount(own.who.address[own.who.answered] + 1, minlength=ADDRESSES)


def said(called: NDArray[np.int64], hearer: I2c) -> dict[str, Any]:
    """The summary of an I2C bus."""
    addresses_seen = {
        f"{number - 1:#04x}" if number else "unknown": {
            "transactions": int(called[0, number]),
            "answered": int(called[1, number]),
        }
        for number in np.flatnonzero(called[0]).tolist()
    }
    spikes = {"scl": hearer.spikes[0], "sda": hearer.spikes[1]}
    return {"addresses": addresses_seen, "spikes": spikes, "stray_clocks": hearer.stray}
