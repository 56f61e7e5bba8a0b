"""The transactions of a capture, and the controller commands in them."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, located, nearest
from . import captured, options, output
from .said import say

if TYPE_CHECKING:
    from ..bus.i2c_timing import OfBlocks
    from ..rig import DeviceReading, Reading, Setup
    from ..trace import Source, Trace
    from ..view.progress import Bar

EXAMPLES = """\
examples:
  hushed-wire decode tide.vcd
  hushed-wire decode tide.vcd -v                      the timing table of the I2C-bus specification, too
  hushed-wire decode tide.vcd --rig front-desk.toml --format json -o tide.json
  hushed-wire decode tide.vcd --rig front-desk.toml --as hush -o driver.hush
  hushed-wire decode dump.bin --raw 1 --rate 24MHz --line scl=0 --line sda=1 --format jsonl
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    options.add_text(parser, ("text", "json", "jsonl", "csv"))
    options.add_radix(parser)
    options.add_transfer(parser, "only these transfers, with all that came ahead of them known")
    parser.add_argument("--all", action="store_true", help="list every transaction, however many there are")
    parser.add_argument("--full", action="store_true", help="every transaction with every word and every command of it")
    parser.add_argument("--summary", action="store_true", help="counts only, no listing")
    parser.add_argument(
        "--as", dest="kind", choices=("listing", "hush"), default="listing", help="hush: what a device was told, as a sequence"
    )
    parser.add_argument("--device", metavar="NAME", help="with --as hush: the device, where several are on the bus")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    if args.kind == "hush":
        return _hush(args)
    if args.device:
        raise HushedError("--device picks what --as hush writes", where="--device", remedy="add --as hush, or leave it out")
    import gc

    gc.disable()  # records are many and hold no circles
    try:
        return _listed(args)
    finally:
        gc.enable()


def _listed(args: argparse.Namespace) -> int:
    """The report in the format that is wanted, in memory that stays level."""
    from ..view.progress import Bar

    with Bar(args.quiet) as bar:
        return _read(args, bar)


