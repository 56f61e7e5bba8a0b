"""Do two drivers tell the display the same? The old board's capture against the new one's, a sequence, or bytes.

Another bus, other lines, another bridge, another speed make no difference. What differs is judged by the part's own rules: does it
show, or leave the part set otherwise? Exit status: 0 the same, 1 different, 2 unusable input.
"""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import HushedError
from . import captured, options, output

if TYPE_CHECKING:
    from ..comparison import Comparison, Side

EXAMPLES = """\
examples:
  hushed-wire compare old-board.vcd new-board.vcd
  hushed-wire compare old-board.vcd tide.hush --rig-b front-desk.toml --times
  hushed-wire compare old-board.vcd new-board.vcd --by commands
  hushed-wire compare old-board.vcd new-board.vcd --picture both.png
  hushed-wire compare "AE D5 80 A8 3F" init.c --part ssd1306
"""

SOURCES = (".c", ".h", ".cc", ".cpp", ".hpp", ".ino", ".inc", ".asm", ".s", ".py", ".txt", ".hex")
BYTES = re.compile(r"(?:(?:0x)?[0-9A-Fa-f]{2}|command|data)(?:[\s,]+(?:(?:0x)?[0-9A-Fa-f]{2}|command|data))+[\s,]*")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    what = "capture, sequence (.hush), bytes in a source file (.c, .txt, …) or as one argument"
    parser.add_argument("first", metavar="A", help=f"the old driver: {what}; '-' is a capture from standard input")
    parser.add_argument("second", metavar="B", help="the new driver: the same")
    group = parser.add_argument_group("what hangs on the wires (worked out from names and traffic where not given)")
    group.add_argument("--rig", metavar="FILE", help="rig file of A, and of B where it fits")
    group.add_argument("--rig-b", metavar="FILE", help="rig file of B")
    group.add_argument("--part", metavar="PART", help="part on the bus, like ssd1306; of bytes it has to be said")
    group.add_argument("--panel", metavar="SIZE", help="its panel, like 128x32")
    group.add_argument("--framing", metavar="NAME", help="of a sequence without a rig: how the part is wired, like dc-line")
    options.add_catalog(group)
    group = parser.add_argument_group("what counts")
    group.add_argument(
        "--by", choices=("words", "commands", "state", "picture"), default="",
        help="the level that decides (default: what the part is set to, and what the glass shows)",
    )  # fmt: skip
    group.add_argument("--times", action="store_true", help="the waits of both beside what the part needs; too short ones count")
    parser.add_argument("--device", metavar="NAME", help="one display, where there are several")
    parser.add_argument("--picture", metavar="FILE", help="both glasses and where they differ, as a PNG")
    options.add_reading(parser)
    options.add_text(parser, ("text", "json", "junit"))


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..comparison import compare

    if args.first == args.second == "-":
        raise HushedError("both sides from standard input", remedy="give one of them as a file")
    if args.picture and not args.picture.lower().endswith(".png"):
        raise HushedError("a picture of both glasses is a PNG", where=args.picture, remedy="end its name in .png")
    sides = [_side(args, args.first, args.rig), _side(args, args.second, args.rig_b or args.rig, own=bool(args.rig_b))]
    result = compare(*sides)
    if args.picture:
        _picture(args, result)
    if args.format == "json":
        from ..view.compared import compared_record
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes(compared_record(result, args.by, args.times)))
    elif args.format == "junit":
        from ..view.compared import compared_junit

        output.emit(args, compared_junit(result, args.by, args.times))
    else:
        from ..view.compared import compared

        output.report(args, lambda out: compared(out, result, args.by, args.times, args.quiet, args.verbose), light=True)
    return {True: 0, False: 1, None: 2}[result.holds(args.by, args.times)]


