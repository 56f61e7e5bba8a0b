"""The capture and the rig that the options name: opened, cut to its window, matched, read whole or in pieces."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from fractions import Fraction
from itertools import chain
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

from ..errors import HushedError, located
from .options import rig_given, roles, shape
from .said import say

if TYPE_CHECKING:
    from ..diagnosis.gathered import Gathered
    from ..rig import Setup
    from ..rig.reading import Reading
    from ..trace import Source, Trace
    from ..trace.model import Samples
    from ..view.progress import Bar

Block = TypeVar("Block")

__all__ = [
    "chosen",
    "figure_kind",
    "gathered",
    "heard",
    "in_window",
    "lines_going_by",
    "load_any",
    "open_source",
    "picked",
    "plan_for",
    "reaching",
    "read_by",
    "save_rig",
    "streamed",
    "warn",
    "whole",
    "window_of",
    "windowed",
]

HEAD = 1_000_000  # changes by which a rig is worked out, where none is given
LOOKED_AT = 4_000_000  # the same where the whole capture is heard before anything is told
LONG = 64 << 20  # bytes of a file that surely has as many
KNOWN_HEAD = 400_000  # the same where the kind of bus is given, and its devices have no addresses
LIVE_HEAD = 2_000  # the same of a pipe whose lines are named: somebody may be waiting for what comes next


def open_source(args: argparse.Namespace, wanted: list[str] | None = None, again: bool = False) -> Source:
    """Opens the capture as the options say. again: those that play no role were told already."""
    from ..room import keep
    from ..trace import open_capture

    keep()
    threshold, hysteresis = args.threshold, args.hysteresis
    if hysteresis is not None and hysteresis < 0:
        raise HushedError("a hysteresis below zero", where="--hysteresis", remedy="give the full width of the band, like 0.2V")
    rate = args.rate
    if rate is not None and rate <= 0:
        raise HushedError("a sample rate has to be above zero", where="--rate", remedy="like --rate 20MHz")

    def opened(own_rate: Fraction | None) -> Source:
        return open_capture(
            args.capture,
            stdin=sys.stdin.buffer,
            raw=int(args.raw) if args.raw and args.raw.isdecimal() else args.raw,
            rate=own_rate,
            wanted=wanted,
            named=_named(args) if wanted is None else None,
            threshold=None if threshold is None else float(threshold),
            hysteresis=None if hysteresis is None else float(hysteresis),
            cores=_cores(),
        )

    lent = getattr(args, "lent", ())  # what the project says is for the files that want it
    if "rate" in lent and not args.raw:
        try:
            return opened(None)
        except HushedError as error:
            if "--rate" not in error.remedy:
                raise
        return opened(rate)
    source = opened(rate)
    if again:
        return source
    if rate is not None and source.kind == "VCD":
        say("warning: --rate plays no role here: a VCD has times of its own")
    in_volts = (threshold, hysteresis) != (None, None) and not {"threshold", "hysteresis"} & {*lent}
    if in_volts and source.waveforms is None:
        say("warning: --threshold and --hysteresis play no role here: the file has levels, not volts")
    return source


def _cores() -> int:
    """Cores that may read a capture: one in a process of a sweep, which has all of them at work."""
    several = sys.modules.get("multiprocessing")  # who is none of several need not load it
    return 1 if several is not None and several.parent_process() is not None else os.cpu_count() or 1


def _named(args: argparse.Namespace) -> list[str]:
    """All lines that the options name."""
    lines = list(roles(args).values()) if getattr(args, "line", None) else []
    lines += [text.rpartition("=")[2] for text in getattr(args, "only", None) or []]
    if getattr(args, "rig", None):
        lines += [line for bus in rig_given(args).bus for line in bus.lines.values()]
    return lines


def picked(trace: Trace, only: list[str], path: str) -> list[tuple[str, int]]:
    """The lines that --only names: what it calls them, and their numbers."""
    pairs = [(new if equals else "", line) for new, equals, line in ((text.rpartition("=")) for text in only)]
    with located(path):
        numbers = [trace.index(line) for _, line in pairs]
    names = [new or trace.names[number] for (new, _), number in zip(pairs, numbers, strict=True)]
    if len(set(names)) < len(names):
        raise HushedError("two lines would have one name", where="--only", remedy="rename one: --only NAME=LINE")
    return list(zip(names, numbers, strict=True))


def chosen(trace: Trace, only: list[str], path: str) -> Trace:
    """The lines that --only names, under the names that it gives them; all where it names none."""
    pairs = picked(trace, only, path)
    return trace.select([number for _, number in pairs], tuple(name for name, _ in pairs)) if pairs else trace


def whole(args: argparse.Namespace, source: Source) -> Trace:
    """The part of a capture between --from and --to; reading is watched where somebody waits for it."""
    from ..view.progress import watched

    return windowed(source.read(watched(source.blocks(), source, getattr(args, "quiet", False))), args)


def in_window(source: Source, args: argparse.Namespace) -> Iterator[Trace]:
    """The part of a capture between --from and --to, block by block; reading is watched where somebody waits for it."""
    from ..trace import joined
    from ..view.progress import watched

    start = None if args.start is None else round(args.start / source.tick)
    end = None if args.end is None else round(args.end / source.tick)
    beside: list[Trace] = []
    seen = False
    for block in watched(source.blocks(), source, getattr(args, "quiet", False)):
        first = block.start if start is None else max(block.start, start)
        last = block.end if end is None else min(block.end, end)
        if first < last and (start is None or end is None or start < end):
            seen = True
            yield block if (first, last) == (block.start, block.end) else block.window(first, last)
        elif not seen:
            beside.append(block.only(0))
        elif end is not None and block.start >= end:
            return
    if not seen and beside:
        windowed(joined(beside), args)  # says so


def windowed(trace: Trace, args: argparse.Namespace) -> Trace:
    """The part between --from and --to."""
    start, end = args.start, args.end
    if start is None and end is None:
        return trace
    first = trace.start if start is None else trace.ticks(start)
    last = trace.end if end is None else trace.ticks(end)
    if first >= trace.end or last <= trace.start:
        from ..units import show_time

        span = " to ".join(show_time(float(tick * trace.tick)) for tick in (trace.start, trace.end))
        raise HushedError("the window is beside the capture", where="--from/--to", remedy=f"{args.capture} lasts from {span}")
    if first >= last:
        raise HushedError("the window is empty", where="--from/--to", remedy="--from has to be before --to")
    return trace.window(first, last)


def wanted_lines(args: argparse.Namespace) -> list[str] | None:
    """The lines that matter, where they are known before the capture is read."""
    rig = rig_given(args)
    lines = [line for bus in rig.bus for line in bus.lines.values()] if rig is not None else list(roles(args).values())
    return lines or None


def plan_for(trace: Trace, args: argparse.Namespace) -> Setup:
    """The rig to read by: the file, or one worked out from options, names and traffic."""
    from ..rig import Options, Setup, assume

    rig = rig_given(args)
    if rig is not None:
        return Setup(rig)
    try:
        return assume(
            trace, Options(args.bus or "", roles(args), args.part or "", args.panel or "", str(args.clock or ""), shape(args))
        )
    except HushedError as error:
        warn(trace.notes)  # they may be the reason
        error.where = error.where or args.capture
        raise


def load_any(args: argparse.Namespace, every_line: bool = False) -> tuple[Source, Trace, Setup]:
    """Capture and rig, of any bus, read and matched. every_line: those that play no role are wanted, too."""
    source = open_source(args, None if every_line else wanted_lines(args))
    trace = whole(args, source)
    plan = plan_for(trace, args)
    save_rig(args, plan)
    return source, trace, plan


def gathered(args: argparse.Namespace, every_line: bool = False, ruled: bool = True) -> tuple[Source, Gathered, Setup]:
    """Capture and rig. A long capture goes by; what has no second beginning, or is no file of changes in order, is held whole, and so is what lights
    scanned LEDs, whose every change counts. every_line: those that play no role are wanted, too. ruled: rules will be asked of it."""
    from ..bus.base import BUSES
    from ..diagnosis.gathered import AtHand, PassingBy
    from ..trace import joined

    def opened(again: bool) -> tuple[Source, Iterator[Trace]]:
        source = open_source(args, None if every_line else wanted_lines(args), again)
        return source, in_window(source, args)

    source, blocks = opened(False)
    head: list[Trace] = []
    most = 0 if args.rig and source.position()[1] >= LONG else LOOKED_AT
    if Path(args.capture).is_file() and not source.whole:
        for block in blocks:
            head.append(block)
            if sum(map(len, head)) > most:
                break
    more = next(blocks, None) if head else None
    trace = joined(head) if head else whole(args, source)
    plan = plan_for(trace, args)
    save_rig(args, plan)
    if more is not None and any(BUSES[bus.kind].scanned for bus in plan.rig.bus):
        trace, more = joined(chain(_let_go(head, iter([more])), blocks)), None
    if more is None:
        return source, AtHand(trace.turned_as(plan.rig.turned), plan), plan
    names, tick = trace.names, trace.tick
    del trace
    return source, PassingBy(chain(_let_go(head, iter([more])), blocks), names, tick, plan, lambda: opened(True)[1], ruled), plan


def read_by(trace: Trace, plan: Setup, path: str) -> Reading:
    """A capture as its plan reads it."""
    with located(path):
        return plan.read(trace)


def heard(
    args: argparse.Namespace, lines: Sequence[str] = (), again: bool = False
) -> tuple[Source, Trace, Setup | None, Callable[[], Reading]]:
    """The capture as it is heard while it is read, without keeping more of it than it says: its length, and of its lines those named, and those
    beside a bus; the rig, and what was said. Where no rig can be worked out, that is raised by whoever asks what was said, if lines are named.
    again: it was read before, and what there is to warn of was told."""
    from ..rig.reading import hear
    from ..trace import joined
    from ..view.progress import Bar

    with Bar(getattr(args, "quiet", False)) as bar:
        source, head, rest = _opening(args, bar, LOOKED_AT, lines, again)
        known = empty_trace(source) if args.rig else joined(head) if head else empty_trace(source)
        with located(source.path):
            numbers = [known.index(line) for line in lines]
        try:
            plan = plan_for(known, args)
        except HushedError as error:
            if not lines:
                raise
            told = error  # the name of a caught error ends with its block
            mask = sum(1 << number for number in numbers)

            def unheard() -> Reading:
                raise told

            trace = joined(block.only(mask) for block in chain(head, rest))
            warn(trace.notes)
            return source, trace, None, unheard
        if not args.rig:
            save_rig(args, plan)
        del known
        with located(source.path):
            reading = hear(_let_go(head, rest), tuple(source.names), source.tick, plan.rig, numbers)
    warn(() if again else reading.trace.notes)
    return source, reading.trace, plan, lambda: reading


@contextmanager
def lines_going_by(args: argparse.Namespace, lines: Sequence[str]) -> Iterator[tuple[Source, Iterator[Trace], list[int]]]:
    """A capture, its blocks with no more of it than some lines, and their numbers."""
    from ..view.progress import Bar

    with Bar(getattr(args, "quiet", False)) as bar:
        source, head, rest = _opening(args, bar, LOOKED_AT, lines)
        empty = empty_trace(source)
        with located(source.path):
            numbers = [empty.index(line) for line in lines]
        mask = sum(1 << number for number in {*numbers})
        turned = plan_for(empty, args).rig.turned if args.rig else frozenset[str]()
        notes: list[Any] = []

        def blocks() -> Iterator[Trace]:
            for block in _let_go(head, rest):
                own = block.turned_as(turned).only(mask)
                notes[:] = own.notes
                yield own

        with located(source.path):
            yield source, blocks(), numbers
    warn(notes)


def of_lines(args: argparse.Namespace, lines: Sequence[str]) -> tuple[Source, Trace, None, Callable[[], Reading]]:
    """The capture with no more of it than some lines, as `heard` gives it, where nobody asks what was said."""
    from ..trace import joined

    with lines_going_by(args, lines) as (source, blocks, _):
        trace = joined(blocks)

    def nothing_said() -> Reading:
        raise HushedError("the capture was read for its lines alone", where=source.path)

    return source, trace, None, nothing_said


def _let_go(head: list[Trace], rest: Iterator[Block]) -> Iterator[Trace | Block]:
    """The head and the rest; the head is let go on the way."""
    head.reverse()
    while head:
        yield head.pop()
    yield from rest


def streamed(args: argparse.Namespace, bar: Bar) -> tuple[Source, Iterator[Trace | Samples], Setup]:
    """The whole capture as blocks, each one only once, and the rig to read them by: the file, or one worked out from the beginning."""
    from ..trace import joined

    live = args.capture == "-" and args.line
    source, head, rest = _opening(args, bar, LIVE_HEAD if live else _head(args.bus))
    plan = plan_for(joined(head) if head else empty_trace(source), args)
    if not args.rig:
        save_rig(args, plan)
    return source, chain(head, rest), plan


def _opening(
    args: argparse.Namespace, bar: Bar, most: int, lines: Sequence[str] = (), again: bool = False
) -> tuple[Source, list[Trace], Iterator[Trace | Samples]]:
    """A capture, its first blocks, of `most` changes, where these have to tell the rig (else none), and the others. lines: that matter, too."""
    from ..trace.model import as_changes

    wanted = wanted_lines(args)
    source = open_source(args, None if wanted is None else [*wanted, *(line for line in lines if line not in wanted)], again)
    pieces = bar.over(source.pieces(), source)
    head: list[Trace] = []
    if args.rig:
        return source, head, pieces
    for piece in pieces:
        head.append(as_changes(piece))
        if sum(map(len, head)) >= most:
            break
    return source, head, pieces


def _head(bus: str | None) -> int:
    """How many changes are kept until the rig is worked out."""
    from ..bus.base import BUSES

    return KNOWN_HEAD if bus in BUSES and not BUSES[bus].addressed else HEAD


def empty_trace(source: Source) -> Trace:
    """The lines of a capture, and nothing of what they did."""
    import numpy as np

    from ..trace import Trace

    return Trace(tuple(source.names), np.empty(0, np.int64), np.empty(0, np.uint8), 0, source.tick)


def window_of(args: argparse.Namespace, source: Source) -> tuple[int, int] | None:
    """The ticks of --from and --to; None where neither is given."""
    if args.start is None and args.end is None:
        return None
    first = -FAR if args.start is None else round(args.start / source.tick)
    last = FAR if args.end is None else round(args.end / source.tick)
    if first >= last:
        raise HushedError("the window is empty", where="--from/--to", remedy="--from has to be before --to")
    return first, last


FAR = 1 << 62  # ticks: no capture lasts so long


def reaching(
    blocks: Iterator[Trace | Samples],
    window: tuple[int, int],
    args: argparse.Namespace,
    source: Source,
    waiting: Callable[[], int | None],
) -> Iterator[Trace | Samples]:
    """The blocks from the beginning to the end of a window, and on to the end of what began in it. waiting: the tick from which on something is
    unfinished."""
    first, last = window
    begin: int | None = None
    seen, reached = False, 0
    for block in blocks:
        begin, reached = block.start if begin is None else begin, block.end
        if block.start >= last:
            held = waiting()
            if held is None or held >= last:
                break
        seen = seen or block.end > first
        yield block
    if not seen or (begin is not None and begin >= last):
        from ..units import show_time

        span = " to ".join(show_time(float(tick * source.tick)) for tick in (begin or 0, reached))
        raise HushedError("the window is beside the capture", where="--from/--to", remedy=f"{args.capture} lasts from {span}")


def save_rig(args: argparse.Namespace, plan: Setup) -> None:
    """--save-rig."""
    if args.save_rig:
        from ..rig import rig_toml
        from ..written_file import replace_file

        replace_file(args.save_rig, [rig_toml(plan.rig).encode()])


def figure_kind(name: str) -> str:
    """What kind of figure the end of a file's name tells; raises HushedError where it tells none, or where no figure can be drawn."""
    from ..view.figure import FORMATS, ready

    ready()
    kind = name.rpartition(".")[2].lower()
    if kind not in FORMATS:
        raise HushedError("the ending does not tell the kind of figure", where=name, remedy="end the name in .png, .svg or .pdf")
    return kind


def warn(notes: Any) -> None:
    """Warnings about the file, on stderr, so that they reach people whatever the format is."""
    for note in notes:
        if note.code:
            say(f"warning: {note.text}")
