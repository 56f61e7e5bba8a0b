"""Everything that a capture says by a rig: the words on each bus and behind each bridge, the commands of parts, and what their panels show.

`RigDecoder` takes the blocks of a capture, of any size, and follows every bus and every bridge to any depth; `decode` is the same of a whole
trace. A bus is decoded by its kind's own decoders. What is for a part goes to its reader as soon as the transaction that brought it is over;
what a bridge puts out is a piece of a trace, like any other (unknown before the first write), and is decoded as the bus that the outputs
make. Lines that go past a bridge, and scanned LEDs, are answered at the end. The twin is `encode`.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import Any

import numpy as np

from ..bus.base import BESIDE, BUSES, select_of
from ..bus.channel import Channel, ChannelDecoder, Heard, Telling, Wanted, Wired
from ..bus.nibbles import Switch
from ..bus.words import CUT, END
from ..errors import HushedError
from ..part import Commands, Part
from ..part.engine import Reader
from ..part.expander import Ports, States, output_trace
from ..part.output_pins import pins_of
from ..part.receive import RECEIVERS, pictures
from ..part.receiver import Receiver, Seat
from ..part.wrap import WRAPS
from ..sequence import Target
from ..trace import Trace, joined
from ..trace.merge import merge
from ..trace.model import Samples, as_changes
from .schema import Bridge, Bus, Device, Rig, behind, lamps_of, settings_of

__all__ = ["Decoded", "Driven", "LineMissing", "RigDecoder", "Told", "rig_lines"]

NOTHING: Mapping[str, Any] = {}


class LineMissing(HushedError):
    """A rig names a line that the capture lacks."""


def rig_lines(trace: Trace, bus: Bus) -> dict[str, int]:
    """Line number by role; raises LineMissing where the capture lacks a line that the rig names, HushedError where one plays two roles."""
    kind = BUSES[bus.kind]
    out: dict[str, int] = {}
    for role, line in bus.lines.items():
        try:
            out[role] = trace.index(line)
        except HushedError as error:
            if role in BESIDE:
                continue  # what was not captured is not needed to decode
            has = ", ".join(trace.names[:16])
            what = f"the rig's bus '{bus.name}' has {role.upper()} on line '{line}', which the capture lacks"
            raise LineMissing(what, remedy=f"the capture has {has}; correct the rig, or say --line {role}=LINE") from error
    for role, number in out.items():
        other = next((known for known in out if out[known] == number), role)
        if other != role:
            what = f"{other.upper()} and {role.upper()} are the same line, '{trace.names[number]}'"
            raise HushedError(what, where="--line", remedy="give each role a line of its own")
    missing = kind.missing(out)
    if missing:
        raise HushedError(f"bus '{bus.name}' has no line for {missing[0].upper()}", remedy=f"say --line {missing[0]}=LINE")
    return out


# ---- piece by piece -------------------------------------------------------------------------------------------------------


@dataclass(eq=False)
class Told:
    """Commands of one chip of a device. chip: counted from 0. chips: how many it has. going_on: the first goes on with data told before."""

    device: str
    chip: int
    chips: int
    commands: Commands
    going_on: bool


@dataclass(eq=False)
class Driven:
    """What a bridge drives from then on."""

    bridge: str
    states: States


@dataclass(eq=False)
class Decoded:
    """What became complete: channels with their transactions, commands, and what bridges put out. ahead: commands that came ahead of the part
    of a capture that is looked at."""

    channels: list[Channel] = field(default_factory=list)
    commands: list[Told] = field(default_factory=list)
    driven: list[Driven] = field(default_factory=list)
    ahead: list[Told] = field(default_factory=list)


class RigDecoder:
    """Takes the blocks of a capture; `feed(block)` then `finish()`, each giving what became complete. Nothing depends on where blocks begin."""

    def __init__(
        self,
        rig: Rig,
        names: tuple[str, ...],
        tick: Fraction,
        only: str = "",
        begin: Mapping[str, Any] | None = None,
        heard: Channel | None = None,
    ) -> None:
        """names: the lines of the capture. tick: seconds. only: the bus that is wanted, "" for all of them. begin: what the decoders of a
        bus's kind are told of what came ahead. heard: what a bus said, where it was decoded before; the capture is then one block.

        Raises HushedError where the capture has the lines of none of the rig's buses; `absent` names those that it lacks.
        """
        self.rig = rig
        self.turned = rig.turned
        empty = Trace(names, np.empty(0, np.int64), np.empty(0, np.uint8), 0, tick)
        self.places: list[_Place] = []
        self.absent: dict[str, HushedError] = {}
        for bus in rig.bus:
            if only in ("", bus.name):
                try:
                    self.places.append(_Place(rig, bus, rig_lines(empty, bus), bus.name, tick, empty, begin or {}, heard))
                except HushedError as error:
                    self.absent[bus.name] = error
        if not self.places and self.absent:
            raise next(iter(self.absent.values()))

    def tell(self, bus: str, told: Callable[[Any], None]) -> None:
        """Names who wants what the decoder of a bus goes by, too; see `Telling`."""
        for place in self.places:
            first = place.decoders[0]
            if place.name == bus and isinstance(first, Telling):
                first.tell(told)

    def feed(self, block: Trace | Samples) -> Decoded:
        """What is complete with a block of the capture. Lines that a shifter turns over behind the probe are taken as the display gets them."""
        return self._take(block.turned_as(self.turned) if self.turned else block)

    def finish(self) -> Decoded:
        """The rest."""
        return self._take(None)

    def _take(self, block: Trace | Samples | None) -> Decoded:
        out = Decoded()
        for place in self.places:
            place.take(block, block, out)
        return out

    @property
    def waiting(self) -> int | None:
        """The tick at which the first transfer began that is open, or word that no command has told yet; None where nothing waits."""
        ticks = [tick for place in self.places for tick in place.waiting()]
        return min(ticks, default=None)


class _Place:
    """A bus, or what a bridge's outputs make, and all that hangs on it."""

    def __init__(
        self,
        rig: Rig,
        bus: Bus,
        roles: dict[str, int],
        name: str,
        tick: Fraction,
        root: Trace,
        begin: Mapping[str, Any] = NOTHING,
        heard: Channel | None = None,
    ) -> None:
        """root: the lines of the capture itself, for those that go past a bridge."""
        kind = BUSES[bus.kind]
        self.name = name
        devices = [(device, rig.target(device)) for device in rig.device if device.on == name]
        bridges = [(bridge, bridge.chip) for bridge in rig.bridge if bridge.on == name]
        self.taps = [_Tap(device.name, target, _seat(device, target, roles)) for device, target in devices]
        leads = rig.root_of(name)
        lines = leads.lines if leads is not None else {}
        self.inner = [_Behind(rig, bridge, part, roles, tick, root, lines) for bridge, part in bridges]
        wanted = [_wanted(tap.receiver.seat, bus, target) for tap, (_, target) in zip(self.taps, devices, strict=True)]
        wanted += [Wanted(bridge.select, 8, bridge.count) for bridge, _ in bridges]
        self.panels = [target.panel for _, target in devices] if kind.scanned else []
        if heard is not None and heard.bus == name:
            self.decoders: list[ChannelDecoder] = [Heard(heard)]
        else:
            self.decoders = kind.load().decoders(Wired(name, roles, settings_of(bus), tick), wanted, **begin)

    def take(self, block: Trace | Samples | None, root: Trace | Samples | None, out: Decoded) -> None:
        """A block of the lines that it hears, and the same of the capture itself; None at the end."""
        for number, decoder in enumerate(self.decoders):
            own = decoder.finish() if block is None else decoder.feed(block)
            own.number = number
            if number < len(self.panels):
                own = pictures(own, self.panels[number])
            out.channels.append(own)
            for tap in self.taps if number >= len(self.panels) else self.taps[number : number + 1]:
                tap.take(own, out)
            for inner in self.inner:
                inner.take(own)
        for inner in self.inner:
            inner.pass_on(block, root, out)
        if block is None:
            for tap in self.taps:
                tap.finish(out)

    def waiting(self) -> Iterable[int]:
        """The ticks at which transfers began that are open, and words that wait with a reader."""
        yield from (decoder.held for decoder in self.decoders if decoder.held is not None)
        for tap in self.taps:
            yield from tap.waiting()
        for inner in self.inner:
            yield from inner.waiting()


