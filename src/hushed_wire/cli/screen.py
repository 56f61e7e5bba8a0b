"""The picture that the panel showed, worked out from the traffic: at the end of the capture, or at a time."""

from __future__ import annotations

import argparse

from ..errors import HushedError
from . import options

EXAMPLES = """\
examples:
  hushed-wire screen tide.vcd
  hushed-wire screen tide.vcd --at 20ms --picture glass.png
  hushed-wire screen tide.vcd --panel 128x32 --format json
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    options.add_text(parser)
    parser.add_argument("--at", metavar="T", help="the moment, like 20ms (default: the end of the capture)")
    parser.add_argument("--picture", metavar="FILE", help="write the glass as a PNG")
    parser.add_argument("--device", metavar="NAME", help="the device, where several are on the bus")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..errors import nearest
    from ..rig import read
    from ..rig.pipeline import shown_devices
    from ..trace.files import replace_file
    from .decode import warn

    source, trace, plan = options.load_any(args)
    bus = plan.rig.bus[0]
    found = read(trace, plan.rig).devices if bus.kind == "i2c" and not plan.rig.bridge else shown_devices(trace, plan.rig, bus)
    warn(trace.notes)
    devices = [device for device in found if not args.device or device.device.name == args.device]
    if args.device and not devices:
        raise HushedError(
            f"there is no device '{args.device}'",
            where="--device",
            remedy=nearest(args.device, [d.device.name for d in found]),
        )
    if not devices:
        remedy = "name it with --part (hushed-wire diagnose tells what is on the bus)"
        raise HushedError("no display of the catalog was recognised on the bus", where=source.path, remedy=remedy)
    at = options.quantity(args.at, "s", "--at")
    when = trace.end if at is None else trace.ticks(at)
    if not trace.start <= when <= trace.end:
        span = f"{trace.seconds(trace.start):g} s to {trace.seconds(trace.end):g} s"
        raise HushedError(f"{args.at} is outside the capture", where="--at", remedy=f"it runs from {span}")
    glasses = [(device, device.glass(when)) for device in devices]
    if args.picture and not args.picture.lower().endswith(".png"):
        raise HushedError("a picture of the glass is a PNG", where=args.picture, remedy="end its name in .png")
    if args.picture:
        from ..picture.shown import shown_png

        if len(devices) > 1:
            raise HushedError("several devices are on the bus", where="--picture", remedy="pick one with --device")
        device, glass = glasses[0]
        replace_file(args.picture, [shown_png(glass, device.panel)])
    if args.format == "json":
        from ..view import record
        from ..view.json_text import json_bytes

        screens = [record.screen(device, glass, trace.seconds(when)) for device, glass in glasses]
        options.emit(args, json_bytes({"screens": screens, "assumed": plan.assumed}))
        return 0
    from ..view.screen import screens as show

    options.report(args, lambda out: show(out, glasses, plan, trace.seconds(when), args.quiet))
    return 0
