"""What is on each line of a capture: activity, idle level, rates, shortest pulse, levels in volts, likely role."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from . import captured, options, output

if TYPE_CHECKING:
    from ..trace import Trace

EXAMPLES = """\
examples:
  hushed-wire lines tide.vcd
  hushed-wire lines scope.csv --threshold 1.2V
  hushed-wire lines dump.bin --raw 1 --rate 24MHz --format json
  hushed-wire lines bench.vcd --only top.scl --only SDA=top.sda
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_only(parser)
    options.add_text(parser)


def rows_of(trace: Trace) -> list[dict[str, Any]]:
    """One record a line."""
    from dataclasses import asdict

    from ..rig.recognise import likely_roles
    from ..trace.stats import statistics

    likely = likely_roles(trace)
    return [{**asdict(own), "likely": [likely[line]] if line in likely else []} for line, own in enumerate(statistics(trace))]


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    source = captured.open_source(args)
    trace = captured.chosen(captured.whole(args, source), args.only, source.path)
    rows = rows_of(trace)
    if args.format == "json":
        from ..view.json_text import json_bytes

        record: dict[str, Any] = {"lines": rows, "duration": trace.duration, "tick": float(trace.tick)}
        if trace.volts:
            record["volts"] = [dict(zip(("low", "high", "threshold"), entry, strict=True)) for entry in trace.volts]
        captured.warn(trace.notes)
        output.emit(args, json_bytes(record))
        return 0
    from ..view import listing

    output.report(args, lambda out: listing.lines(out, trace, source.path, rows))
    return 0
