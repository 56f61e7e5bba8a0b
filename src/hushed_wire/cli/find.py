"""Where a condition holds in a capture: transfers, commands, edges and pulses, joined by and, or, not.

Exit status 1 where it holds nowhere.
"""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, located
from . import captured, options, output

if TYPE_CHECKING:
    from ..rig.reading import Reading
    from ..rig.spans import Spans
    from ..trace import Trace

EXAMPLES = """\
examples:
  hushed-wire find tide.vcd refused
  hushed-wire find tide.vcd "command=contrast and contrast.level<64" --context 2
  hushed-wire find tide.vcd 'address=0x3D and bytes="8D 14"' --format json
  hushed-wire find tide.vcd "high(SCL)<500ns or low(SCL)<500ns" --count
  hushed-wire find tide.vcd "gap>2ms and not edge=RESET"

tests: start restart stop refused read write cut  transfer= address= select= bus= bytes= command= device=  COMMAND.FIELD=
       length> gap>  rise= fall= edge=  high(LINE)< low(LINE)<          signs: = != < > <= >=
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    parser.add_argument("condition", metavar="CONDITION", help="see below, and docs/find.md")
    parser.add_argument("--context", type=int, default=0, metavar="N", help="show N transfers before and after each, too")
    parser.add_argument("--count", action="store_true", help="only how often it holds")
    parser.add_argument("--most", type=int, default=40, metavar="N", help="list at most so many (default: 40; 0 for all)")
    options.add_rig(parser)
    options.add_text(parser)
    options.add_radix(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..rig.conditions import counted, holds, parse_condition

    if args.context < 0 or args.most < 0:
        raise HushedError("--context and --most count from 0 up", remedy="like --context 2")
    condition, lines, words, negated = parse_condition(args.condition)
    # The whole capture is listened to: what a window begins in the middle of is known so. Where lines alone are asked for, nothing is.
    plain = not words and (args.count or args.format == "json")
    if not words and not negated and args.start is None and args.end is None and (args.count or _listed(args)):
        with captured.lines_going_by(args, lines) as (_, blocks, numbers):
            told = counted(condition, blocks, numbers, 0 if args.count else args.most)
        if args.count:
            output.emit(args, f"{told.count}\n".encode())
        else:
            _show(args, told.length, told.first, lambda: captured.heard(args, again=True)[3](), told.count)
        return int(not told.count)
    source, trace, _, listen = captured.of_lines(args, lines) if plain else captured.heard(args, lines)
    part = captured.windowed(trace, args)
    with located(source.path):
        spans = holds(condition, trace, listen)
    spans = spans.within(part.start, part.end)
    if args.count:
        output.emit(args, f"{len(spans)}\n".encode())
    elif args.format == "json":
        from ..view.json_text import json_bytes

        found = [
            {"start": trace.seconds(start), "end": trace.seconds(end)}
            for start, end in zip(spans.start.tolist(), spans.end.tolist(), strict=True)
        ]
        output.emit(args, json_bytes({"condition": args.condition, "count": len(found), "found": found}))
    else:
        _show(args, trace, spans, listen, len(spans))
    return int(not len(spans))


def _listed(args: argparse.Namespace) -> bool:
    """Whether some places of a long file are listed, so that it is worth being read once for these and once for what is there."""
    return (
        args.format != "json"
        and args.most > 0
        and not args.save_rig
        and Path(args.capture).is_file()
        and Path(args.capture).stat().st_size >= captured.LONG
    )


def _show(args: argparse.Namespace, trace: Trace, spans: Spans, listen: Callable[[], Reading], count: int) -> None:
    """The list of places. count: of all, where `spans` has no more than the first."""
    from ..view.found import found

    def write(out: Any) -> None:
        found(out, trace, spans, listen, args.condition, args.context, args.most or count, args.radix, count)

    output.report(args, write)
