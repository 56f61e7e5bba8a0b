"""What captures tell of a display that no datasheet describes: its pins, its bus, its set-up, whose relative it is, where its picture lies.

What is found goes to a folder as files that the other commands take: a rig, the draft of a part, the set-up, a picture.
"""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from . import captured, options, output

if TYPE_CHECKING:
    from ..trace import Trace
    from ..unravel.found import Known

EXAMPLES = """\
examples:
  hushed-wire unravel old-1.vcd old-2.vcd
  hushed-wire unravel old-1.vcd old-2.vcd --shown glass.png --into found/
  hushed-wire unravel old.vcd --meter pins.csv --shown "TIDE LOCK"
  hushed-wire screen old-3.vcd --rig found/rig.toml --catalog found/catalog

Capture the old device from power-on, drawing something that you know; two captures with other pictures tell more than one.
--meter takes a table with the columns pin, volts and, if you know them, pull_up (yes, no) and width (of its track, in mm).
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument(
        "captures", nargs="+", metavar="CAPTURE", help="VCD, CSV or NPZ files with the same lines, or raw samples"
    )
    group = parser.add_argument_group("what is known")
    group.add_argument("--size", metavar="SIZE", help="of the glass, like 84x48")
    group.add_argument("--shown", metavar="WHAT", help="what was on the glass at some time: a picture's file, or words")
    group.add_argument("--meter", metavar="FILE", help="what a meter said of its pins: a table with pin, volts, pull_up, width")
    parser.add_argument("--into", metavar="FOLDER", help="write rig, draft, set-up and picture there")
    options.add_window(options.add_reading(parser))
    options.add_only(parser)
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..unravel.files import files_of
    from ..unravel.outcome import unravel
    from ..unravel.pins import metered
    from ..written_file import replace_file

    known = _known(args)
    pins = metered(_text(args.meter, "--meter"), args.meter) if args.meter else []
    if args.into and Path(args.into).exists() and not Path(args.into).is_dir():
        raise HushedError("it is no folder", where=args.into, remedy="--into names the folder that the files go to")
    found = unravel([(path, _trace(args, path)) for path in args.captures], known)
    written = []
    if args.into:
        folder = Path(args.into)
        for name, body in files_of(found).items():
            try:
                (folder / name).parent.mkdir(parents=True, exist_ok=True)
            except OSError as error:
                raise HushedError(f"cannot be made: {error.strerror}", where=str(folder), remedy="name another folder") from error
            replace_file(str(folder / name), [body])
            written.append(str(folder / name))
    if args.format == "json":
        from ..view.json_text import json_bytes
        from ..view.unravelled import record

        output.emit(args, json_bytes(record(found, pins)))
        return 0
    from ..view.unravelled import unravelled

    output.report(args, lambda out: unravelled(out, found, pins, args.quiet, written))
    return 0


def _trace(args: argparse.Namespace, path: str) -> Trace:
    """A capture, with the lines that are wanted."""
    own: Any = argparse.Namespace(**{**vars(args), "capture": path, "rig": None, "line": []})
    source = captured.open_source(own)
    trace = captured.whole(own, source)
    captured.warn(trace.notes)
    return captured.chosen(trace, args.only, path)


def _known(args: argparse.Namespace) -> Known:
    """What somebody knows of the glass."""
    from ..unravel.found import Known

    size = None
    if args.size:
        match = re.fullmatch(r"(\d{1,4})x(\d{1,4})", args.size)
        if not match or not int(match[1]) or not int(match[2]):
            raise HushedError(f"'{args.size}' is no size", where="--size", remedy="columns and rows, like 84x48")
        size = int(match[1]), int(match[2])
    if not args.shown:
        return Known(size)
    path = Path(args.shown)
    if path.is_file() or path.suffix.lower() in (".png", ".pbm", ".pgm", ".bmp", ".gif"):
        from ..picture.image import load

        return Known(size, picture=load(path, "--shown"))
    return Known(size, text=args.shown)


def _text(path: str, option: str) -> str:
    from ..small_file import small_text

    try:
        return small_text(path)
    except (OSError, UnicodeDecodeError) as error:
        why = error.strerror if isinstance(error, OSError) else "it is no text"
        raise HushedError(f"cannot be read: {why}", where=path, remedy=f"{option} takes a table as a text file") from error
