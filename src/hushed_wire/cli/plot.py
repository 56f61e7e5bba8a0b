"""Waveforms with decoded words and commands over them, as PNG, SVG or PDF."""

from __future__ import annotations

import argparse
import sys

from ..errors import HushedError
from . import captured, options, output

EXAMPLES = """\
examples:
  hushed-wire plot tide.vcd -o tide.png
  hushed-wire plot tide.vcd --from 1.2ms --to 1.4ms -o start.svg
  hushed-wire plot tide.vcd --fold -o whole.png               all of it, with long rests left out
  hushed-wire plot tide.vcd --only SDA --only SCL -o two.pdf
  hushed-wire plot scope.csv --line scl=CH1 --line sda=CH2 -o volts.png
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    parser.add_argument(
        "-o", dest="output", metavar="FILE", required=True, help="the figure: .png, .svg or .pdf; '-' is PNG on standard output"
    )
    options.add_only(parser)
    options.add_transfer(parser, "these transfers, by their numbers in decode")
    options.add_radix(parser)
    parser.add_argument("--fold", action="store_true", help="leave long rests out, with a mark at each")
    parser.add_argument("--findings", action="store_true", help="shade where diagnose finds faults (red) and warnings (yellow)")
    parser.add_argument("-q", "--quiet", action="store_true", help="say less")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..units import counted, show_time
    from ..view.figure import plot
    from ..view.scene import scene_of, spans_of

    kind = "png" if args.output == "-" else captured.figure_kind(args.output)
    whole_args = argparse.Namespace(**{**vars(args), "start": None, "end": None})
    # Words are decoded from the whole capture: a window may begin in the middle of one.
    source, gathered, plan = captured.gathered(whole_args, every_line=True, ruled=args.findings)
    if args.fold and source.waveforms is not None:
        raise HushedError(
            "rests of volts are not folded", where="--fold", remedy="leave it out, or convert the capture to levels first"
        )
    reading, whole = gathered.reading, gathered.trace
    scene = scene_of(reading, args.radix)
    if args.findings:
        from ..diagnosis import judge

        scene.spans = spans_of(judge(gathered, plan).findings)
    if args.fold:
        scene.trace = gathered.whole
    else:
        scene.changes = gathered.again
    captured.warn(whole.notes)
    part = captured.windowed(whole, args)
    window = part.seconds(part.start), part.seconds(part.end)
    if args.transfer:
        from ..rig.numbered import span_of

        if args.start is not None or args.end is not None:
            raise HushedError("--transfer and another window", where="--transfer", remedy="leave --from and --to out")
        first, last, _ = span_of(reading, *args.transfer)
        room = max(last - first, 1) // 20 + 1
        window = whole.seconds(max(whole.start, first - room)), whole.seconds(min(whole.end, last + room))
    del reading, gathered  # what is drawn has all that it needs
    output.emit(
        args, plot(scene, source.path, window, source.waveforms, kind, captured.picked(whole, args.only, source.path), args.fold)
    )
    if args.output != "-" and not args.quiet:
        begin, end = (show_time(at, (window[1] - window[0]) / 1000) for at in window)
        sys.stderr.write(f"{args.output}: {counted(len(args.only) or len(whole.names), 'line')}, {begin} to {end}\n")
    return 0
