"""Options of one meaning have one name in all commands; here they are added, and turned into what the core takes."""

from __future__ import annotations

import argparse
import sys
from fractions import Fraction
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest

if TYPE_CHECKING:
    from ..rig import Setup
    from ..trace import Source, Trace

__all__ = ["add_capture", "add_rig", "add_text", "emit", "open_source", "plan_for", "save_rig", "windowed"]


def add_capture(parser: argparse.ArgumentParser, optional: bool = False) -> None:
    """The capture and how its file is read."""
    nargs = "?" if optional else None
    parser.add_argument(
        "capture", nargs=nargs, metavar="CAPTURE", help="VCD, CSV or NPZ file, plain or gzip; '-' is standard input"
    )
    group = parser.add_argument_group("reading the capture")
    group.add_argument(
        "--raw", metavar="BYTES", help="raw samples of so many bytes (1, 2, 4, 8), or packed: 1bit, 2bit, 4bit; needs --rate"
    )
    group.add_argument("--rate", metavar="RATE", help="sample rate, like 20MHz, where the file does not tell it")
    group.add_argument("--threshold", metavar="V", help="for files in volts: the middle between low and high, like 1.5V")
    group.add_argument("--hysteresis", metavar="V", help="for files in volts: full width of the band around it, like 0.2V")
    group.add_argument("--from", dest="start", metavar="T", help="leave out what comes before this time, like 1.5ms")
    group.add_argument("--to", dest="end", metavar="T", help="leave out what comes after this time")


def add_rig(parser: argparse.ArgumentParser) -> None:
    """What hangs on the wires: a rig file, or options, or nothing (then it is worked out)."""
    group = parser.add_argument_group("what hangs on the wires (worked out from names and traffic where not given)")
    group.add_argument("--rig", metavar="FILE", help="rig file")
    group.add_argument("--bus", metavar="KIND", help="kind of bus: i2c, spi, parallel or shift")
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
    group.add_argument("--clock", metavar="RATE", help="bus clock that is meant, like 400kHz")
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


def quantity(text: str | None, unit: str, option: str) -> Fraction | None:
    """An option with a unit; HushedError names the option."""
    if text is None:
        return None
    from ..units import parse

    return parse(text, unit, option)


def roles(args: argparse.Namespace) -> dict[str, str]:
    """--line ROLE=LINE, as a table."""
    from ..bus.role_table import missing_roles

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
    gaps = [] if getattr(args, "rig", None) or "d4" not in out else missing_roles("parallel", out)
    if gaps:
        raise HushedError(
            f"the data line {gaps[0]} is missing between others", where="--line", remedy=f"add --line {gaps[0]}=LINE"
        )
    return out


def open_source(args: argparse.Namespace, wanted: list[str] | None = None) -> Source:
    """Opens the capture as the options say."""
    from ..trace import open_capture

    threshold = quantity(args.threshold, "V", "--threshold")
    hysteresis = quantity(args.hysteresis, "V", "--hysteresis")
    if hysteresis is not None and hysteresis < 0:
        raise HushedError("a hysteresis below zero", where="--hysteresis", remedy="give the full width of the band, like 0.2V")
    rate = quantity(args.rate, "Hz", "--rate")
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
        sys.stderr.write("hushed-wire: warning: --rate plays no role here: a VCD has times of its own\n")
    if (threshold is not None or hysteresis is not None) and source.waveforms is None:
        sys.stderr.write("hushed-wire: warning: --threshold and --hysteresis play no role here: the file has levels, not volts\n")
    return source


def _named(args: argparse.Namespace) -> list[str]:
    """All lines that the options name."""
    lines = list(roles(args).values()) if getattr(args, "line", None) else []
    lines += [text.rpartition("=")[2] for text in getattr(args, "only", None) or []]
    if getattr(args, "rig", None):
        from ..rig import load_rig

        lines += [line for bus in load_rig(args.rig, lenient=True).bus for line in bus.lines.values()]
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
    start, end = quantity(args.start, "s", "--from"), quantity(args.end, "s", "--to")
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
    """The rig file, with --line and --clock over it; None where no rig was named."""
    if not args.rig:
        return None
    from ..rig import load_rig
    from ..rig.schema import the_bus

    for option in ("part", "panel", "bus"):
        if getattr(args, option):
            raise HushedError(f"--{option} and --rig both say what hangs on the wires", remedy="leave one of them")
    rig = load_rig(args.rig)
    bus = the_bus(rig, args.rig)
    given = roles(args)
    for role in given:
        if role not in ("scl", "sda"):
            raise HushedError(f"I2C has no role '{role}'", where="--line", remedy="its roles are scl and sda, like --line scl=D0")
    _over(bus.lines, given)
    _reshaped(bus, args)
    if args.clock:
        quantity(args.clock, "Hz", "--clock")
        bus.clock = args.clock
    return rig


def shape(args: argparse.Namespace) -> dict[str, Any]:
    """--mode, --bits, --order and --select, as far as they are given."""
    found = {key: getattr(args, key) for key in ("mode", "bits", "order", "select") if getattr(args, key) is not None}
    if not 1 <= found.get("bits", 8) <= 32:
        raise HushedError(f"a word of {found['bits']} bits", where="--bits", remedy="words have 1 to 32 bits")
    return found


def wanted_lines(args: argparse.Namespace, rig: Any) -> list[str] | None:
    """The lines that matter, where they are known before the capture is read."""
    from ..rig.schema import the_bus

    lines = the_bus(rig, args.rig).lines if rig is not None else roles(args)
    return list(lines.values()) or None


