"""Raw samples of one bus on which nothing hangs that has commands: counted without reading a word, or decoded on two cores.

A capture is cut where every decoder starts afresh (`fresh_start` of the bus), and its second half is decoded by a process of its own, whose
records wait in a file until the first half's are out: the output is the same as in one go.
"""

from __future__ import annotations

import multiprocessing
import os
import tempfile
from collections.abc import Callable, Iterator, Mapping
from concurrent.futures import Future, ProcessPoolExecutor
from fractions import Fraction
from functools import partial
from pathlib import Path
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES
from ..bus.channel import LONGEST, PAUSE, Runs, Wired
from ..bus.words import END, STOP
from ..rig import Setup
from ..rig.decoder import RigDecoder
from ..rig.schema import settings_of
from ..trace import Source
from ..trace.model import Samples
from ..trace.raw import blocks_from, samples_from
from .json_text import json_bytes
from .stream import Counts, json_lines

__all__ = ["Half", "in_halves", "quickly", "same_steps", "worth_it"]

SMALLEST = 48 << 20  # bytes from which on a second process pays
START = "fork" if "fork" in multiprocessing.get_all_start_methods() else "spawn"  # the second process has all loaded where it can
LOOKED_AT = 48  # blocks in which a place to cut is looked for
PIECE = 1 << 20


def worth_it(path: str, raw: str | None) -> int:
    """Bytes of a sample where a capture is plain raw samples, large, and there is a second core; else 0."""
    if raw is None or not raw.isdecimal() or path == "-" or (os.cpu_count() or 1) < 2:
        return 0
    try:
        length = Path(path).stat().st_size if Path(path).is_file() else 0
        with Path(path).open("rb") as file:
            packed = file.read(2) == b"\x1f\x8b"
    except OSError:
        return 0
    # One that ends in the middle of a sample goes the plain way, on which that is told.
    return int(raw) if length >= SMALLEST and not packed and int(raw) in (1, 2, 4, 8) and length % int(raw) == 0 else 0


class Half(msgspec.Struct):
    """A stretch of a file of raw samples, and how it is decoded. size: bytes of a sample. rate: samples a second. lines: that matter.

    first, end: numbers of samples, None: to the end of the file. brief: counts only. shortest: the shortest step between the words of a
    parallel bus that is known, None on other buses. second: whether it is the second half.
    """

    path: str
    size: int
    rate: Fraction
    lines: list[int]
    names: tuple[str, ...]
    plan: Setup
    brief: bool
    first: int = 0
    end: int | None = None
    shortest: int | None = None
    second: bool = False


def quickly(
    path: str, size: int, source: Source, plan: Setup, brief: bool, went: Callable[[float], None] = lambda share: None
) -> Iterator[bytes] | None:
    """The records, the last one the summary; None where they have to be made in one go. went: is told which share is done."""
    bus = plan.rig.bus[0]
    module = BUSES[bus.kind].load()
    roles = {role: source.names.index(line) for role, line in bus.lines.items()}
    half = Half(path, size, 1 / source.tick, list(roles.values()), tuple(source.names), plan, brief)
    if hasattr(module, "fresh_start"):
        runs = Runs() if BUSES[bus.kind].each_rests else None
        return in_halves(half, partial(module.fresh_start, wired=_wired(half)), runs, went)
    return None


def _wired(half: Half) -> Wired:
    bus = half.plan.rig.bus[0]
    roles = {role: half.names.index(line) for role, line in bus.lines.items()}
    return Wired(bus.name, roles, settings_of(bus), 1 / half.rate)


