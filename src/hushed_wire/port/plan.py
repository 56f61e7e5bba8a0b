"""What a driver has to do, in no language yet: the set-up step by step, then what is shown, as transfers, waits and levels.

A sequence is read statement by statement; where the first thing is drawn that is not blank, the set-up is over. A captured driver is
written as a sequence first, so that there is one way.
"""

from __future__ import annotations

from collections.abc import Sequence
from copy import deepcopy
from dataclasses import dataclass, field
from fractions import Fraction
from pathlib import Path

import msgspec

from ..errors import HushedError
from ..part.describe import PLACING, Command, Part
from ..part.wrap import WRAPS
from ..rig.schema import Bridge, Bus, Device, Rig
from ..sequence.expand import steps_of_statement
from ..sequence.listing import items_of
from ..sequence.parse import Statement
from ..sequence.state import State
from ..sequence.target import MARGIN, Step, Target
from ..sequence.timed import LATENT
from ..units import parse
from .scanning import Scan, scan_of

__all__ = ["Piece", "Plan", "Run", "plan_of", "wait_behind"]

DRAWING = {"text", "picture", "glyph", "number", "point", "line", "rectangle", "circle", "polygon", "sprite"}


@dataclass(frozen=True)
class Run:
    """Bytes that are sent at once. data: data, else commands."""

    data: bool
    raw: bytes


@dataclass
class Piece:
    """A step. said: as a sequence writes it, and the datasheet's title and section. transfers: (mask of chips, runs) each. wait: microseconds behind it."""

    said: str
    source: str
    transfers: list[tuple[int, list[Run]]] = field(default_factory=list)
    levels: list[tuple[str, bool]] = field(default_factory=list)
    wait: int = 0
    halves: bool = False  # its command words go out as single halves: the part has not been told of four lines yet


@dataclass
class Plan:
    """A driver. state: of the sequence language behind the set-up, from which drawing is worked out. used: commands that are sent by name.

    word_wait: microseconds that the part is busy behind each word, 0 where the bus is slower anyway.
    """

    rig: Rig
    device: Device
    bus: Bus
    bridge: Bridge | None
    target: Target
    source: str
    start: list[Piece]
    show: list[Piece]
    state: State
    used: list[Command]
    word_wait: int
    notes: list[str] = field(default_factory=list)

    @property
    def part(self) -> Part:
        """The part."""
        return self.target.part

    def leave_out_pictures(self) -> None:
        """Without what is shown behind the set-up."""
        self.show = []


def plan_of(rig: Rig, statements: Sequence[Statement], folder: Path, source: str, device: str = "") -> Plan | Scan:
    """The driver of one display. device: its name, where the rig has several. Raises HushedError for what no driver can be made of."""
    own = _device(rig, device, statements)
    bus, bridges = rig.way_to(own)
    if len(bridges) > 1:
        what = f"'{own.name}' is behind {len(bridges)} bridges"
        raise HushedError(what, where=source, remedy="drivers are emitted through one at the most")
    target = rig.target(own)
    if target.part.memory.kind == "scanned":
        return scan_of(rig, own, statements, folder, source)
    if target.part.memory.kind == "port":
        raise HushedError(f"'{own.name}' is a bridge and shows nothing", where=source, remedy="name a display with --device")
    state = State({name.name: rig.target(name) for name in rig.device}, folder, target)
    out = Plan(rig, own, bus, bridges[0] if bridges else None, target, source, [], [], state, [], _word_wait(target.part))
    halved = _Halves(target)
    at_end: State | None = None
    held = 0  # steps at the end of the set-up that only say where the next data go
    used: dict[str, Command] = {}
    for statement in statements:
        before = deepcopy(state.digits) if at_end is None else {}
        steps = [step for step in steps_of_statement(state, statement) if step.device == own.name]
        if at_end is None and any(_draws(target.part, step) for step in steps):
            at_end = msgspec.structs.replace(state, registers=deepcopy(state.registers), canvases={}, digits=deepcopy(before))
            # What only says where the drawing goes belongs to it.
            out.start, out.show = out.start[: len(out.start) - held], out.start[len(out.start) - held :]
        for step in steps:
            _has_lines(out, step)
            piece = _piece(target, own, step, halved)
            (out.show if at_end is not None else out.start).append(piece)
            for item in items_of(target.part, step.sends):
                if item.is_command:
                    used.setdefault(item.name, target.part.command[item.kind])
            if at_end is None:
                held = held + 1 if _places(target.part, step) else 0
    if not any(piece.transfers for piece in out.start):
        raise HushedError(
            "there is no set-up in it", where=source, remedy="give a sequence or a capture that begins with the display's set-up"
        )
    out.used = list(used.values())
    out.state = at_end or state
    _reset_line(out)
    return out


