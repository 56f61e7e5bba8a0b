"""Raw samples decoded on two cores: the capture is cut where every decoder starts afresh, and each half is decoded by a process of its own.

A cut is only made where what comes behind it cannot depend on what came ahead: behind a STOP of I2C, behind the end of a select. The second
half's records wait in a file until the first half's are out, so that the output is the same as in one go.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Callable, Iterator
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
import numpy as np

from ..rig.channel import PAUSE
from ..trace import Source, Trace
from ..trace.model import Samples, Times
from ..trace.raw import blocks_from, samples_from
from .json_text import json_bytes

__all__ = ["behind_pause", "behind_select", "behind_stop", "in_halves", "same_steps", "worth_it"]

SMALLEST = 48 << 20  # bytes from which on a second process pays
LOOKED_AT = 48  # blocks in which a place to cut is looked for
PIECE = 1 << 20

Records = Callable[
    [Source, bool], Iterator[bytes]
]  # of a source, and whether it is the second half; the last piece is the summary
Cut = Callable[[Trace], "int | None"]


def worth_it(path: str, raw: str | None) -> int:
    """Bytes of a sample where a capture is plain raw samples, large, and there is a second core; else 0."""
    if raw is None or not raw.isdecimal() or path == "-" or (os.cpu_count() or 1) < 2 or not hasattr(os, "fork"):
        return 0
    try:
        large = Path(path).is_file() and Path(path).stat().st_size >= SMALLEST
        with Path(path).open("rb") as file:
            packed = file.read(2) == b"\x1f\x8b"
    except OSError:
        return 0
    return int(raw) if large and not packed and int(raw) in (1, 2, 4, 8) else 0


Agree = Callable[["dict[str, Any]", "dict[str, Any]"], bool]


def in_halves(
    path: str,
    size: int,
    rate: Fraction,
    lines: list[int],
    names: list[str],
    records: Records,
    cut: Cut,
    agree: Agree = lambda mine, theirs: True,
    went: Callable[[float], None] = lambda share: None,
) -> Iterator[bytes] | None:
    """The records of both halves in order; None where no place to cut was found. size: bytes of a sample.

    agree: whether by the summaries of both halves the second would have come out the same behind the first; if not it is decoded anew,
    which `records` then has to know how to do. went: is told which share of the capture is done, as far as the first half shows it.
    """
    total = Path(path).stat().st_size // size
    at = None
    for number, block in enumerate(blocks_from(path, size, 1 / rate, lines, total // 2)):
        at = cut(block)
        if at is not None or number >= LOOKED_AT:
            break
    if at is None or at >= total - 1:
        return None
    return _both(partial(_half, path, size, rate, lines, names), records, at, agree, went)


def _half(
    path: str,
    size: int,
    rate: Fraction,
    lines: list[int],
    names: list[str],
    first: int,
    end: int | None,
    went: Callable[[float], None] = lambda share: None,
) -> Source:
    """The capture from sample number `first` up to `end`. went: is told which share of that was read."""

    def pieces() -> Iterator[Samples]:
        for piece in samples_from(path, size, 1 / rate, lines, first):
            if end is None or piece.end <= end:
                yield piece
                if end is not None:
                    went((piece.end - first) / (end - first))
                continue
            if piece.start < end:
                yield piece.until(end)
            return

    return Source(path, "raw", names, 1 / rate, (piece.trace() for piece in pieces()), _samples=pieces())


def _both(
    half: Callable[..., Source],
    records: Records,
    at: int,
    agree: Agree,
    went: Callable[[float], None],
) -> Iterator[bytes]:
    def second() -> Iterator[bytes]:
        return records(half(at, None), True)

    with tempfile.TemporaryFile() as store:
        child = os.fork()
        if not child:  # the second half: nothing but its records, and then gone
            status = 1
            try:
                last = b""
                for piece in second():
                    store.write(last)
                    last = piece
                store.write(last)
                store.write(len(last).to_bytes(8, "big"))
                store.flush()
                status = 0
            finally:
                os._exit(status)
        mine = b""
        for piece in records(half(0, at, went), False):
            if mine:
                yield mine
            mine = piece
        _, status = os.waitpid(child, 0)
        length = end = 0
        if not status:
            store.seek(-8, os.SEEK_END)
            end = store.tell()
            length = int.from_bytes(store.read(8), "big")
            store.seek(end - length)
            theirs = store.read(length)
        if status or not agree(
            msgspec.json.decode(mine), msgspec.json.decode(theirs)
        ):  # no memory, no room; or it was parted otherwise
            theirs = b""
            for piece in second():
                if theirs:
                    yield theirs
                theirs = piece
        else:
            store.seek(0)
            left = end - length
            while left:
                piece = store.read(min(PIECE, left))
                left -= len(piece)
                yield piece
    total = _sum(msgspec.json.decode(mine), msgspec.json.decode(theirs))
    total.pop("steps", None)
    yield json_bytes(total, pretty=False)


def _sum(a: Any, b: Any) -> Any:
    """Counts of both summaries added up; words stay as they are."""
    if isinstance(a, dict) and isinstance(b, dict):
        return {key: _sum(a.get(key), b.get(key)) for key in sorted({*a, *b}, key=[*a, *b].index)}
    if isinstance(a, int) and isinstance(b, int):
        return a + b
    return b if a is None else a


def behind_stop(scl: int, sda: int) -> Cut:
    """Behind a STOP of I2C that nothing follows for a while, so that it is none of a spike's."""

    from ..bus import i2c

    def cut(block: Trace) -> int | None:
        code = i2c.codes_of(block, scl, sda)
        quiet = max(8, 4 * i2c.spike_ticks(block, scl))
        stops = np.flatnonzero((code[:-1] == 1) & (code[1:] == 3)) + 1  # SCL high, SDA from low to high
        return _quiet(block.times, block.end, stops, quiet)

    return cut


def behind_select(selects: list[int], active: int) -> Cut:
    """Behind the end of the select, where no other one is active."""

    def cut(block: Trace) -> int | None:
        kind = block.levels.dtype.type
        mask = kind(sum(1 << line for line in selects))
        idle = (block.levels & mask) == (kind(0) if active else mask)
        return _quiet(block.times, block.end, np.flatnonzero(idle[1:] & ~idle[:-1]) + 1, 4)

    return cut


def behind_pause(roles: dict[str, int], active: int) -> Cut:
    """In the middle of a pause of a parallel bus, so long that it surely is one."""

    from ..bus import parallel

    def cut(block: Trace) -> int | None:
        when = parallel.Decoder(roles, active).feed(block).words.effect
        steps = np.diff(when)
        if not len(steps):
            return None
        good = np.flatnonzero(steps > PAUSE * steps.min())
        return int(when[good[0]] + steps[good[0]] // 2) if len(good) else None

    return cut


def same_steps(mine: dict[str, Any], theirs: dict[str, Any]) -> bool:
    """Whether the second half of a parallel bus was parted as behind the first: the steps that were no pauses there are none by the

    shortest step of the first half, either."""
    shortest = min(int(half["steps"]["shortest"]) for half in (mine, theirs))
    return int(theirs["steps"]["longest"]) <= PAUSE * shortest


def _quiet(times: Times, end: int, found: Times, ticks: int) -> int | None:
    """The tick behind the first of some entries that nothing follows for so many ticks."""
    after = np.append(times[1:], end)[found]
    good = np.flatnonzero(after - times[found] >= ticks)
    return int(times[found[good[0]]]) + 1 if len(good) else None
