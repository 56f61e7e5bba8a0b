"""The records of `stream` by a rig: transactions of all its buses and behind its bridges, and the commands of its parts.

Records of a channel come in order, and so do those of a device; how they stand between one another follows the reading.
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from ..errors import HushedError
from ..rig.following import Follower, Heard
from ..rig.schema import Rig
from ..trace import Source
from . import record
from .json_text import json_bytes
from .stream import ADDRESSES, ENCODER, count_in, json_lines, said
from .transfers import calls, transfers

__all__ = ["rig_records"]


def rig_records(source: Source, rig: Rig, notes: list[Any], summary_only: bool = False) -> Iterator[bytes]:
    """The records, in pieces, the last one the summary; what the reader noted goes to `notes`."""
    try:
        follower = Follower(rig, tuple(source.names), source.tick)
    except HushedError as error:
        error.where = error.where or source.path
        raise
    counts = {"transactions": 0, "words": 0}
    commands = 0
    called = np.zeros((2, ADDRESSES), np.int64)
    tick = source.tick.as_integer_ratio()

    def take(heard: Heard) -> bytes:
        nonlocal commands
        out = b""
        for own in heard.channels:
            count_in(own, counts, called)
            if not summary_only and len(own.table):
                table = calls(own.words, own.table, own.who, tick, own.bus) if own.who is not None else transfers(own, tick)
                out += json_lines(table)
        for spoken in heard.spoken:
            listed = [
                {"record": "command", **one}
                for one in record.spoken(spoken.device, spoken.commands, tick, spoken.chip, True, spoken.going_on)
            ]
            commands += sum("continued" not in one for one in listed)
            if not summary_only:
                out += ENCODER.encode_lines(listed)
        return out

    last = None
    for block in source.pieces():
        last = block
        piece = take(follower.feed(block))
        if piece:
            yield piece
    yield take(follower.feed(None))
    if last is not None:
        notes += last.notes
    alone = follower.i2c if not rig.bridge else None
    yield json_bytes(
        {"record": "summary", **counts, **(said(called, alone) if alone else {}), "commands": commands}, pretty=False
    )
