"""What `send` sends of a capture: its words again, in their transfers, with their rests; and what `--vary` asks."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, located, nearest
from . import link_options, output

if TYPE_CHECKING:
    from ..rig import Rig
    from ..sequence import Step

__all__ = ["changed", "is_capture", "replayed", "varied"]

MOST = 1 << 28  # bytes of a replayed capture


def is_capture(name: str) -> bool:
    """Whether what is to be sent is a capture, not a sequence."""
    return not name.lower().endswith(".hush")


def replayed(args: argparse.Namespace, rig: Rig) -> tuple[list[Step], Rig]:
    """The words of a capture as steps, and the rig by which they go out: the same wires, with parts that nobody needs to know."""
    import msgspec

    from ..part.catalogs import UNKNOWN
    from ..rig.reading import decode
    from ..sequence import expand, parse_text
    from ..sequence.from_words import beside, events_of, written
    from ..view.progress import watched
    from . import captured  # which reads captures, and loads what that needs

    bare = msgspec.structs.replace(rig, device=[msgspec.structs.replace(own, part=UNKNOWN, panel="") for own in rig.device])
    place = _place(args, rig)
    own: Any = argparse.Namespace(**{**vars(args), "capture": args.sequence, "line": [], "only": [], "rig": None})
    wanted = [line for bus in rig.bus for line in bus.lines.values()]
    source = captured.open_source(own, wanted)
    trace = source.read(watched(source.blocks(), source, args.quiet))
    captured.warn(trace.notes)
    with located(source.path):
        reading = decode(trace, bare, bare.root_of(place).name)  # type: ignore[union-attr]
    names = {device.address: device.name for device in bare.device if device.on == place and device.address is not None}
    first = next(device.name for device in bare.device if device.on == place)
    events = [event for channel in reading.on(place) for event in events_of(channel, float(trace.tick))]
    bus = bare.root_of(place)
    assert bus is not None
    events += beside(trace, bus.lines)
    low = trace.start if args.start is None else trace.ticks(args.start)
    high = trace.end if args.end is None else trace.ticks(args.end)
    inside = [event for event in events if low <= event.start and event.end <= high]
    lines = [f"device {first}", *written(inside, float(trace.tick), names)]
    steps = expand(parse_text("\n".join(lines), args.sequence), [bare.target(device) for device in bare.device], Path(), MOST)
    if not steps:
        raise HushedError(
            "nothing was said there", where=args.sequence, remedy="widen --from and --to; decode shows what was said"
        )
    return steps, bare


def _place(args: argparse.Namespace, rig: Rig) -> str:
    """The bus, or bridge, of which the words are sent."""
    if args.device:
        device = next((own for own in rig.device if own.name == args.device), None)
        if device is None:
            remedy = nearest(args.device, [own.name for own in rig.device])
            raise HushedError(f"there is no device '{args.device}'", where="--device", remedy=remedy)
        return device.on
    places = list(dict.fromkeys(own.on for own in rig.device))
    if len(places) != 1:
        what = "the rig has no device" if not places else f"the rig has devices on {', '.join(places)}"
        raise HushedError(what, where=args.rig, remedy="say whose words are meant, with --device")
    return places[0]


def changed(args: argparse.Namespace, steps: list[Step], by: Rig) -> list[Step]:
    """Steps as --until, --slower and --at-least want them. by: the rig by which they become words."""
    if not (args.until or args.slower is not None or args.at_least is not None):
        return steps
    from fractions import Fraction

    from ..sequence.place import DRAWN
    from ..sequence.replay import slowed, until_picture

    if args.slower is not None and not 0 < args.slower <= 10_000:
        raise HushedError(f"--slower {args.slower}", remedy="how many times as long rests last, like 10; 0.5 halves them")
    if args.at_least is not None and args.at_least < 0:
        raise HushedError(f"--at-least {args.at_least}", remedy="a time, like 1ms")
    if args.until:
        steps = until_picture(steps, [*DRAWN, "test picture"], _controlled(steps, by))
        if not steps:
            raise HushedError("it begins with a picture", where="--until", remedy="there is no set-up ahead of it")
    if args.slower is not None or args.at_least is not None:
        steps = slowed(steps, Fraction(args.slower or 1).limit_denominator(10_000), args.at_least or Fraction(0))
    return steps


def _controlled(steps: list[Step], by: Rig) -> bool:
    """Whether steps are raw words behind an address, with whatever control bytes are among them."""
    from ..bus.base import BUSES
    from ..part.catalogs import UNKNOWN

    names = {step.device for step in steps}
    return all(own.part == UNKNOWN and BUSES[by.roles_at(own)[0]].addressed for own in by.device if own.name in names)


def varied(args: argparse.Namespace, rig: Rig, steps: list[Step], by: Rig) -> int:
    """Sends a sequence again and again, each time with something else changed, and asks what is seen; the answers are the report, and go
    into the draft."""
    from ..link.send import Stopped, send
    from ..sequence.place import DRAWN
    from ..sequence.replay import until_picture, variants

    try:
        upto = len(until_picture(steps, [*DRAWN, "test picture"], _controlled(steps, by)))
    except HushedError:
        upto = len(steps)
    link = link_options.open_link(args, rig, by.bus_for(steps))
    told: list[dict[str, Any]] = []
    try:
        send(steps, by, link)
        usual = _asked(f"as it is, {len(steps)} steps: what is seen? (an empty line: nothing)")
        for variant in variants(steps, upto, args.vary):
            try:
                send(variant.steps, by, link)
            except Stopped as stopped:
                told.append({"said": variant.said, "seen": f"refused: {stopped.what}", "code": _code(steps[variant.number])})
                continue
            answer = _asked(f"{variant.said}: what is seen? (an empty line: as before)")
            told.append({"said": variant.said, "seen": answer, "code": _code(steps[variant.number]), "value": variant.value})
    finally:
        link.close()
    if args.draft:
        _into_draft(args.draft, told)
    if args.format == "json":
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes({"usual": usual, "varied": told}))
        return 0
    differ = [entry for entry in told if entry["seen"]]
    lines = [f"{entry['said']}: {entry['seen'] or 'as before'}" for entry in told]
    lines.append(f"{len(told)} variants, {len(differ)} of which were seen" + (f"; written to {args.draft}" if args.draft else ""))
    output.emit(args, ("\n".join(lines) + "\n").encode())
    return 0


def _asked(question: str) -> str:
    sys.stderr.write(question + " ")
    sys.stderr.flush()
    answer = sys.stdin.readline()
    if not answer:
        raise HushedError(
            "the answers ended too soon", where="--vary", remedy="answer each question; an empty line is: as before"
        )
    return answer.strip()


def _code(step: Step) -> int:
    """The first word of a step."""
    return next((send.raw[0] for send in step.sends if send.raw), -1)


def _into_draft(path: str, told: list[dict[str, Any]]) -> None:
    """Puts answers beside the commands that they are about: what stands ahead of the tables in the file stays."""
    import tomllib

    import tomli_w

    from ..small_file import small_text
    from ..written_file import replace_file

    try:
        text = small_text(Path(path))
        table = tomllib.loads(text)
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise HushedError(
            f"cannot be read as a draft: {error}", where=path, remedy="--draft takes the part that unravel wrote"
        ) from error
    for entry in told:
        if not entry["seen"]:
            continue
        for command in table.get("command", []):
            if command.get("code") == f"{entry['code']:08b}":
                what = entry["said"].partition(": ")[2]
                command["source"] = f"{command.get('source', '')}; seen: {what}: {entry['seen']}"
    head = text[: text.index("name = ")] if "name = " in text else ""
    replace_file(path, [(head + tomli_w.dumps(table)).encode()], kept_up=True)
