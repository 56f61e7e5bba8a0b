"""Records lines of this machine, or of a probe on a serial port: every edge with its time, until you stop it, or a condition holds.

What was lost is said, and unknown in the capture. Ctrl-C ends a recording; what came until then is kept.
"""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from . import options
from .said import say

if TYPE_CHECKING:
    from ..link.record import Recorded, Watch
    from ..trace import Trace

EXAMPLES = """\
examples:
  hushed-wire record --link gpiochip0 --line SCL=3 --line SDA=2 --for 2s -o tide.vcd
  hushed-wire record --link gpiochip0 --rig front-desk.toml --until refused --ahead 50ms -o fault.vcd
  hushed-wire record --link gpiochip0 --rig front-desk.toml | hushed-wire decode - --rig front-desk.toml
  hushed-wire record --link /dev/ttyACM0 --line SCL=scl --line SDA=sda --for 1s -o tide.vcd

A kernel tells every edge with its time, as long as somebody takes them fast enough: that suits slow buses. What was lost is
told, and how fast edges came without loss; for a faster bus take an instrument.
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("--link", metavar="NAME", required=True, help="gpiochip0, or a probe on a port like /dev/ttyACM0 or COM5")
    parser.add_argument(
        "--line", action="append", default=[], metavar="NAME=PIN", help="a line to record and the pin that it is on (repeatable)"
    )
    parser.add_argument("--rig", metavar="FILE", help="instead: the lines of a rig's buses, on the pins that it names")
    group = parser.add_argument_group("how long")
    options.add_quantity(group, "--for", "s", "T", "so long, like 2s (default: until Ctrl-C)", dest="lasts")
    group.add_argument("--until", metavar="CONDITION", help="until a condition of find holds, like 'refused' (docs/find.md)")
    options.add_quantity(group, "--ahead", "s", "T", "with --until: keep only so much of what came ahead of it")
    options.add_catalog(parser)
    parser.add_argument(
        "-o", dest="output", metavar="FILE", help="VCD, CSV or NPZ by the end of its name (default: VCD to standard output)"
    )
    parser.add_argument("--color", choices=("auto", "always", "never"), default="auto", help="default: auto, on a terminal only")
    parser.add_argument("-v", "--verbose", action="store_true", help="say more")
    parser.add_argument("-q", "--quiet", action="store_true", help="say less")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..link.record import Recorded, record

    if args.ahead is not None and not args.until:
        raise HushedError(
            "--ahead keeps what came ahead of --until", where="--ahead", remedy="say what is waited for, with --until"
        )
    for option, value in (("--for", args.lasts), ("--ahead", args.ahead)):
        if value is not None and value <= 0:
            raise HushedError(f"{option} {value}", remedy="a time above zero, like 2s")
    until = _until(args)
    out = Recorded()
    with closing(_watch(args)) as watch:
        lasts = None if args.lasts is None else float(args.lasts)
        pieces = record(watch, out, lasts, until, None if args.ahead is None else float(args.ahead))
        _written(args, pieces)
    _told(args, out)
    return 1 if args.until and out.found is None else 0


def _lines(args: argparse.Namespace) -> dict[str, str]:
    """Name to pin, as they are given."""
    out: dict[str, str] = {}
    for text in args.line:
        name, equals, pin = text.partition("=")
        if not equals or not name or not pin:
            raise HushedError(f"'{text}' is not NAME=PIN", where="--line", remedy="like --line SCL=3")
        if name in out:
            raise HushedError(f"the line '{name}' is given twice", where="--line", remedy="leave one of them")
        out[name] = pin
    if bool(out) == bool(args.rig):
        raise HushedError("which lines?", remedy="--line NAME=PIN for each, or --rig FILE whose buses name their pins")
    return out


def _watch(args: argparse.Namespace) -> Watch:
    from ..link.gpio_watch import open_gpio
    from ..link.pins import gpio_numbers
    from ..rig import load_rig

    lines = _lines(args)
    if re.fullmatch(r"(?:/dev/)?gpio(?:chip|-)?\d+", args.link):
        if not args.rig:
            for name, pin in lines.items():
                if not re.fullmatch(r"(?i)(?:gpio)?[ _-]?\d+", pin):
                    raise HushedError(
                        f"'{pin}' is no line of a GPIO chip", where="--line", remedy=f"a number, like --line {name}=3"
                    )
            return open_gpio(args.link, {name: int(re.sub(r"\D", "", pin)) for name, pin in lines.items()})
        rig = load_rig(args.rig)
        numbers: dict[str, int] = {}
        for bus in rig.bus:
            roles = [role for role in bus.lines if role in bus.pins]
            own = gpio_numbers(bus, Path(args.rig).parent, roles)
            numbers |= {bus.lines[role]: own[role] for role in roles}
        if not numbers:
            raise HushedError("it names no pins", where=args.rig, remedy='add pins = { scl = "GPIO3", … } to a bus')
        return open_gpio(args.link, numbers)
    if not re.match(r"(?i)/|serial:|com\d+$", args.link):
        raise HushedError(
            f"'{args.link}' watches no lines", where="--link", remedy="gpiochip0, or a probe on a port like /dev/ttyACM0 or COM5"
        )
    from ..link.probe_watch import ProbeWatch
    from ..link.serial_probe import open_serial

    if args.rig:
        rig = load_rig(args.rig)
        lines = {line: role for bus in rig.bus for role, line in bus.lines.items()}
    return ProbeWatch(open_serial(args.link.removeprefix("serial:")), lines)


def _until(args: argparse.Namespace) -> Any:
    """What tells the tick at which the condition holds."""
    if not args.until:
        return None
    from ..rig import Options, Setup, assume, load_rig
    from ..rig.conditions import holds, parse_condition

    condition = parse_condition(args.until).condition
    rig = load_rig(args.rig) if args.rig else None

    def look(trace: Trace) -> int | None:
        if len(trace) < 2:
            return None
        try:
            setup = Setup(rig) if rig is not None else None
            spans = holds(condition, trace, lambda: (setup or assume(trace, Options())).read(trace))
        except HushedError:
            return None  # too little came yet to tell a bus
        return int(spans.start[0]) if len(spans) else None

    return look


def _written(args: argparse.Namespace, pieces: Iterator[Trace]) -> None:
    """The capture, as it comes where its format allows that."""
    from ..trace.vcd import write

    name = (args.output or "-").lower().removesuffix(".gz")
    if name == "-" or name.endswith(".vcd"):
        bodies = write(next(pieces), "recorded by hushed-wire", more=pieces)
        if args.output and args.output != "-":
            from ..written_file import replace_file

            if args.output.lower().endswith(".gz"):
                import gzip

                bodies = iter([gzip.compress(b"".join(bodies))])
            replace_file(args.output, bodies)
            return
        if sys.stdout.isatty():
            say("recording to the terminal; -o FILE writes a file")
        for body in bodies:
            sys.stdout.buffer.write(body)
            sys.stdout.buffer.flush()
        return
    from ..trace import joined
    from ..trace.files import write_capture

    whole = [piece for piece in pieces if len(piece) or piece.end]
    from dataclasses import replace

    trace = replace(joined([piece for piece in whole if len(piece)]), end=whole[-1].end)
    write_capture(args.output, trace, None, "recorded by hushed-wire")


def _told(args: argparse.Namespace, out: Recorded) -> None:
    """What was recorded, and how far it can be trusted."""
    from ..units import counted, show, show_time

    if args.quiet:
        return
    text = f"{show_time(out.lasted)}, {counted(out.edges, 'edge')}"
    text += f", {counted(out.lost, 'edge')} lost: unknown in the capture" if out.lost else ", none lost"
    if out.closest:
        text += f"; the closest two of a line are {show(out.closest * 1e-9, 's')} apart"
    say(text)
    if out.lost:
        say(f"trust it up to about {show(out.rate, 'Hz')} of edges: the most that came within a moment without loss")
    if args.until:
        say(f"the condition held at {show_time(out.found * 1e-9)}" if out.found is not None else "the condition never held")