def _seat(device: Device, target: Target, roles: dict[str, int]) -> Seat:
    return Seat(
        target.framing, device.address, select_of(roles, device.select), target.position, target.chips, panel=target.panel,
        switch=_switch(target.part),
    )  # fmt: skip


def _switch(part: Part) -> Switch | None:
    return None if part.halves is None else Switch(part.halves.halves, part.halves.whole)


def _wanted(seat: Seat, bus: Bus, target: Target) -> Wanted:
    lamps = lamps_of(target, bus) if BUSES[bus.kind].scanned else None
    return Wanted(seat.select, WRAPS[seat.framing].bits, lamps=lamps)


class _Tap:
    """A device: what of a channel is for it, and what reads it."""

    def __init__(self, device: str, target: Target, seat: Seat) -> None:
        self.device = device
        self.receiver: Receiver = RECEIVERS[target.framing](seat)
        self.readers = [Reader(target.part) for _ in range(target.chips)]

    def take(self, own: Channel, out: Decoded) -> None:
        payloads = self.receiver.take(own)
        if payloads is None:
            return
        closed = self.receiver.closes and len(own.table) > 0 and int(own.table.ended[-1]) not in (END, CUT)
        for chip, (reader, payload) in enumerate(zip(self.readers, payloads, strict=True)):
            self._tell(chip, *reader.feed(payload, closed), out)

    def finish(self, out: Decoded) -> None:
        for chip, payload in enumerate(self.receiver.rest()):
            self._tell(chip, *self.readers[chip].feed(payload, False), out)
        for chip, reader in enumerate(self.readers):
            self._tell(chip, *reader.finish(), out)

    def _tell(self, chip: int, commands: Commands, going_on: bool, out: Decoded) -> None:
        if len(commands):
            out.commands.append(Told(self.device, chip, len(self.readers), commands, going_on))

    def waiting(self) -> Iterable[int]:
        for reader in self.readers:
            if reader.held is not None and len(reader.held):
                yield int(reader.held.start[0])


