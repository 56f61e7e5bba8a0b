"""A capture in another format, a part of it, or with decoded words and commands as lines beside it, for any waveform viewer."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from . import captured, options
from .said import say

if TYPE_CHECKING:
    from ..rig import Setup
    from ..trace import Trace
    from ..trace.added import Added

EXAMPLES = """\
examples:
  hushed-wire convert tide.csv -o tide.vcd.gz
  hushed-wire convert tide.vcd -o start.vcd --from 0s --to 2ms
  hushed-wire convert dump.bin --raw 1 --rate 24MHz --only SCL=0 --only SDA=1 -o tide.vcd
  hushed-wire convert tide.vcd --rig front-desk.toml --words -o tide-decoded.vcd
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    parser.add_argument(
        "-o",
        dest="output",
        metavar="FILE",
        required=True,
        help="target: .vcd, .csv, .npz, .raw, the first two packed with .gz; '-' is VCD",
    )
    options.add_only(parser)
    parser.add_argument("--words", action="store_true", help="add decoded words and commands as variables (VCD)")
    parser.add_argument("--findings", action="store_true", help="add what diagnose finds as variables (VCD)")
    options.add_rig(parser)
    parser.add_argument("-q", "--quiet", action="store_true", help="say less")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..trace.files import encode_capture, write_capture
    from ..units import counted

    source = captured.open_source(args)
    trace = captured.whole(args, source)
    captured.warn(trace.notes)
    if source.kind == "CSV" and source.waveforms is not None and not args.quiet:
        say("note: volts become levels; the thresholds are those that 'lines' shows")
    added: list[Added] = []
    if args.words or args.findings:
        plan = captured.plan_for(trace, args)
        captured.save_rig(args, plan)
        reading = captured.read_by(trace, plan, source.path)
        added += [*(_words(reading) if args.words else []), *(_findings(trace, plan) if args.findings else [])]
    trace = captured.chosen(trace, args.only, source.path)
    comment = f"from {Path(source.path).name}, by hushed-wire convert"
    if args.output == "-":
        for piece in encode_capture("-", trace, None, comment, added):
            sys.stdout.buffer.write(piece)
        return 0
    from ..written_file import replace_file

    if added:
        replace_file(args.output, encode_capture(args.output, trace, None, comment, added))
    else:
        write_capture(args.output, trace, None, comment)
    if not args.quiet:
        more = f", {len(added)} variables beside them" if added else ""
        sys.stderr.write(
            f"{args.output}: {trace.duration * 1e3:.3f} ms, {counted(len(trace.names), 'line')}{more}, {counted(len(trace), 'change')}\n"
        )
        if args.output.lower().endswith((".raw", ".bin")):
            size = next(width for width in (1, 2, 4, 8) if 8 * width >= len(trace.names))
            rate = float(1 / (trace.resolution() * trace.tick))
            sys.stderr.write(f"read it back with --raw {size} --rate {rate:.10g}Hz; line 0 is {trace.names[0]}\n")
    return 0


def _words(reading: Any) -> list[Added]:
    """Words of each channel as vectors, commands of each device as text."""
    import numpy as np

    from ..sequence.listing import as_hush
    from ..trace.added import LETTERS, Added, letters
    from ..units import counted

    out = []
    for channel in reading.channels:
        acknowledged = channel.who is not None
        bits = channel.bits + int(acknowledged)  # the acknowledge is the last bit
        name = f"{channel.bus}_{channel.select or channel.kind}_word"
        values = channel.words.value.astype(np.int64)
        if acknowledged:
            values = values << 1 | ~channel.words.ack & 1
        shown = [f"b{value:0{bits}b}" for value in values.tolist()]
        starts, ends = channel.words.start, np.maximum(channel.words.end, channel.words.start + 1)
        rests = np.append(ends[:-1] < starts[1:], True) if len(starts) else np.empty(0, bool)
        times = np.concatenate([starts, ends[rests]])
        texts = shown + ["bz"] * int(rests.sum())
        order = np.argsort(times, kind="stable")
        out.append(Added(name, bits, times[order], [texts[k] for k in order.tolist()]))
    for device in reading.devices:
        for chip, own in enumerate(device.chips):
            texts = []
            for index in range(len(own)):
                name, (fields, _) = own.name_of(index), own.fields_of(index)
                texts.append(
                    letters(f"{counted(int(fields['count']), 'byte')} of data" if name == "data" else as_hush(name, fields))
                )
            name = f"{device.device.name}_command" + (f"_{chip + 1}" if len(device.chips) > 1 else "")
            first = own.payload.start[own.first] if len(own) else np.empty(0, np.int64)
            out.append(Added(name, 8 * LETTERS, first, texts))
    return out


def _findings(trace: Trace, plan: Setup) -> list[Added]:
    """One bit for each code, high from the start to the end of each finding."""
    import numpy as np

    from ..diagnosis import diagnose
    from ..trace.added import Added

    out: dict[str, list[tuple[int, str]]] = {}
    for found in diagnose(trace, plan).findings:
        start, end = (
            trace.ticks(when) if when is not None else place
            for when, place in ((found.start, trace.start), (found.end, trace.end))
        )
        out.setdefault(found.code, [(trace.start, "b0")])
        out[found.code] += [(start, "b1"), (max(end, start + 1), "b0")]
    return [
        Added(
            code.replace(".", "_").replace("-", "_"),
            1,
            np.array([time for time, _ in sorted(events)], np.int64),
            [value for _, value in sorted(events)],
        )
        for code, events in out.items()
    ]