def _device(rig: Rig, name: str, statements: Sequence[Statement]) -> Device:
    if name:
        found = next((device for device in rig.device if device.name == name), None)
        if found is None:
            from ..errors import nearest

            raise HushedError(
                f"the rig has no device '{name}'", where="--device", remedy=nearest(name, [d.name for d in rig.device])
            )
        return found
    spoken = [statement.words[0] for statement in statements if statement.verb == "device" and statement.words]
    if len(set(spoken)) > 1:
        raise HushedError("the sequence speaks to several displays", where="--device", remedy="pick one with --device")
    return next((device for device in rig.device if not spoken or device.name == spoken[0]), rig.device[0])


def _word_wait(part: Part) -> int:
    """Microseconds behind each word of a part that is slower than its bus: the longest of its short times."""
    short = [parse(command.takes, "s") for command in part.command if command.takes]
    short = [takes for takes in short if takes <= LATENT]
    short += [parse(part.waits["data"], "s")] if part.waits.get("data") else []
    return _microseconds(max(short, default=Fraction(0)) * MARGIN)


def wait_behind(command: Command) -> int:
    """Microseconds that a driver has to wait behind a command, beyond what it waits behind each word."""
    takes = parse(command.takes, "s") if command.takes else Fraction(0)
    return _microseconds(takes * MARGIN) if takes > LATENT else 0


def _microseconds(seconds: Fraction) -> int:
    return -int(-seconds * 10**6 // 1)


def _draws(part: Part, step: Step) -> bool:
    """Whether a step shows something: pictures, text, and data that are not all the same."""
    if step.name in DRAWING:
        return True
    if step.name == "fill":
        return False
    data = b"".join(send.raw for send in step.sends if send.data) if part.parameters != "data" else b""
    if step.name in part.by_name and part.find(step.name).effect == "digit":
        return next(iter(step.fields.values()), 0) not in (0, 15, "0", "15")
    tail = [item.raw for item in items_of(part, step.sends) if item.name == "data"] if part.parameters == "data" else [data]
    return any(len(set(raw)) > 1 for raw in tail)


def _places(part: Part, step: Step) -> bool:
    return step.name in part.by_name and part.find(step.name).effect in PLACING


class _Halves:
    """Whether a part that is spoken to by halves of words has been told of it."""

    def __init__(self, target: Target) -> None:
        self.switch = target.part.halves if WRAPS[target.framing].halves else None
        self.four = False

    def single(self, raw: bytes) -> bool:
        """Whether a command goes out as its upper half alone."""
        if self.switch is None:
            return False
        alone = not self.four
        if raw[0] >> 4 == self.switch.halves:
            self.four = True
        elif raw[0] >> 4 == self.switch.whole:
            self.four = False
        return alone


def _piece(target: Target, device: Device, step: Step, halved: _Halves) -> Piece:
    part = target.part
    command = part.find(step.name) if step.name in part.by_name else None
    source = f"{command.title} ({command.source})" if command is not None else ""
    out = Piece(step.text.strip() or step.name, source, levels=list(step.levels))
    control = target.framing == "i2c-control-byte"
    for transfer in target.transfers(step.sends, device.address or 0):
        runs = [Run(data, raw[1:] if control else raw) for data, raw in transfer.pieces]
        out.transfers.append((transfer.chips, runs))
    commands = [send for send in step.sends if not send.data]
    out.halves = bool(commands) and halved.single(commands[0].raw)
    takes = step.takes if step.takes > LATENT else Fraction(0)
    out.wait = _microseconds(max(step.wait, takes * MARGIN))
    return out


def _has_lines(out: Plan, step: Step) -> None:
    """Raises HushedError where a step moves a line that the rig does not have."""
    behind = out.bridge.drives if out.bridge is not None else {}
    for role, _ in step.levels:
        if role not in out.bus.lines:
            where = "an output of the adapter" if role in behind else f"no line of bus '{out.bus.name}'"
            raise HushedError(
                f"'{role}' is {where}", where=step.place, remedy=f"add {role} to the bus's lines, or take the step out"
            )


def _reset_line(out: Plan) -> None:
    """A reset line that nobody moves is moved at the beginning, as the part wants it."""
    if "reset" not in out.bus.lines:
        return
    waits = out.part.waits
    low, behind = (max(1, _microseconds(parse(waits.get(key, "0s"), "s") * MARGIN)) for key in ("reset_low", "after_reset"))
    moved = [(piece, high) for piece in out.start for role, high in piece.levels if role == "reset"]
    for piece, high in moved:  # a pulse as long as the part needs, however the sequence has it
        piece.wait = max(piece.wait, behind if high else low)
    if moved:
        return
    out.start[:0] = [
        Piece("reset low", f"reset pulse ({waits.get('source', 'see the datasheet')})", levels=[("reset", False)], wait=low),
        Piece("reset high", "", levels=[("reset", True)], wait=behind),
    ]