class _Behind:
    """A bridge: what reaches it becomes the levels of its outputs, and what these make is decoded in turn."""

    def __init__(
        self, rig: Rig, bridge: Bridge, part: Part, roles: dict[str, int], tick: Fraction, root: Trace, lines: dict[str, str]
    ) -> None:
        """roles, lines: of the bus that it hangs on, and of the one that leads to it."""
        self.bridge, self.tick = bridge, tick
        framing = part.framings[0]
        self.receiver = RECEIVERS[framing](Seat(framing, bridge.address, select_of(roles, bridge.select), count=bridge.count))
        self.ports = Ports(part, bridge.count)
        pins = pins_of(part, bridge.count)
        self.pins = {role: pins[pin] for role, pin in bridge.drives.items()}
        inner = behind(bridge)
        names = [*self.pins, *bridge.direct]
        # Registers that drive nothing light nothing, so scanned LEDs behind them have their enable, too.
        self.enable = roles.get("enable") if BUSES[inner.kind].scanned and "enable" not in names else None
        names += ["enable"] if self.enable is not None else []
        self.direct = [root.index(lines[role]) for role in bridge.direct]
        self.place = _Place(rig, inner, {role: number for number, role in enumerate(names)}, bridge.name, tick, root)
        self.states: list[States] = []
        self.start: int | None = None
        self.end, self.sample = 0, 0
        self.begun = False
        self.beside: list[Trace] = []  # what goes past it, kept until the end
        self.enabled: list[Trace] = []

    def take(self, own: Channel) -> None:
        """What a channel of the bus brings."""
        for sent in self.receiver.take(own) or []:
            self.states.append(self.ports.feed(sent.value, sent.time, sent.transaction))

    def pass_on(self, block: Trace | Samples | None, root: Trace | Samples | None, out: Decoded) -> None:
        """Its outputs, up to the end of a block of the bus's lines, and of the capture's."""
        if block is not None:
            self.end = block.end
            self.sample = block.sample if isinstance(block, Trace) else 1
            if self.start is None:
                self.start = block.start
            self._keep(block, root)
        if self.direct or self.enable is not None:
            if block is None and self.start is not None:
                self._at_end(out)
            if block is None:
                self.place.take(None, None, out)
            return
        if self.states or not self.begun:
            states = States.join([States.none(), *self.states])
            out.driven.append(Driven(self.bridge.name, states))
            first = (self.start or 0) if not self.begun else None
            self.place.take(output_trace(self.pins, states, self.end, self.tick, self.sample, first), root, out)
            self.states, self.begun = [], True
        if block is None:
            self.place.take(None, None, out)

    def waiting(self) -> Iterable[int]:
        """The ticks at which words began behind it that nobody has told yet."""
        if (self.direct or self.enable is not None) and self.start is not None and not self.begun:
            yield self.start
        yield from self.place.waiting()

    def _keep(self, block: Trace | Samples, root: Trace | Samples | None) -> None:
        own = as_changes(block)
        if self.enable is not None:
            self.enabled.append(own.select([self.enable], ("enable",)))
        if self.direct and root is not None:
            whole = as_changes(root)
            self.beside.append(whole.select(self.direct, tuple(self.bridge.direct)))

    def _at_end(self, out: Decoded) -> None:
        """All that its outputs did, with the lines that go past it."""
        self.begun = True
        states = States.join([States.none(), *self.states])
        out.driven.append(Driven(self.bridge.name, states))
        whole = output_trace(self.pins, states, self.end, self.tick, self.sample, self.start)
        for kept in (self.beside, self.enabled):
            whole = merge(whole, joined(kept)) if kept else whole
        self.place.take(whole, None, out)
