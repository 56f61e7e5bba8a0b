"""Options of one meaning have one name in all commands; here they are added, and turned into what the core takes."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from fractions import Fraction
from itertools import chain
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest
from .said import say

if TYPE_CHECKING:
    from ..rig import Setup
    from ..rig.reading import Reading
    from ..trace import Source, Trace
    from ..trace.model import Samples
    from ..view.progress import Bar

__all__ = ["add_capture", "add_rig", "add_text", "emit", "open_source", "plan_for", "save_rig", "windowed"]


KINDS = ("i2c", "spi", "parallel", "shift", "matrix")  # those of `bus.base.BUSES`, which is loaded only when they are used
DATA_LINES = tuple(f"d{k}" for k in range(16))


def add_capture(parser: argparse.ArgumentParser, optional: bool = False) -> None:
    """The capture and how its file is read."""
    nargs = "?" if optional else None
    parser.add_argument(
        "capture", nargs=nargs, metavar="CAPTURE", help="VCD, CSV or NPZ file, plain or gzip; '-' is standard input"
    )
    group = add_reading(parser)
    add_quantity(group, "--from", "s", "T", "leave out what comes before this time, like 1.5ms", dest="start")
    add_quantity(group, "--to", "s", "T", "leave out what comes after this time", dest="end")


def add_reading(parser: argparse.ArgumentParser) -> Any:
    """How a capture's file is read."""
    group = parser.add_argument_group("reading the capture")
    group.add_argument(
        "--raw", metavar="BYTES", help="raw samples of so many bytes (1, 2, 4, 8), or packed: 1bit, 2bit, 4bit; needs --rate"
    )
    add_quantity(group, "--rate", "Hz", "RATE", "sample rate, like 20MHz, where the file does not tell it")
    add_quantity(group, "--threshold", "V", "V", "for files in volts: the middle between low and high, like 1.5V")
    add_quantity(group, "--hysteresis", "V", "V", "for files in volts: full width of the band around it, like 0.2V")
    return group


def add_rig(parser: argparse.ArgumentParser) -> None:
    """What hangs on the wires: a rig file, or options, or nothing (then it is worked out)."""
    group = parser.add_argument_group("what hangs on the wires (worked out from names and traffic where not given)")
    group.add_argument("--rig", metavar="FILE", help="rig file")
    group.add_argument("--bus", metavar="KIND", help=f"kind of bus: {', '.join(KINDS[:-1])} or {KINDS[-1]}")
    group.add_argument(
        "--line",
        action="append",
        default=[],
        metavar="ROLE=LINE",
        help="line that plays a role, like scl=D0 or cs=4; by name or number",
    )
    group.add_argument("--mode", type=int, choices=range(4), help="SPI: idle level and edge of the clock")
    group.add_argument(
        "--bits", type=int, metavar="N", help="SPI: bits of a word, 1 to 32 (default: as the part has them, else 8)"
    )
    group.add_argument("--order", choices=("msb", "lsb"), help="SPI, shift: which bit comes first (default: msb)")
    group.add_argument("--select", choices=("low", "high"), help="SPI, parallel: the level that selects")
    group.add_argument("--part", metavar="PART", help="part on the bus, like ssd1306")
    group.add_argument("--panel", metavar="SIZE", help="its panel, like 128x32")
    add_quantity(group, "--clock", "Hz", "RATE", "bus clock that is meant, like 400kHz")
    group.add_argument("--save-rig", metavar="FILE", help="keep what was worked out as a rig file")
    add_catalog(parser)


def add_catalog(parser: Any) -> None:
    """Parts of the user's own."""
    parser.add_argument("--catalog", metavar="DIR", help="a folder with part descriptions of your own (*.toml)")


def add_text(parser: argparse.ArgumentParser, formats: tuple[str, ...] = ("text", "json")) -> None:
    """How the report is written."""
    group = parser.add_argument_group("the report")
    group.add_argument("--format", choices=formats, default="text", help="default: text")
    group.add_argument("-o", dest="output", metavar="FILE", help="write it to a file instead of standard output")
    group.add_argument("--color", choices=("auto", "always", "never"), default="auto", help="default: auto, on a terminal only")
    group.add_argument("-v", "--verbose", action="store_true", help="say more")
    group.add_argument("-q", "--quiet", action="store_true", help="say less")