def _side(args: argparse.Namespace, path: str, rig: str | None, own: bool = True) -> Side:
    """One side, by what it is. own: the rig was named for it."""
    given = Path(path)
    if given.suffix.lower() == ".hush":
        side = _sequence(args, path, rig)
    elif path != "-" and not given.exists() and BYTES.fullmatch(path.strip()):
        side = _bytes(args, "bytes", path)
    elif given.suffix.lower() in SOURCES and given.is_file():
        from ..small_file import small_text

        try:
            side = _bytes(args, path, small_text(path))
        except (OSError, UnicodeDecodeError) as error:
            raise HushedError(
                f"cannot be read as text: {error}", where=path, remedy="give a text file with an array of bytes"
            ) from error
    else:
        side = _capture(args, path, rig, own)
    if args.device:
        kept = [told for told in side.devices if told.name == args.device]
        if not kept:
            from ..errors import nearest

            names = [told.name for told in side.devices]
            raise HushedError(f"{path} has no device '{args.device}'", where="--device", remedy=nearest(args.device, names))
        side.devices = kept
    return side


def _sequence(args: argparse.Namespace, path: str, rig: str | None) -> Side:
    from ..comparison import side_of_sequence
    from ..sequence import expand, parse_file
    from ..sequence.examine import examine
    from .build import clocks_of, targets_of

    own = argparse.Namespace(
        rig=rig,
        part=None if rig else args.part,
        panel=None if rig else args.panel,
        framing=None if rig else args.framing,
        clock=None,
    )
    loaded, targets = targets_of(own)
    steps = expand(parse_file(Path(path)), targets, Path(path).parent)
    clocks, states = clocks_of(own, loaded, targets)
    return side_of_sequence(path, examine(steps, targets, clocks, states).steps, targets)


def _bytes(args: argparse.Namespace, name: str, text: str) -> Side:
    from ..comparison import side_of_bytes
    from ..sequence.paste import pasted
    from .build import targets_of

    if not args.part:
        raise HushedError(
            "bytes alone do not tell what they are for", where=name, remedy="name the part: --part PART (and --panel SIZE)"
        )
    own = argparse.Namespace(rig=None, part=args.part, panel=args.panel, framing=args.framing)
    found = pasted(text, name)
    return side_of_bytes(name, found.sends, targets_of(own)[1][0], found.notes)


def _capture(args: argparse.Namespace, path: str, rig: str | None, own: bool) -> Side:
    from ..rig.decoder import LineMissing

    part, panel = (None, None) if rig else (args.part, args.panel)
    given = argparse.Namespace(
        capture=path, rig=rig, bus=None, line=[], part=part, panel=panel, clock=None, mode=None, bits=None, order=None, select=None,
        save_rig=None, start=None, end=None, raw=args.raw, rate=args.rate, threshold=args.threshold, hysteresis=args.hysteresis,
        quiet=args.quiet,
    )  # fmt: skip
    try:
        return _heard(given)
    except LineMissing:
        if rig is None or own:
            raise
    # A's rig names lines that B does not have: what hangs on B's wires is worked out, as without a rig.
    given.rig = None
    del given.loaded_rig
    side = _heard(given)
    side.notes.append(f"its lines are not those of {rig}: what hangs on them was worked out (--rig-b says it)")
    return side


def _heard(given: argparse.Namespace) -> Side:
    from ..comparison import side_of_reading

    source, trace, plan = captured.load_any(given)
    captured.warn(trace.notes)
    return side_of_reading(source.path, captured.read_by(trace, plan, source.path))


def _picture(args: argparse.Namespace, result: Comparison) -> None:
    from ..picture.beside import beside_png
    from ..written_file import replace_file

    fitting = [one for one in result.matched if None not in one.pictures.end and "picture" not in one.untold]
    if not fitting:
        why = next((one.untold["picture"] for one in result.matched if "picture" in one.untold), "no display is on both sides")
        raise HushedError(f"there are no two pictures to draw: {why}", where="--picture")
    if len(fitting) > 1:
        raise HushedError("several displays are on both sides", where="--picture", remedy="pick one with --device")
    one = fitting[0]
    a, b = one.pictures.end
    assert a is not None and b is not None
    replace_file(args.picture, [beside_png(a, b, (one.a.panel, one.b.panel), (result.a.path, result.b.path))])
