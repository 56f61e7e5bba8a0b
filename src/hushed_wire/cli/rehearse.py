"""The capture that a sequence should give on a rig, as a file; with mishaps, to see what a fault looks like."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import HushedError
from ..rig.vocabulary import MISHAPS
from . import captured, options

if TYPE_CHECKING:
    from ..rig import Rig
    from ..trace import Trace

EXAMPLES = """\
examples:
  hushed-wire rehearse tide.hush --rig front-desk.toml -o tide.vcd
  hushed-wire rehearse tide.hush --rig front-desk.toml --mishap swap:SCL,SDA -o swapped.vcd
  hushed-wire rehearse tide.hush --rig front-desk.toml -o tide.vcd --picture tide.png
  hushed-wire rehearse tide.hush --rig front-desk.toml --volts --rate 20MHz -o volts.csv
"""
MORE = "mishaps:\n" + "".join(
    f"  {written:<28} {what}\n" for stage, written, what in MISHAPS.values() if stage not in ("desk", "serial line")
)


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("sequence", metavar="SEQUENCE", help=".hush file")
    parser.add_argument("--rig", metavar="FILE", required=True, help="rig file")
    parser.add_argument(
        "-o",
        dest="output",
        metavar="FILE",
        required=True,
        help="the capture: .vcd or .csv, with .gz packed; '-' is VCD on standard output",
    )
    parser.add_argument(
        "--mishap",
        action="append",
        default=[],
        metavar="WHAT:DETAIL",
        help="do this on purpose (repeatable); --help-all lists them",
    )
    options.add_quantity(parser, "--clock", "Hz", "RATE", "bus clock (default: the rig's)")
    options.add_quantity(
        parser, "--rate", "Hz", "RATE", "sample rate of the capture (default: enough for the shortest thing on the wires)"
    )
    options.add_quantity(parser, "--jitter", "s", "T", "jitter of edges, RMS (default: 5ns, less where the clock is fast)")
    parser.add_argument("--seed", type=int, default=0, metavar="N", help="of all that is random (default: 0)")
    parser.add_argument("--picture", metavar="FILE", help="a figure of it, long rests left out (.png, .svg, .pdf)")
    parser.add_argument("--volts", action="store_true", help="write volts, with the rig's supply and rise time, to a .csv")
    options.add_catalog(parser)
    parser.add_argument("-q", "--quiet", action="store_true", help="say less")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..rig import load_rig
    from ..rig.rehearse import rehearse
    from ..rig.vocabulary import parse_mishap
    from ..trace.files import encode_capture, write_capture
    from ..units import counted

    if args.seed < 0:
        raise HushedError("a seed below zero", where="--seed", remedy="0 or more")
    jitter = args.jitter
    if jitter is not None and not 0 <= jitter <= 1:
        raise HushedError(f"a jitter of {args.jitter}", where="--jitter", remedy="0s to 1s, like 5ns")
    if args.picture:
        captured.figure_kind(args.picture)  # what cannot be drawn is told before anything is written
    rig = load_rig(args.rig)
    trace, waveforms = rehearse(
        Path(args.sequence),
        rig,
        mishaps=[parse_mishap(text) for text in args.mishap],
        clock=args.clock,
        rate=args.rate,
        seed=args.seed,
        jitter=None if jitter is None else float(jitter),
        in_volts=args.volts,
    )
    comment = f"rehearsal of {Path(args.sequence).name}" + "".join(f" with {text}" for text in args.mishap)
    if args.picture:
        _picture(args, trace, rig)
    if args.output == "-":
        for piece in encode_capture("-", trace, waveforms, comment):
            sys.stdout.buffer.write(piece)
        return 0
    write_capture(args.output, trace, waveforms, comment)
    if not args.quiet:
        sys.stderr.write(
            f"{args.output}: {trace.duration * 1e3:.3f} ms, {counted(len(trace.names), 'line')}, {counted(len(trace), 'change')}\n"
        )
    return 0


def _picture(args: argparse.Namespace, trace: Trace, rig: Rig) -> None:
    """--picture."""
    from ..rig import decode
    from ..view.figure import plot
    from ..view.scene import scene_of
    from ..written_file import replace_file

    window = trace.seconds(trace.start), trace.seconds(trace.end)
    scene = scene_of(decode(trace, rig))
    replace_file(
        args.picture, [plot(scene, Path(args.sequence).name, window, None, captured.figure_kind(args.picture), fold=True)]
    )