def only_i2c(plan: Setup, path: str) -> None:
    """Raises HushedError where a plan is for a bus without addresses."""
    kind = plan.rig.bus[0].kind
    if kind != "i2c":
        raise HushedError(
            f"this looks like {kind}, where devices have no addresses",
            where=path,
            remedy="decode shows what was sent; if it is I2C, say --line scl=… --line sda=…",
        )


def plan_for(trace: Trace, args: argparse.Namespace, rig: Any) -> Setup:
    """The rig to read by: the file, or one worked out from options, names and traffic."""
    from ..rig import Options, Setup, assume, lines_of
    from ..rig.schema import the_bus

    if rig is not None:
        try:
            lines_of(trace, the_bus(rig))
        except HushedError as error:
            error.where = error.where or args.capture
            raise
        return Setup(rig)
    quantity(args.clock, "Hz", "--clock")
    try:
        return assume(
            trace, Options(args.bus or "", roles(args), args.part or "", args.panel or "", args.clock or "", shape(args))
        )
    except HushedError as error:
        warn(trace.notes)  # they may be the reason
        error.where = error.where or args.capture
        raise


def load_any(args: argparse.Namespace, every_line: bool = False) -> tuple[Source, Trace, Setup]:
    """Capture and rig, of any bus, read and matched. every_line: those that play no role are wanted, too."""
    from ..rig import Setup

    if args.rig and (rig := rig_of_any(args)) is not None:
        wanted = [line for bus in rig.bus for line in bus.lines.values()]
        source = open_source(args, None if every_line else wanted)
        return source, whole(args, source), Setup(rig)
    rig = rig_given(args)
    source = open_source(args, None if every_line else wanted_lines(args, rig))
    trace = whole(args, source)
    plan = plan_for(trace, args, rig)
    save_rig(args, plan)
    return source, trace, plan


def rig_of_any(args: argparse.Namespace) -> Any:
    """The rig file with --line over it; None where it is one for I2C alone, which `rig_given` reads."""
    from ..rig import load_rig

    rig = load_rig(args.rig)
    if len(rig.bus) == 1 and rig.bus[0].kind == "i2c":
        return None
    for option in ("part", "panel", "bus"):
        if getattr(args, option):
            raise HushedError(f"--{option} and --rig both say what hangs on the wires", remedy="leave one of them")
    if not rig.bus:
        raise HushedError("the rig has no bus", where=args.rig, remedy="add a [[bus]] with its lines")
    _given_lines(rig.bus[0], roles(args))
    _reshaped(rig.bus[0], args)
    return rig


def listening(args: argparse.Namespace) -> tuple[Source, Trace, Any]:
    """The capture with all its lines, and what decodes it when it is asked to (once)."""
    from functools import lru_cache

    from ..rig import Setup, load_rig

    source = open_source(args)
    trace = whole(args, source)
    warn(trace.notes)

    @lru_cache(maxsize=1)
    def listen() -> Any:
        from ..rig.hear import hear

        if args.rig:
            for option in ("part", "panel", "bus"):
                if getattr(args, option):
                    raise HushedError(f"--{option} and --rig both say what hangs on the wires", remedy="leave one of them")
            rig = load_rig(args.rig)
            if not rig.bus:
                raise HushedError("the rig has no bus", where=args.rig, remedy="add a [[bus]] with its lines")
            _given_lines(rig.bus[0], roles(args))
            _reshaped(rig.bus[0], args)
            plan = Setup(rig)
        else:
            plan = plan_for(trace, args, None)
        save_rig(args, plan)
        return hear(trace, plan.rig)

    return source, trace, listen


def _reshaped(bus: Any, args: argparse.Namespace) -> None:
    """--mode, --bits, --order and --select over a rig's bus."""
    given = shape(args)
    if given:
        from ..rig.shaped import check_shape

        check_shape(bus.kind, given)
        for key, value in given.items():
            setattr(bus, key, value)


def _given_lines(bus: Any, given: dict[str, str]) -> None:
    """--line over a rig's bus."""
    from ..rig.schema import OPTIONAL_ROLES, ROLES

    known = (*ROLES.get(bus.kind, ()), *OPTIONAL_ROLES.get(bus.kind, ()))
    for role in given:
        if role not in known:
            raise HushedError(f"{bus.kind} has no role '{role}'", where="--line", remedy=nearest(role, known))
    _over(bus.lines, given)


def _over(lines: dict[str, str], given: dict[str, str]) -> None:
    """Lines that are given over those of a rig; raises HushedError where one would play two roles."""
    for role, line in given.items():
        taken = next((other for other, name in lines.items() if name == line and other != role and other not in given), "")
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
            sys.stderr.write(f"hushed-wire: warning: {note.text}\n")


def emit(args: argparse.Namespace, data: bytes) -> None:
    """Writes a product to -o or standard output."""
    if args.output and args.output != "-":
        from ..trace.files import replace_file

        replace_file(args.output, [data])
        return
    sys.stdout.flush()
    sys.stdout.buffer.write(data)
    sys.stdout.buffer.flush()


def report(args: argparse.Namespace, write: Any, light: bool = False) -> None:
    """Runs `write(console)` on the terminal, or into the file that -o names. light: it can do with a plain console."""
    if light and args.color != "always" and (bool(args.output and args.output != "-") or not sys.stdout.isatty()):
        import io

        from ..view.plain import WIDTH, Plain

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
    write(out)
    out.file.flush()