def in_halves(
    half: Half,
    cut: Callable[..., int | None],
    runs: Runs | None = None,
    went: Callable[[float], None] = lambda share: None,
) -> Iterator[bytes] | None:
    """The records of both halves in order; None where no place to cut was found. cut: a place in a block. runs: what finds pauses, on buses
    where the shortest step parts the words. went: is told which share of the capture is done, as far as the first half shows it."""
    total = Path(half.path).stat().st_size // half.size
    at = None
    for number, block in enumerate(blocks_from(half.path, half.size, 1 / half.rate, half.lines, total // 2)):
        at = cut(block)
        if at is not None or number >= LOOKED_AT:
            break
    if at is None or at >= total - 1:
        return None
    if runs is not None:  # what the second half can know of the first: its beginning
        beginning = next(iter(blocks_from(half.path, half.size, 1 / half.rate, half.lines, 0)), None)
        if beginning is not None:
            BUSES[half.plan.rig.bus[0].kind].load().decoders(_wired(half), [], runs=runs)[0].feed(beginning)
        half.shortest = runs.pauses.shortest
    return _both(half, at, went)


def _pieces(half: Half, went: Callable[[float], None] = lambda share: None) -> Iterator[Samples]:
    """The samples of a half. went: is told which share of them was read."""
    for piece in samples_from(half.path, half.size, 1 / half.rate, half.lines, half.first):
        if half.end is None or piece.end <= half.end:
            yield piece
            if half.end is not None:
                went((piece.end - half.first) / (half.end - half.first))
            continue
        if piece.start < half.end:
            yield piece.until(half.end)
        return


def _records(half: Half, shortest: int | None = None, went: Callable[[float], None] = lambda share: None) -> Iterator[bytes]:
    """The records of a half, the last one the summary. shortest: the shortest step that is known by then."""
    bus, begin = half.plan.rig.bus[0], dict[str, Any]()
    kind = BUSES[bus.kind]
    runs: Runs | None = None
    if kind.addressed:
        begin["behind_stop"] = half.second
    if half.shortest is not None:
        begin["runs"] = runs = Runs(END if half.second or half.end is None else STOP)
        if half.second:
            runs.pauses.shortest = half.shortest if shortest is None else min(half.shortest, shortest)
        runs.pauses.longest = 0
    counter = kind.load_counter() if half.brief else None
    tallies = counter.tallies(_wired(half), runs) if counter is not None else []
    if tallies:
        summary = _counted(_pieces(half, went), tallies, half.plan.assumed)
    else:
        last = b""
        tick = (1 / half.rate).as_integer_ratio()
        decoder = RigDecoder(half.plan.rig, half.names, 1 / half.rate, begin=begin)
        counts = Counts(half.plan.rig, float(1 / half.rate))
        for piece in json_lines(_pieces(half, went), decoder, counts, tick, half.plan.assumed, half.brief):
            if last:
                yield last
            last = piece
        summary = msgspec.json.decode(last)
    if runs is not None:
        summary["steps"] = {"shortest": str(runs.pauses.shortest), "longest": str(runs.pauses.longest)}
    yield json_bytes(summary, pretty=False)


def _counted(pieces: Iterator[Samples], tallies: list[Any], assumed: Mapping[str, str]) -> dict[str, Any]:
    """The summary of raw samples of which no word need be read."""
    counts = {"transactions": 0, "words": 0}

    def add(words: NDArray[np.int64]) -> None:
        counts["words"] += int(words.sum())
        counts["transactions"] += int(np.maximum(-(-words // LONGEST), 1).sum())  # long ones are told in pieces

    for piece in pieces:
        for tally in tallies:
            add(tally.feed(piece))
    for tally in tallies:
        add(tally.finish())
    return {"record": "summary", **counts, "commands": 0, "assumed": assumed}


def _second(half: Half, store: str) -> tuple[int, bytes]:
    """The second half's records, written to a file: bytes there, and the summary."""
    last, size = b"", 0
    with Path(store).open("wb") as file:
        for piece in _records(half):
            size += file.write(last)
            last = piece
    return size, last


def _both(half: Half, at: int, went: Callable[[float], None]) -> Iterator[bytes]:
    first = msgspec.structs.replace(half, end=at)
    second = msgspec.structs.replace(half, first=at, second=True)
    with tempfile.TemporaryDirectory() as folder, ProcessPoolExecutor(1, multiprocessing.get_context(START)) as pool:
        store = Path(folder) / "second.jsonl"
        future: Future[tuple[int, bytes]] = pool.submit(_second, second, str(store))
        mine = b""
        for piece in _records(first, went=went):
            if mine:
                yield mine
            mine = piece
        told = msgspec.json.decode(mine)
        try:
            size, last = future.result()
            theirs = msgspec.json.decode(last)
            fits = same_steps(told, theirs) if half.shortest is not None else True
        except Exception:  # no memory, no room, no process: whatever it was, it shows again here
            fits = False
        if fits:
            with store.open("rb") as file:
                while size:
                    piece = file.read(min(PIECE, size))
                    size -= len(piece)
                    yield piece
        else:  # it was parted otherwise than behind the first half
            known = int(told["steps"]["shortest"]) if half.shortest is not None else None
            last = b""
            for piece in _records(second, known):
                if last:
                    yield last
                last = piece
            theirs = msgspec.json.decode(last)
    total = _sum(told, theirs)
    total.pop("steps", None)
    yield json_bytes(total, pretty=False)


def _sum(a: Any, b: Any) -> Any:
    """Counts of both summaries added up; words stay as they are."""
    if isinstance(a, dict) and isinstance(b, dict):
        return {key: _sum(a.get(key), b.get(key)) for key in sorted({*a, *b}, key=[*a, *b].index)}
    if isinstance(a, int) and isinstance(b, int):
        return a + b
    return b if a is None else a


def same_steps(mine: dict[str, Any], theirs: dict[str, Any]) -> bool:
    """Whether the second half of a parallel bus was parted as behind the first: the steps that were no pauses there are none by the
    shortest step of the first half, either."""
    shortest = min(int(half["steps"]["shortest"]) for half in (mine, theirs))
    return int(theirs["steps"]["longest"]) <= PAUSE * shortest
