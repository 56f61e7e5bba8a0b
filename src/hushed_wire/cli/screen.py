"""The picture that the panel showed, worked out from the traffic: at the end of the capture, or at a time."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest
from . import captured, options, output

if TYPE_CHECKING:
    from ..rig import DeviceReading

EXAMPLES = """\
examples:
  hushed-wire screen tide.vcd
  hushed-wire screen tide.vcd --at 20ms --picture glass.png
  hushed-wire screen tide.vcd --panel 128x32 --format json
  hushed-wire screen tide.vcd --every frame --picture frames.gif
  hushed-wire screen pump-room.vcd --memory                    characters beside the window, too, and one's own
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_capture(parser)
    options.add_rig(parser)
    options.add_text(parser)
    options.add_quantity(parser, "--at", "s", "T", "the moment, like 20ms (default: the end of the capture)")
    options.add_transfer(parser, "the moment behind this transfer, by its number in decode")
    parser.add_argument("--every", choices=("frame",), help="every picture there was, not only one")
    options.add_quantity(parser, "--rest", "s", "T", "with --every: a pause that ends a frame (default: 5ms)", default="5ms")
    parser.add_argument("--memory", action="store_true", help="all that the memory holds, with what is seen of it marked")
    parser.add_argument(
        "--picture", metavar="FILE", help="write the glass as a PNG; with --every a GIF, or NAME-0000.png and so on"
    )
    parser.add_argument("--device", metavar="NAME", help="the device, where several are on the bus")


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..written_file import replace_file

    if args.output and args.output.lower().endswith((".png", ".gif")):
        if args.picture:
            what = "-o is for the report, and that is a picture's name"
            raise HushedError(what, where=args.output, remedy="leave -o out, or end its name otherwise")
        args.picture, args.output = args.output, None  # what somebody meant who asks for a picture
    # The whole capture is listened to, so that what was set up ahead of a window is known in it.
    source, trace, plan, listen = captured.heard(args)
    assert plan is not None  # without lines that are asked for, it is there
    part = captured.windowed(trace, args)
    reading = listen()
    found = reading.devices
    devices = _devices(args, found, source.path)
    at = args.at
    when = part.end if at is None else trace.ticks(at)
    if args.transfer:
        from ..rig.numbered import span_of

        if at is not None or args.every:
            raise HushedError("--transfer and another moment", where="--transfer", remedy="leave --at or --every out")
        when = span_of(reading, *args.transfer)[1]
    if not part.start <= when <= part.end:
        span = f"{part.seconds(part.start):g} s to {part.seconds(part.end):g} s"
        raise HushedError(f"{args.at} is outside the capture", where="--at", remedy=f"it runs from {span}")
    if args.every:
        return _every(args, source.path, part, plan, devices)
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
        output.emit(args, json_bytes({"screens": screens, "assumed": plan.assumed}))
        return 0
    from ..view.screen import screens as show

    def write(out: Any) -> None:
        show(out, glasses, plan, trace.seconds(when), args.quiet)
        if args.memory:
            from ..view.memory import memory

            for device, _ in glasses:
                memory(out, device, when)

    output.report(args, write)
    return 0


def _devices(args: argparse.Namespace, found: list[DeviceReading], path: str) -> list[DeviceReading]:
    """Those of which something can be shown."""
    devices = [device for device in found if not args.device or device.device.name == args.device]
    if args.device and not devices:
        raise HushedError(
            f"there is no device '{args.device}'",
            where="--device",
            remedy=nearest(args.device, [d.device.name for d in found]),
        )
    if not devices:
        remedy = "name it with --part (hushed-wire diagnose tells what is on the bus)"
        raise HushedError("no display of the catalog was recognised on the bus", where=path, remedy=remedy)
    hidden = [device.device.name for device in devices if not device.shows]
    devices = [device for device in devices if device.shows]
    if not devices:
        what = f"nobody knows how the picture of '{hidden[0]}' lies in its memory"
        raise HushedError(what, where=path, remedy="hushed-wire unravel looks for it")
    return devices


MOST_FRAMES = 2000
SHOWN = 6


def _every(args: argparse.Namespace, path: str, trace: Any, plan: Any, devices: list[Any]) -> int:
    """Each picture that differs from the one before it."""
    import numpy as np

    from ..part.frames import frame_ends
    from ..view import record
    from ..view.json_text import json_bytes
    from ..view.screen import screens as show

    if args.at is not None:
        raise HushedError("--at picks one moment, --every all of them", remedy="leave one of them")
    if len(devices) > 1:
        raise HushedError("several devices are on the bus", where="--every", remedy="pick one with --device")
    rest = args.rest
    if rest is None or rest <= 0:
        raise HushedError(f"--rest {args.rest}", remedy="a time above zero, like 5ms")
    device = devices[0]
    ends = frame_ends(device.memory, float(trace.tick), float(rest))
    ends = ends[(ends >= trace.start) & (ends <= trace.end)]
    if len(ends) > MOST_FRAMES:
        raise HushedError(
            f"there are {len(ends):,} frames", where=path, remedy="pick a part with --from and --to, or a longer --rest"
        )
    frames: list[tuple[int, Any]] = []
    last: Any = None
    for end in ends.tolist():
        glass = device.glass(end)
        now = glass.pattern
        if last is None or not np.array_equal(now, last):
            frames.append((end, glass))
        last = now
    if args.picture:
        _frames_out(args, device, [glass for _, glass in frames])
    if args.format == "json":
        entries = [record.screen(device, glass, trace.seconds(end)) for end, glass in frames]
        output.emit(args, json_bytes({"screens": entries, "assumed": plan.assumed}))
        return 0

    def write(out: Any) -> None:
        spans = np.diff([end for end, _ in frames])
        rate = f", {1 / (float(np.median(spans)) * float(trace.tick)):.3g} a second" if len(frames) > 2 else ""
        out.print(f"{path}: {len(frames)} pictures{rate}", style="head")
        step = max(1, -(-len(frames) // SHOWN))
        for end, glass in frames[::step]:
            show(out, [(device, glass)], plan, trace.seconds(end), True)

    output.report(args, write)
    return 0


def _frames_out(args: argparse.Namespace, device: Any, glasses: list[Any]) -> None:
    """A GIF, or numbered PNGs."""
    from io import BytesIO
    from pathlib import Path

    from PIL import Image

    from ..picture.shown import shown_png
    from ..written_file import replace_file

    target = Path(args.picture)
    if target.suffix.lower() not in (".png", ".gif"):
        raise HushedError("pictures of the glass are PNGs, or a GIF", where=args.picture, remedy="end the name in .png or .gif")
    pieces = [shown_png(glass, device.panel) for glass in glasses]
    if target.suffix.lower() == ".png":
        for number, piece in enumerate(pieces):
            replace_file(target.with_name(f"{target.stem}-{number:04d}.png"), [piece])
        return
    images = [Image.open(BytesIO(piece)).convert("P", palette=Image.Palette.ADAPTIVE) for piece in pieces]
    out = BytesIO()
    images[0].save(out, "GIF", save_all=True, append_images=images[1:], duration=200, loop=0)
    replace_file(target, [out.getvalue()])
