"""Sends a sequence, the words of a capture, or a test picture over a link: to the desk, or to a bus of this machine."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest
from . import link_options, options, output, replayed
from .said import say

if TYPE_CHECKING:
    from ..rig import Rig
    from ..sequence import Step, Target

EXAMPLES = """\
examples:
  hushed-wire send tide.hush --rig front-desk.toml --picture glass.png     to the desk, and what its glass shows then
  hushed-wire send tide.hush --rig front-desk.toml --link i2c-1
  hushed-wire send --test-picture tide --rig front-desk.toml --link i2c-1  border, diagonal, corner marks, size
  hushed-wire send tide.hush --rig front-desk.toml --dry-run               what would be sent, step by step
  hushed-wire send old.vcd --rig new-board.toml --link spi-0.0 --slower 10 the words of a capture again, with longer rests
  hushed-wire send found/set-up.hush --rig found/rig.toml --catalog found/catalog --vary steps
  hushed-wire send --walk gate --rig gate.toml --link gpiochip0            which output lights which segment?
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument(
        "sequence", nargs="?", metavar="SEQUENCE|CAPTURE", help=".hush file, or a capture whose words go out again"
    )
    parser.add_argument("--rig", metavar="FILE", required=True, help="rig file")
    parser.add_argument(
        "--test-picture", metavar="DEVICE", help="instead of a sequence: set this device up and show a test picture"
    )
    parser.add_argument(
        "--walk",
        metavar="NAME",
        help="instead of a sequence: drive the outputs of this bridge or digit driver one by one, and ask",
    )
    parser.add_argument("--dry-run", action="store_true", help="list what would be sent, send nothing")
    parser.add_argument(
        "--repeat",
        type=int,
        default=1,
        metavar="N",
        help="send the sequence from its first picture or text on N times (default: 1)",
    )
    parser.add_argument("--picture", metavar="FILE", help="on the desk: write what the glass shows then as a PNG")
    parser.add_argument("--device", metavar="NAME", help="whose glass, where the rig has several")
    group = parser.add_argument_group("again, with something changed")
    group.add_argument("--until", choices=("picture",), help="only what comes ahead of the first picture: the set-up")
    group.add_argument("--slower", type=float, metavar="N", help="rests last N times as long")
    options.add_quantity(group, "--at-least", "s", "T", "a rest of at least so long behind whatever is sent, like 1ms")
    group.add_argument(
        "--vary", metavar="WHAT",
        help="send it again and again, and ask what is seen: steps (each of the set-up left out in turn), or LINE:BYTE=FIRST-LAST, like 9:2=0-63/8",
    )  # fmt: skip
    group.add_argument("--draft", metavar="FILE", help="with --vary: write the answers into this part description")
    options.add_window(options.add_reading(parser))
    options.add_catalog(parser)
    link_options.add_link(parser.add_argument_group("where to"))
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..rig import load_rig

    if args.repeat < 1:
        raise HushedError(f"--repeat {args.repeat}", remedy="1 or more")
    if sum(map(bool, (args.sequence, args.test_picture, args.walk))) != 1:
        raise HushedError(
            "a sequence, a test picture or a walk",
            remedy="name a .hush file, a device with --test-picture, or a bridge with --walk",
        )
    if args.picture and not args.picture.lower().endswith(".png"):
        raise HushedError("a picture of the glass is a PNG", where=args.picture, remedy="end its name in .png")
    rig = load_rig(args.rig)
    if args.walk:
        return _walked(args, rig)
    by = rig
    if args.sequence and replayed.is_capture(args.sequence):
        steps, by = replayed.replayed(args, rig)
    else:
        if args.start is not None or args.end is not None:
            raise HushedError("--from and --to pick a part of a capture", where=args.sequence or "", remedy="leave them out")
        steps = _steps(args, rig)
    if not steps:
        raise HushedError("the sequence does nothing", where=args.sequence, remedy="write a command; see docs/sequence.md")
    if args.repeat > 1:
        from ..sequence.place import DRAWN

        # From the first thing that is drawn on, so that what belongs to a picture (a wait, a command between two) comes with it again.
        first = next(
            (number for number, step in enumerate(steps) if step.name in DRAWN or step.name == "test picture"), len(steps)
        )
        while first and not steps[first - 1].sends and steps[first - 1].wait:  # a rest ahead of a picture belongs to it
            first -= 1
        steps += steps[first:] * (args.repeat - 1)
    steps = replayed.changed(args, steps, by)
    if args.vary:
        return replayed.varied(args, rig, steps, by)
    if args.dry_run:
        return _listed(args, steps, {device.name: by.target(device) for device in by.device})
    return _sent(args, rig, steps, by)


def _steps(args: argparse.Namespace, rig: Rig) -> list[Step]:
    from ..sequence import expand, parse_file
    from ..sequence.start import test_steps

    targets = [rig.target(device) for device in rig.device]
    if args.test_picture:
        target = next((target for target in targets if target.name == args.test_picture), None)
        if target is None:
            names = [target.name for target in targets]
            raise HushedError(
                f"the rig has no device '{args.test_picture}'", where="--test-picture", remedy=nearest(args.test_picture, names)
            )
        return test_steps(target)
    path = Path(args.sequence)
    return expand(parse_file(path), targets, path.parent)


