"""Source of a driver for a target: what a sequence sends, or what a captured driver sent.

Out come header and source: the set-up step by step with its waits, the commands as functions, and what the display is for: text and numbers,
or a frame to draw in. Compile it, capture its wires, and hold these against the old ones with `hushed-wire compare`.
"""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import HushedError
from . import captured, options
from .said import say

if TYPE_CHECKING:
    from ..port import Emitted
    from ..sequence.parse import Statement

EXAMPLES = """\
examples:
  hushed-wire emit tide.hush --rig front-desk.toml --for c -o driver/
  hushed-wire emit old-board.vcd --rig front-desk.toml --for avr --pin scl=PC5 --pin sda=PC4 -o driver/
  hushed-wire emit handheld.hush --rig handheld.toml --for linux -o driver/
  hushed-wire emit pump-room.hush --rig pump-room.toml --for python -o driver/
  hushed-wire emit probe --for avr --pin scl=PC5 --pin sda=PC4 --pin reset=PB0 -o probe/
  hushed-wire emit --targets
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument(
        "driver", nargs="?", metavar="DRIVER", help=".hush file, a capture of the old driver, or 'probe': its firmware"
    )
    group = parser.add_argument_group("what it is for")
    group.add_argument("--rig", metavar="FILE", help="rig file of the new board")
    group.add_argument("--rig-a", metavar="FILE", help="of a capture: the old board's rig (worked out where not given)")
    group.add_argument("--device", metavar="NAME", help="the display, where the rig has several")
    group.add_argument("--for", dest="target", metavar="TARGET", help="the target; --targets lists them")
    group.add_argument("--targets", action="store_true", help="list the targets")
    group.add_argument(
        "--bus", choices=("pins", "hardware"), help="the bus bit by bit on its pins, or by the target's peripheral"
    )
    group.add_argument(
        "--pin",
        action="append",
        default=[],
        metavar="ROLE=PIN",
        help="a pin of the target, over the rig's, like dc=PB1 (repeatable)",
    )
    options.add_quantity(group, "--cpu", "Hz", "RATE", "the clock of the target, for its waits, like 16MHz")
    options.add_catalog(group)
    group = parser.add_argument_group("what is in it")
    group.add_argument(
        "--every-command", action="store_true", help="a function for each command of the part, not only for those that are sent"
    )
    group.add_argument("--no-show", action="store_true", help="without what is shown behind the set-up")
    group.add_argument("--no-frame", action="store_true", help="pixels go out page by page, without a frame in RAM")
    group.add_argument("--no-drawing", action="store_true", help="without functions to draw with")
    group.add_argument("--ram", type=int, metavar="BYTES", help="refuse what needs more RAM")
    group.add_argument("--measure", action="store_true", help="compile it, where the compiler is there, and tell what it takes")
    group.add_argument("--flash", type=int, metavar="BYTES", help="refuse what needs more flash for its constants")
    parser.add_argument(
        "-o", dest="output", metavar="FOLDER", help="the folder for the files; '-' writes all of them to standard output"
    )
    options.add_reading(parser)
    parser.add_argument("-q", "--quiet", action="store_true", help="say less")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..port import every_target, target_named

    if args.targets:
        for name, row in every_target().items():
            sys.stdout.write(f"{name:<10} {row.title}\n")
        return 0
    out = _probe(args) if args.driver == "probe" else _driver(args)
    taken = _measured(args, out.files) if args.measure else None
    _write(args, out.files)
    if not args.quiet and args.output != "-":
        name = next(iter(out.files)).partition(".")[0]
        say(f"{args.output}: {', '.join(out.files)}")
        frame = f", of which a frame takes {out.frame_bytes:,}" if out.frame_bytes else ""
        say(f"  RAM {out.ram:,} bytes{frame}; constants about {out.flash:,} bytes")
        if taken is not None:
            compiler = target_named(args.target).compile.split()[0]
            say(f"  measured with {compiler}: {taken[0]:,} bytes of code and constants, {taken[1]:,} of RAM")
        for note in out.notes:
            say(f"  note: {note}")
        behind = f"capture its wires: hushed-wire compare {args.driver} NEW.vcd"
        behind = "put it in, and try: hushed-wire scan --link PORT" if args.driver == "probe" else behind
        row = target_named(args.target)
        say(f"  next: {row.compile.format(name=name, hertz=row.hertz(args.cpu))}; then {behind}")
    return 0


def _asked(args: argparse.Namespace, *wanted: tuple[object, str]) -> None:
    for given, what in (*wanted, (args.target, "--for TARGET"), (args.output, "-o FOLDER")):
        if not given:
            remedy = "like: hushed-wire emit tide.hush --rig front-desk.toml --for c -o driver/"
            raise HushedError(f"{what} is missing", remedy=remedy)


def _driver(args: argparse.Namespace) -> Emitted:
    """Of a display."""
    from ..port import emitted, plan_of, target_named
    from ..rig import load_rig

    _asked(args, (args.driver, "a sequence or a capture"), (args.rig, "--rig FILE"))
    row = target_named(args.target)
    rig = load_rig(args.rig)
    statements, folder = _statements(args)
    made = plan_of(rig, statements, folder, Path(args.driver).name, args.device or "")
    if args.no_show:
        made.leave_out_pictures()
    return emitted(
        made, row, bang=None if args.bus is None else args.bus == "pins", pins=_pins(args), cpu=args.cpu, every_command=args.every_command,
        frame=not args.no_frame, drawing=not args.no_drawing, ram=args.ram, flash=args.flash,
    )  # fmt: skip


def _probe(args: argparse.Namespace) -> Emitted:
    """The firmware of a probe."""
    from ..port import probe_of, target_named

    _asked(args)
    return probe_of(target_named(args.target), _pins(args), args.cpu)


def _measured(args: argparse.Namespace, files: dict[str, str]) -> tuple[int, int]:
    """What the compiler makes of it; raises HushedError where that is more than there is."""
    from ..port import target_named
    from ..port.measured import measured

    row = target_named(args.target)
    taken = measured(files, next(iter(files)).partition(".")[0], row, row.hertz(args.cpu))
    for what, option, size, room in (("flash", "--flash", taken[0], args.flash), ("RAM", "--ram", taken[1], args.ram)):
        if room is not None and size > room:
            raise HushedError(
                f"compiled it takes {size:,} bytes of {what}, {room:,} are there", where=option,
                remedy="leave out what is shown (--no-show) or drawn (--no-drawing, --no-frame), or take a larger part",
            )  # fmt: skip
    return taken


def _pins(args: argparse.Namespace) -> dict[str, str]:
    out: dict[str, str] = {}
    for text in args.pin:
        role, equals, pin = text.partition("=")
        if not equals or not role or not pin:
            raise HushedError(f"'{text}' is not ROLE=PIN", where="--pin", remedy="like --pin scl=PC5")
        out[role.lower()] = pin
    return out


def _statements(args: argparse.Namespace) -> tuple[list[Statement], Path]:
    """The statements of a sequence, or of what a capture holds."""
    from ..sequence import parse_file, parse_text

    path = Path(args.driver)
    if path.suffix.lower() == ".hush":
        return parse_file(path), path.parent
    from ..rig.captured import hush_of

    given = argparse.Namespace(
        capture=args.driver, rig=args.rig_a, bus=None, line=[], part=None, panel=None, clock=None, mode=None, bits=None, order=None, select=None,
        save_rig=None, start=None, end=None, raw=args.raw, rate=args.rate, threshold=args.threshold, hysteresis=args.hysteresis, quiet=args.quiet,
    )  # fmt: skip
    source, trace, found = captured.load_any(given)
    captured.warn(trace.notes)
    reading = captured.read_by(trace, found, source.path)
    from ..rig import load_rig

    rig = load_rig(args.rig)
    wanted = next((device for device in rig.device if not args.device or device.name == args.device), rig.device[0])
    own = [device for device in reading.devices if device.part.name == wanted.part]
    if not own:
        heard = ", ".join(device.part.name for device in reading.devices) or "nothing that is known"
        raise HushedError(
            f"it speaks to {heard}, not to a {wanted.part}", where=source.path, remedy="give the old board's rig: --rig-a FILE"
        )
    lines = [f"device {wanted.name}", *hush_of(own[0], float(trace.tick))]
    return parse_text("\n".join(lines), path.name), path.parent


def _write(args: argparse.Namespace, files: dict[str, str]) -> None:
    """Into the folder, which is made where it is not there."""
    from ..written_file import replace_file

    if args.output == "-":
        for name, text in files.items():
            sys.stdout.write(f"/* ==== {name} ==== */\n{text}" if not name.endswith(".py") else text)
        return
    folder = Path(args.output)
    try:
        folder.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise HushedError(f"cannot be made: {error.strerror}", where=args.output, remedy="name another folder with -o") from error
    for name in files:
        if not _emitted(folder / name):
            what = f"would overwrite '{folder / name}', which was not emitted"
            raise HushedError(what, where="-o", remedy="name another folder; nothing was written")
    for name, text in files.items():
        replace_file(folder / name, [text.encode("ascii")])


MARKS = (b"SPDX-License-Identifier: MIT-0", b"port,line,at rest")  # at the head of every file that is emitted


def _emitted(path: Path) -> bool:
    """Whether a file is not there yet, or is one that this command wrote."""
    try:
        with path.open("rb") as file:
            head = file.read(8192)
    except OSError:
        return not path.exists()
    return any(mark in head for mark in MARKS)
