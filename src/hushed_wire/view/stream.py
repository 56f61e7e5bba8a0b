"""Transactions as JSON Lines or CSV while a capture is still being read: memory holds one block and one open transaction."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from typing import Any

import msgspec
import numpy as np

from ..bus import i2c
from ..bus.i2c_address import addresses
from ..bus.words import BEGAN, Marks, Words, transactions
from ..errors import HushedError
from ..trace import Source, Trace
from .json_text import json_bytes
from .transfers import calls

__all__ = ["Told", "i2c_records", "json_lines"]

Told = Callable[[list[Any]], bytes]
ENCODER = msgspec.json.Encoder()
ADDRESSES = 1 + (1 << 10)  # none, and all of ten bits


def json_lines(entries: list[Any]) -> bytes:
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
    decoder: i2c.Decoder | None = None
    counts = {"transactions": 0, "words": 0}
    called = np.zeros((2, ADDRESSES), np.int64)  # by address, one more than it is: how often it was called, and answered
    tick = source.tick.as_integer_ratio()
    words, marks, base = None, None, 0
    told = told or json_lines

    def take(part: i2c.Decoded) -> bytes:
        nonlocal words, marks, base
        words = part.words if words is None else Words.join([words, part.words])
        marks = part.marks if marks is None else Marks.join([marks, part.marks])
        if not len(marks):
            return b""
        # Whole transactions go out; the one that is open stays, and with it nothing else.
        here = replace(marks, word=marks.word - base)
        table = transactions(here)
        done = int(here.word[-1])
        who = addresses(words, table)
        counts["transactions"] += len(table)
        counts["words"] += int((table.last - table.first).sum())
        called[0] += np.bincount(who.address + 1, minlength=ADDRESSES)
        called[1] += np.bincount(who.address[who.answered] + 1, minlength=ADDRESSES)
        out = b""
        if not summary_only and len(table):
            out = told(calls(words, table, who, tick, "bus"))
        open_now = int(here.kind[-1]) in BEGAN
        words = words.take(slice(done, None)) if done else words
        marks = marks.take(slice(len(marks) - 1, None)) if open_now else marks.take(slice(0, 0))
        base += done
        return out

    last = None
    for block in source.blocks():
        last = block
        if decoder is None:
            decoder = i2c.Decoder(scl, sda, source.tick, width=i2c.spike_ticks(block, scl))
            decoder.inside = False if stopped else None
        piece = take(decoder.feed(block))
        if piece:
            yield piece
    final = (decoder or i2c.Decoder(scl, sda, source.tick)).finish()
    yield take(final)
    if last is not None:
        notes += last.notes
    addresses_seen = {
        f"{number - 1:#04x}" if number else "unknown": {
            "transactions": int(called[0, number]),
            "answered": int(called[1, number]),
        }
        for number in np.flatnonzero(called[0]).tolist()
    }
    spikes = {"scl": final.spikes[0], "sda": final.spikes[1]}
    yield json_bytes(
        {"record": "summary", **counts, "addresses": addresses_seen, "spikes": spikes, "stray_clocks": final.stray}, pretty=False
    )