def add_radix(parser: argparse.ArgumentParser) -> None:
    """How words are written for people; in JSON they are numbers."""
    choices = ("hex", "dec", "bin", "char")
    parser.add_argument("--radix", choices=choices, default="hex", help="how words are written, but for JSON (default: hex)")


class Given(Fraction):
    """A quantity as it was given on the command line; shown as it was written."""

    __slots__ = ("text",)
    text: str

    def __str__(self) -> str:
        return self.text


def measured(unit: str, option: str) -> Callable[[str], Given]:
    """What argparse makes of an option with a unit; HushedError names the option."""

    def convert(text: str) -> Given:
        from ..units import parse

        given = Given(parse(text, unit, option))
        given.text = text
        return given

    return convert


def add_quantity(to: Any, option: str, unit: str, metavar: str, text: str, **more: Any) -> None:
    """An option of a parser, or of a group of one, that takes a quantity with its unit."""
    to.add_argument(option, type=measured(unit, option), metavar=metavar, help=text, **more)


def roles(args: argparse.Namespace) -> dict[str, str]:
    """--line ROLE=LINE, as a table."""
    out: dict[str, str] = {}
    for text in args.line:
        role, equals, line = text.partition("=")
        if not equals or not role or not line:
            raise HushedError(f"'{text}' is not ROLE=LINE", where="--line", remedy="like --line scl=D0 --line sda=D1")
        if role.lower() in out:
            raise HushedError(f"the role '{role}' is given twice", where="--line", remedy="leave one of them")
        if line in out.values():
            raise HushedError(f"the line '{line}' plays two roles", where="--line", remedy="each role needs a line of its own")
        out[role.lower()] = line
    from ..bus.base import BUSES

    fitting = [kind for kind in BUSES.values() if kind.data_lines(out) and set(out) <= set(kind.roles)]
    gaps = [role for kind in fitting for role in kind.missing(out) if role in DATA_LINES] if "d4" in out else []
    if gaps and not getattr(args, "rig", None):
        raise HushedError(
            f"the data line {gaps[0]} is missing between others", where="--line", remedy=f"add --line {gaps[0]}=LINE"
        )
    return out


def open_source(args: argparse.Namespace, wanted: list[str] | None = None) -> Source:
    """Opens the capture as the options say."""
    from ..trace import open_capture

    threshold, hysteresis = args.threshold, args.hysteresis
    if hysteresis is not None and hysteresis < 0:
        raise HushedError("a hysteresis below zero", where="--hysteresis", remedy="give the full width of the band, like 0.2V")
    rate = args.rate
    if rate is not None and rate <= 0:
        raise HushedError("a sample rate has to be above zero", where="--rate", remedy="like --rate 20MHz")
    source = open_capture(
        args.capture,
        stdin=sys.stdin.buffer,
        raw=int(args.raw) if args.raw and args.raw.isdecimal() else args.raw,
        rate=rate,
        wanted=wanted,
        named=_named(args) if wanted is None else None,
        threshold=None if threshold is None else float(threshold),
        hysteresis=None if hysteresis is None else float(hysteresis),
    )
    if rate is not None and source.kind == "VCD":
        say("warning: --rate plays no role here: a VCD has times of its own")
    if (threshold is not None or hysteresis is not None) and source.waveforms is None:
        say("warning: --threshold and --hysteresis play no role here: the file has levels, not volts")
    return source


def _named(args: argparse.Namespace) -> list[str]:
    """All lines that the options name."""
    lines = list(roles(args).values()) if getattr(args, "line", None) else []
    lines += [text.rpartition("=")[2] for text in getattr(args, "only", None) or []]
    if getattr(args, "rig", None):
        lines += [line for bus in rig_given(args).bus for line in bus.lines.values()]
    return lines


def add_only(parser: argparse.ArgumentParser) -> None:
    """Some lines of a capture."""
    parser.add_argument(
        "--only", action="append", default=[], metavar="LINE",
        help="only these lines, in this order; NAME=LINE renames one (repeatable)",
    )  # fmt: skip