def _read(args: argparse.Namespace, bar: Bar) -> int:
    from ..rig.decoder import RigDecoder
    from ..rig.within import Within
    from ..view.stream import Counts

    if args.transfer:
        source, blocks, plan, span = _picked(args)
    else:
        source, blocks, plan = captured.streamed(args, bar)
    with located(source.path):
        decoder: Any = RigDecoder(plan.rig, tuple(source.names), source.tick)
    counts = Counts(plan.rig, float(source.tick))
    window = None if args.transfer else captured.window_of(args, source)
    if args.transfer:
        decoder = Within(decoder, *span)
    elif window is not None:  # what came ahead of it is listened to, so that all that was set up is known
        decoder = Within(decoder, *window)
        counts.window = window
        blocks = captured.reaching(blocks, window, args, source, lambda: decoder.waiting)
    for bus, why in decoder.absent.items() if args.format != "text" else ():
        say(f"warning: bus '{bus}' is not in the capture: {why.what}")
    if args.format == "text":
        return _text(args, source, blocks, plan, decoder, counts)
    from ..view import stream

    tick = source.tick.as_integer_ratio()
    if args.format == "jsonl":
        pieces = _quickly(args, source, plan, bar) or stream.json_lines(blocks, decoder, counts, tick, plan.assumed, args.summary)
    elif args.format == "csv":
        from ..bus.base import BUSES

        addressed = not plan.rig.bridge and all(BUSES[bus.kind].addressed for bus in plan.rig.bus)
        pieces = stream.csv_pieces(blocks, decoder, counts, tick, plan.rig, args.radix, addressed)
    else:
        quick = None if args.summary else _quickly(args, source, plan, bar)

        def capture() -> dict[str, Any]:
            lasts = counts.duration
            if quick is not None:  # nobody counted
                lasts = float(Path(args.capture).stat().st_size // int(args.raw) * source.tick)
            return {"path": source.path, "duration": lasts, "lines": list(source.names)}

        pieces = (
            stream.json_pieces(blocks, decoder, counts, tick, plan.assumed, capture, args.summary)
            if quick is None
            else stream.json_of(quick, capture, plan.assumed)
        )
    _out(args, pieces)
    captured.warn(counts.notes)
    return 0


def _picked(args: argparse.Namespace) -> tuple[Source, Any, Setup, tuple[int, int, int]]:
    """The capture, read whole, and where the transfers are that are wanted."""
    from ..rig.numbered import span_of
    from ..rig.reading import PIECE

    source, trace, plan = captured.load_any(args)
    span = span_of(captured.read_by(trace, plan, source.path), *args.transfer)
    return source, trace.pieces(PIECE), plan, span


def _out(args: argparse.Namespace, pieces: Iterator[bytes]) -> None:
    """Writes pieces as they come."""
    if args.output and args.output != "-":
        from ..written_file import replace_file

        replace_file(args.output, pieces)
        return
    sys.stdout.flush()
    for piece in pieces:
        sys.stdout.buffer.write(piece)
        sys.stdout.buffer.flush()
    sys.stdout.buffer.flush()


def _text(args: argparse.Namespace, source: Source, blocks: Any, plan: Setup, decoder: Any, counts: Any) -> int:
    from ..trace import joined
    from ..trace.model import as_changes
    from ..view.decoded import TextReport

    thin: list[Trace] = []
    timed = _timed(plan, source.names) if args.verbose else []

    def noted() -> Iterator[Trace]:
        for block in blocks:
            own = as_changes(block).turned_as(plan.rig.turned)
            for bus in timed:
                bus.feed(own)
            thin.append(own.only(0))
            yield own

    outside = bool(args.verbose and plan.rig.bridge) or _scanned(args, plan)
    from ..rig.within import Within

    every, part = bool(args.all or args.full or args.transfer), decoder if isinstance(decoder, Within) else None
    report = TextReport(
        plan, source.path, tuple(source.names), source.tick, every, args.summary, outside, args.radix, part, args.full
    )

    def write(out: Any) -> None:
        report.write(out, noted() if timed else blocks, decoder, counts)
        if timed:
            _timing(out, joined(thin), timed)

    output.report(args, write)
    return 0


def _scanned(args: argparse.Namespace, plan: Setup) -> bool:
    from ..bus.base import BUSES

    return bool(args.verbose) and any(BUSES[bus.kind].scanned for bus in plan.rig.bus)


def _timed(plan: Setup, names: list[str]) -> list[OfBlocks]:
    """What measures each bus that the I2C-bus specification is for."""
    from ..bus.base import BUSES
    from ..bus.i2c_timing import OfBlocks

    wires = [[bus.lines[role] for role in BUSES[bus.kind].needs] for bus in plan.rig.bus if BUSES[bus.kind].addressed]
    return [OfBlocks(names.index(scl), names.index(sda)) for scl, sda in wires if {scl, sda} <= {*names}]


def _timing(out: Any, trace: Trace, timed: list[OfBlocks]) -> None:
    """The timing table of each of these buses. trace: how long the capture is."""
    from dataclasses import replace

    from ..bus import i2c_timing as timing
    from ..view import listing

    for bus in timed:
        columns = bus.told()
        own = replace(trace, grain=bus.grain)
        clock = timing.median_clock(own, columns)
        listing.timing(out, timing.margins(own, columns, timing.mode_of(clock) if clock else 0))


def _quickly(args: argparse.Namespace, source: Source, plan: Setup, bar: Bar) -> Iterator[bytes] | None:
    """JSON Lines of large raw samples on which nothing hangs that has commands: on two cores, or counted; None elsewhere."""
    if args.raw is None or args.start or args.end or args.transfer or plan.rig.device or plan.rig.bridge or len(plan.rig.bus) > 1:
        return None
    from ..view import halves

    size = halves.worth_it(args.capture, args.raw)
    if not size:
        return None
    return halves.quickly(args.capture, size, source, plan, args.summary, bar.went)


def _hush(args: argparse.Namespace) -> int:
    """What one device was told, as a sequence: its commands, or, of a part that nobody knows, its words."""
    from ..part.catalogs import UNKNOWN
    from ..rig.assumption import unrecognised
    from ..sequence.from_commands import from_commands

    source, trace, plan = captured.load_any(args)
    path = source.path
    reading_of = captured.read_by(trace, plan, path)
    devices = [reading for reading in reading_of.devices if len(reading)]
    if not devices and not plan.rig.device:
        plan.rig.device = unrecognised(reading_of)
        captured.save_rig(args, plan)
        reading_of = captured.read_by(trace, plan, path)
        devices = reading_of.devices
    names = [reading.device.name for reading in devices]
    wanted = [reading for reading in devices if args.device in (None, reading.device.name)]
    if not wanted:
        said = f"there is no device '{args.device}' that was spoken to" if args.device else "no display was spoken to"
        raise HushedError(
            said, where=path, remedy=nearest(args.device, names) if names and args.device else "name the part with --part"
        )
    if all(reading.part.name == UNKNOWN for reading in wanted) and len({reading.device.on for reading in wanted}) == 1:
        return _words(args, path, reading_of, wanted)
    if len(wanted) > 1:
        raise HushedError("several devices were spoken to", where=path, remedy=f"pick one with --device: {', '.join(names)}")
    reading = wanted[0]
    if reading.part.memory.kind == "scanned":
        raise HushedError(
            "scanned LEDs get pictures, no commands", where=path, remedy="hushed-wire screen --every frame shows them"
        )
    line = plan.rig.way_to(reading.device)[0].lines.get("reset", "")
    resets: list[tuple[int, bool]] = []
    if line in trace.names:
        edges = trace.edges(trace.names.index(line))
        resets = [
            (when, level == 1)
            for when, level in zip(edges.times[1:].tolist(), edges.level[1:].tolist(), strict=True)
            if level < 2
        ]
    lines = from_commands(reading.part, reading.chips, float(trace.tick), resets)
    head = [f"# {reading.part.name}, from {path}", f"device {reading.device.name}"]
    output.emit(args, ("\n".join([*head, *lines]) + "\n").encode())
    return 0


def _words(args: argparse.Namespace, path: str, reading: Reading, wanted: list[DeviceReading]) -> int:
    """The words for devices of unknown parts on one bus."""
    from ..sequence.from_words import beside, from_words

    trace, device = reading.trace, wanted[0].device
    selects = {own.device.select for own in wanted}
    channels = [own for own in reading.on(device.on) if own.who is not None or own.select in selects or "" in selects]
    called = {own.device.address: own.device.name for own in wanted if own.device.address is not None}
    lines = reading.rig.way_to(device)[0].lines
    said = from_words(channels, float(trace.tick), called, beside(trace, lines))
    head = [f"# words for a part that nobody knows, from {path}", f"device {device.name}"]
    output.emit(args, ("\n".join([*head, *said]) + "\n").encode())
    return 0
