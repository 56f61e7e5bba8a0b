"""Which addresses answer on a bus, or answered in a capture, and which parts each could be."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from . import captured, link_options, options, output

if TYPE_CHECKING:
    from ..link.scan import Scan
    from ..rig import Rig

EXAMPLES = """\
examples:
  hushed-wire scan --rig front-desk.toml                        on the desk, where no link is named
  hushed-wire scan --link i2c-1 --rig front-desk.toml           on a bus of this machine
  hushed-wire scan tide.vcd                                     every address that was called in a capture
  hushed-wire scan --rig front-desk.toml --repeat 200 --mishap flaky:tide,10

probing writes no byte: an address-only write, or a read where a memory might sit
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser, optional=True)
    group = parser.add_argument_group("on a link")
    link_options.add_link(group)
    group.add_argument("--repeat", type=int, default=1, metavar="N", help="try every address N times, to find a loose contact")
    group.add_argument("--reserved", action="store_true", help="the reserved addresses too (0x00-0x07, 0x78-0x7f)")
    options.add_rig(parser)
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    if args.repeat < 1:
        raise HushedError(f"--repeat {args.repeat}", remedy="1 or more")
    if args.capture is not None and args.link:
        raise HushedError("a capture and a link", where="--link", remedy="name one of them")
    rig = options.rig_given(args)
    assumed = ""
    if args.capture is not None:
        scan, kind, shown = _capture(args, rig), "capture", rig
    else:
        scan, kind, shown = _link(args, rig), "link", rig
        assumed = "" if args.link else "no link was named, so this is the desk: the rig's devices answer in software"
    if args.format == "json":
        from ..view.json_text import json_bytes
        from ..view.scanned import record

        output.emit(args, json_bytes(record(scan, kind)))
    else:
        from ..view.scanned import report

        known = {} if shown is None else {d.address: f"{d.name} ({d.part})" for d in shown.device if d.address is not None}
        output.report(args, lambda out: report(out, scan, known, assumed), light=True)
    if scan.stopped == "interrupted":
        return 130
    return int(bool(scan.missing or scan.flaky or scan.stopped))


def _capture(args: argparse.Namespace, rig: Rig | None) -> Scan:
    from ..link.scan import scan_capture

    source, trace, plan = captured.load_any(args)
    captured.warn(trace.notes)
    called = [channel for channel in captured.read_by(trace, plan, source.path).channels if channel.who is not None]
    if not called:
        from ..bus.base import BUSES

        raise HushedError(
            f"this looks like {BUSES[plan.rig.bus[0].kind].title}, where devices have no addresses",
            where=args.capture,
            remedy="decode shows what was sent; if it is I2C, say --line scl=… --line sda=…",
        )
    return scan_capture(called, rig, source.path)


def _link(args: argparse.Namespace, rig: Rig | None) -> Scan:
    from ..link.scan import scan_link

    link = link_options.open_link(args, rig)
    try:
        if args.repeat > 20 and sys.stderr.isatty() and not args.quiet:
            return _with_progress(link, args, rig)
        return scan_link(link, rig, args.repeat, args.reserved)
    finally:
        link.close()


def _with_progress(link: Any, args: argparse.Namespace, rig: Rig | None) -> Scan:
    from rich.console import Console
    from rich.progress import Progress

    from ..link.scan import scan_link

    with Progress(console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("scanning", total=args.repeat)
        return scan_link(link, rig, args.repeat, args.reserved, lambda done: bar.update(task, completed=done))