def picked(trace: Trace, only: list[str], path: str) -> list[tuple[str, int]]:
    """The lines that --only names: what it calls them, and their numbers."""
    pairs = [(new if equals else "", line) for new, equals, line in ((text.rpartition("=")) for text in only)]
    try:
        numbers = [trace.index(line) for _, line in pairs]
    except HushedError as error:
        error.where = error.where or path
        raise
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
    from ..trace import joined
    from ..view.progress import watched

    return windowed(joined(list(watched(source.blocks(), source, getattr(args, "quiet", False)))), args)


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


def rig_given(args: argparse.Namespace) -> Any:
    """The rig file, with what the options say over it; None where no rig was named. It is loaded once."""
    if not args.rig:
        return None
    known = getattr(args, "loaded_rig", None)
    if known is not None:
        return known
    from ..bus.base import BUSES
    from ..rig import load_rig

    for option in ("part", "panel", "bus"):
        if getattr(args, option):
            raise HushedError(f"--{option} and --rig both say what hangs on the wires", remedy="leave one of them")
    rig = load_rig(args.rig)
    given, settings = roles(args), shape(args)
    for role, line in given.items():
        bus = _the_one(rig, f"--line {role}=…", [bus for bus in rig.bus if role in BUSES[bus.kind].roles], role)
        _over(bus.lines, {role: line}, given)
    if settings:
        from ..rig.guess_settings import check_shape

        fitting = [bus for bus in rig.bus if set(settings) <= set(BUSES[bus.kind].settings)]
        if not fitting:
            check_shape(rig.bus[0].kind, settings)
        bus = _the_one(rig, f"--{next(iter(settings))}", fitting, "")
        for key, value in settings.items():
            setattr(bus, key, value)
    if args.clock:
        _the_one(rig, "--clock", rig.bus, "").clock = str(args.clock)
    args.loaded_rig = rig
    return rig


def _the_one(rig: Any, option: str, buses: list[Any], role: str) -> Any:
    """The only bus of a rig that an option can mean."""
    if not buses:
        from ..bus.base import BUSES

        known = [name for bus in rig.bus for name in BUSES[bus.kind].roles]
        kinds = " and ".join(dict.fromkeys(BUSES[bus.kind].title for bus in rig.bus))
        raise HushedError(f"{kinds} has no role '{role}'", where="--line", remedy=nearest(role, known))
    if len(buses) > 1:
        names = " and ".join(f"'{bus.name}'" for bus in buses)
        raise HushedError(f"{option} could be for {names}", where=option.split()[0], remedy="say it in the rig file")
    return buses[0]


def shape(args: argparse.Namespace) -> dict[str, Any]:
    """--mode, --bits, --order and --select, as far as they are given."""
    found = {key: getattr(args, key) for key in ("mode", "bits", "order", "select") if getattr(args, key) is not None}
    if not 1 <= found.get("bits", 8) <= 32:
        raise HushedError(f"a word of {found['bits']} bits", where="--bits", remedy="words have 1 to 32 bits")
    return found


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


def read_by(trace: Trace, plan: Setup, path: str) -> Reading:
    """A capture as its plan reads it."""
    try:
        return plan.read(trace)
    except HushedError as error:
        error.where = error.where or path
        raise


def listening(args: argparse.Namespace) -> tuple[Source, Trace, Callable[[], Reading]]:
    """The capture with all its lines, and what decodes it when it is asked to (once)."""
    from functools import lru_cache

    source = open_source(args)
    trace = whole(args, source)
    warn(trace.notes)

    @lru_cache(maxsize=1)
    def listen() -> Reading:
        plan = plan_for(trace, args)
        save_rig(args, plan)
        return read_by(trace, plan, source.path)

    return source, trace, listen


HEAD = 1_000_000  # changes by which a rig is worked out, where none is given
LIVE_HEAD = 2_000  # the same of a pipe whose lines are named: somebody may be waiting for what comes next


def streamed(args: argparse.Namespace, bar: Bar) -> tuple[Source, Iterator[Trace | Samples], Setup]:
    """The capture as blocks, each one only once, and the rig to read them by: the file, or one worked out from the beginning."""
    from ..trace import joined
    from ..trace.model import as_changes

    source = open_source(args, wanted_lines(args))
    if args.rig:
        plan = plan_for(empty_trace(source), args)
        return source, clipped(bar.over(source.pieces(), source), args, source), plan
    head: list[Trace] = []
    pieces = bar.over(source.pieces(), source)
    most = LIVE_HEAD if args.capture == "-" and args.line else HEAD
    for piece in pieces:
        head.append(as_changes(piece))
        if sum(map(len, head)) >= most:
            break
    plan = plan_for(joined(head) if head else empty_trace(source), args)
    save_rig(args, plan)
    return source, clipped(chain(head, pieces), args, source), plan


