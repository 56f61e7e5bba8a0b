"""What is on each line of a capture: activity, idle level, rates, shortest pulse, levels in volts, likely role."""

from __future__ import annotations

import argparse
from collections.abc import Iterator
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


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from dataclasses import asdict

    from ..bus.changes import EXCERPT
    from ..rig.recognise import likely_roles
    from ..trace import joined
    from ..trace.stats import Statistics

    source = captured.open_source(args)
    told, head, looked_at = Statistics(), [], 0

    def seen() -> Iterator[Trace]:
        nonlocal looked_at
        for block in captured.in_window(source, args):
            own = captured.chosen(block, args.only, source.path)
            told.feed(own)
            if looked_at <= EXCERPT:
                head.append(own)
                looked_at += len(own)
            yield own.only(0)

    trace = joined(seen())  # its length, and what was noted of it
    likely = likely_roles(joined(head))
    rows = [{**asdict(own), "likely": [likely[line]] if line in likely else []} for line, own in enumerate(told.told())]
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