def _walked(args: argparse.Namespace, rig: Rig) -> int:
    """The walk test: questions on the terminal (or standard error), answers from standard input, the map as lines of a rig."""
    from ..link.walk import bus_of, walk

    link = link_options.open_link(args, rig, bus_of(rig, args.walk))
    asking = walk(rig, args.walk, link)
    try:
        question = next(asking)
        while True:
            sys.stderr.write(question + " ")
            sys.stderr.flush()
            answer = sys.stdin.readline()
            if not answer:
                raise HushedError("the answers ended in mid-walk", where="--walk", remedy="answer each question, - for none")
            question = asking.send(answer)
    except StopIteration as done:
        found = done.value
    finally:
        link.close()
    if found.twice():
        say(f"{', '.join(found.twice())} was answered for more than one output: a short between them, or a slip")
    device = next((device for device in rig.device if device.name == args.walk), None)
    ready = device.panel if device is not None and isinstance(device.panel, str) and device.panel else "8-digits"
    output.emit(args, found.toml().replace("{ready}", ready).encode())
    return 1 if found.twice() or not found.lights else 0


def _moved(step: Step, target: Target) -> list[tuple[bool, bytes]]:
    """What a step sends; in a chain with what the others get meanwhile."""
    if target.chain > 1:
        return [piece for transfer in target.transfers(step.sends) for piece in transfer.pieces]
    return [(send.data, send.raw) for send in step.sends]


def _listed(args: argparse.Namespace, steps: list[Step], targets: dict[str, Target]) -> int:
    moved = [_moved(step, targets[step.device]) for step in steps]
    records = [
        {"place": s.place, "device": s.device, "step": s.text, "wait": float(s.wait),
         "transactions": [{"data": data, "bytes": list(raw)} for data, raw in own]}
        for s, own in zip(steps, moved, strict=True)
    ]  # fmt: skip
    if args.format == "json":
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes({"steps": records}))
        return 0

    def write(out: Any) -> None:
        from rich.text import Text

        from ..view.tables import plain_table

        table = plain_table()
        for head in ("step", "bytes", "then"):
            table.add_column(head, overflow="fold")
        for step, own in zip(steps, moved, strict=True):
            raw = b"".join(raw for _, raw in own)
            shown = raw[:12].hex(" ").upper() + (f" … {len(raw):,} in all" if len(raw) > 12 else "")
            table.add_row(Text(step.text), shown, f"wait {float(step.wait) * 1e3:g} ms" if step.wait else "")
        out.print(table)
        out.print(f"{len(steps)} steps; nothing was sent")

    output.report(args, write)
    return 0


def _sent(args: argparse.Namespace, rig: Rig, steps: list[Step], by: Rig) -> int:
    """by: the rig by which steps become words; it differs from `rig` where parts play no role."""
    from ..link.send import Stopped, send

    link = link_options.open_link(args, rig, by.bus_for(steps))
    sent = None
    try:
        if len(steps) > 50 and sys.stderr.isatty() and not args.quiet:
            from rich.console import Console
            from rich.progress import Progress

            with Progress(console=Console(stderr=True), transient=True) as bar:
                task = bar.add_task("sending", total=len(steps))
                sent = send(steps, by, link, lambda done: bar.update(task, completed=done))
        else:
            sent = send(steps, by, link)
    except Stopped as stopped:
        say(str(stopped))
        return 1
    finally:
        link.close()
    if args.picture:
        _glass(args, rig, link)
    if args.format == "json":
        from ..view.json_text import json_bytes

        record = {"link": link.name, "steps": sent.steps, "transactions": sent.transactions, "bytes": sent.data}
        record |= {"seconds": sent.seconds, "pictures": sent.pictures, "pictures_a_second": sent.rate}
        output.emit(args, json_bytes(record))
        return 0
    if not args.link:
        say("no link was named, so this went to the desk: the rig's devices in software")
    text = f"{sent.steps} steps, {sent.data:,} bytes in {sent.transactions} transactions to {link.name}, in {sent.seconds * 1e3:.1f} ms"
    rate = f"; {sent.pictures} pictures, {sent.rate:.1f} a second" if sent.rate else ""
    output.emit(args, f"{text}{rate}\n".encode())
    return 0


def _glass(args: argparse.Namespace, rig: Rig, link: Any) -> None:
    from ..link.desk import Desk, WordDesk
    from ..picture.shown import shown_png
    from ..written_file import replace_file

    desk = getattr(link, "desk", link)  # a stand-in has its desk behind the serial line
    if not isinstance(desk, Desk | WordDesk):
        raise HushedError("only the desk can show its glass", where="--picture", remedy="leave it out, or take --link desk")
    name = args.device or args.test_picture or next(iter(desk.shown))
    if name not in desk.shown:
        raise HushedError(f"there is no device '{name}'", where="--device", remedy=nearest(name, desk.shown))
    if not desk.shown[name].panel.width:
        raise HushedError(
            f"nobody knows how the picture of '{name}' lies in its memory", where="--picture", remedy="leave it out"
        )
    replace_file(args.picture, [shown_png(desk.glass(name), desk.shown[name].panel)])