def empty_trace(source: Source) -> Trace:
    """The lines of a capture, and nothing of what they did."""
    import numpy as np

    from ..trace import Trace

    return Trace(tuple(source.names), np.empty(0, np.int64), np.empty(0, np.uint8), 0, source.tick)


def clipped(blocks: Iterator[Trace | Samples], args: argparse.Namespace, source: Source) -> Iterator[Trace | Samples]:
    """The blocks between --from and --to."""
    from ..trace.model import as_changes

    start, end = args.start, args.end
    if start is None and end is None:
        yield from blocks
        return
    first = None if start is None else round(start / source.tick)
    last = None if end is None else round(end / source.tick)
    if first is not None and last is not None and first >= last:
        raise HushedError("the window is empty", where="--from/--to", remedy="--from has to be before --to")
    begin: int | None = None
    seen, reached = False, 0
    for block in blocks:
        begin, reached = block.start if begin is None else begin, block.end
        if first is not None and block.end <= first:
            continue
        if last is not None and block.start >= last:
            break
        own = as_changes(block)
        seen = True
        yield own.window(own.start if first is None else first, own.end if last is None else last)
    if not seen:
        from ..units import show_time

        span = " to ".join(show_time(float(tick * source.tick)) for tick in (begin or 0, reached))
        raise HushedError("the window is beside the capture", where="--from/--to", remedy=f"{args.capture} lasts from {span}")


def _over(lines: dict[str, str], given: dict[str, str], every: dict[str, str]) -> None:
    """Lines that are given over those of a rig; raises HushedError where one would play two roles. every: all that are given."""
    for role, line in given.items():
        taken = next((other for other, name in lines.items() if name == line and other != role and other not in every), "")
        if taken:
            what = f"the line '{line}' is {taken.upper()} by the rig"
            raise HushedError(what, where="--line", remedy=f"say --line {taken}=LINE, too")
    lines.update(given)


def save_rig(args: argparse.Namespace, plan: Setup) -> None:
    """--save-rig."""
    if args.save_rig:
        from ..rig import rig_toml
        from ..trace.files import replace_file

        replace_file(args.save_rig, [rig_toml(plan.rig).encode()])


def warn(notes: Any) -> None:
    """Warnings about the file, on stderr, so that they reach people whatever the format is."""
    for note in notes:
        if note.code:
            say(f"warning: {note.text}")


@contextmanager
def whoever_listens() -> Iterator[None]:
    """What is said to a pipe whose reader has left is lost; the command goes on, and its status says what it found."""
    try:
        yield
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def emit(args: argparse.Namespace, data: bytes) -> None:
    """Writes a product to -o or standard output."""
    if args.output and args.output != "-":
        from ..trace.files import replace_file

        replace_file(args.output, [data])
        return
    with whoever_listens():
        sys.stdout.flush()
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()


def report(args: argparse.Namespace, write: Any, light: bool = False) -> None:
    """Runs `write(console)` on the terminal, or into the file that -o names. light: it can do with a plain console."""
    if light and args.color != "always" and (bool(args.output and args.output != "-") or not sys.stdout.isatty()):
        import io

        from ..view.pipe_console import WIDTH, Plain

        plain = io.StringIO()
        write(Plain(plain, WIDTH))
        emit(args, plain.getvalue().encode((sys.stdout.encoding or "utf-8") if not args.output else "utf-8", "replace"))
        return
    from ..view.console import console

    if args.output and args.output != "-":
        import io

        from ..trace.files import replace_file

        text = io.TextIOWrapper(io.BytesIO(), encoding="utf-8")
        out = console("always" if args.color == "always" else "never", text)
        write(out)
        out.file.flush()
        text.flush()
        replace_file(args.output, [text.buffer.getvalue()])
        return
    out = console(args.color)
    with whoever_listens():
        write(out)
        out.file.flush()
