"""Everything that a capture says by a rig, piece by piece: the words of buses and behind bridges, and the commands of parts.

The twin of `hear` for captures that are too long to hold, or that still go on. What is for a part goes to its readers as soon as the
transaction that brought it is over; what a bridge puts out is a piece of a trace, and is heard by the same means.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from fractions import Fraction

import numpy as np

from ..bus import parallel, spi
from ..bus.nibbles import Nibbles
from ..bus.words import CUT, END
from ..errors import HushedError
from ..part import FRAMINGS, Part, Payload, load
from ..part.engine import Commands, Reader
from ..part.wrap import WRAPS
from ..sequence import Target
from ..trace import Trace
from ..trace.model import Samples
from .channel import Channel
from .follow import parallel_payload, rig_lines, spi_payload
from .hearers import Hearer, I2c, of_parallel, of_shift, of_spi
from .ports import Ports, States, output_block, serial_states
from .schema import Bridge, Bus, Device, Rig, behind

__all__ = ["Follower", "Heard", "Spoken", "can_follow"]


@dataclass(eq=False)
class Spoken:
    """Commands of one chip of a device. chip: counted from 0, None where it has one. going_on: the first goes on with data told before."""

    device: str
    chip: int | None
    commands: Commands
    going_on: bool


@dataclass(eq=False)
class Heard:
    """What became complete: channels with their transactions, and commands."""

    channels: list[Channel]
    spoken: list[Spoken]


def can_follow(rig: Rig) -> bool:
    """Whether a rig can be read piece by piece: scanned LEDs, lines that go past a bridge and chains whose length is to be found want

    the whole capture."""
    chains = [{bridge.count for bridge in rig.bridge if bridge.on == bus.name} for bus in rig.bus if bus.kind == "shift"]
    return (
        bool(rig.bus)
        and all(len(counts) == 1 for counts in chains)
        and all(bus.kind != "matrix" for bus in rig.bus)
        and all(not bridge.direct and behind(bridge).kind != "matrix" for bridge in rig.bridge)
    )


class Follower:
    """Takes the blocks of a capture; `feed(None)` gives the rest."""

    def __init__(self, rig: Rig, names: tuple[str, ...], tick: Fraction) -> None:
        """names: the lines of the capture. Raises HushedError where it has those of none of the rig's buses."""
        empty = Trace(names, np.empty(0, np.int64), np.empty(0, np.uint8), 0, tick)
        self.places = []
        missing: HushedError | None = None
        for bus in rig.bus:
            try:
                self.places.append(_Place(rig, bus, rig_lines(empty, bus), bus.name, tick))
            except HushedError as error:
                missing = missing or error  # another bus of the rig may have been captured
        if not self.places and missing is not None:
            raise missing

    @property
    def i2c(self) -> I2c | None:
        """What hears the only bus, where that is I2C."""
        first = self.places[0].hearers[0] if len(self.places) == 1 else None
        return first if isinstance(first, I2c) else None

    def feed(self, block: Trace | Samples | None) -> Heard:
        """What is complete with a block of the capture, or with its end."""
        out = Heard([], [])
        for place in self.places:
            place.feed(block, out)
        return out


class _Place:
    """A bus, or what a bridge's outputs make, and all that hangs on it."""

    def __init__(self, rig: Rig, bus: Bus, roles: dict[str, int], name: str, tick: Fraction) -> None:
        devices = [(device, rig.target(device)) for device in rig.device if device.on == name]
        bridges = [(bridge, load(bridge.part)) for bridge in rig.bridge if bridge.on == name]
        self.taps = [_tap(bus, roles, device, target) for device, target in devices]
        self.inner = [_Behind(rig, bus, roles, bridge, part, tick) for bridge, part in bridges]
        self.hearers = _hearers(bus, roles, devices, bridges, tick)

    def feed(self, block: Trace | Samples | None, out: Heard) -> None:
        for hearer in self.hearers:
            for own in map(Channel.closed, hearer(block)):
                out.channels.append(own)
                for tap in self.taps:
                    tap.feed(own, out)
                for inner in self.inner:
                    inner.take(own)
        for inner in self.inner:
            inner.feed(block, out)
        if block is None:
            for tap in self.taps:
                tap.finish(out)


def _hearers(
    bus: Bus, roles: dict[str, int], devices: list[tuple[Device, Target]], bridges: list[tuple[Bridge, Part]], tick: Fraction
) -> list[Hearer]:
    """One for each channel, in the order in which `hear` has them."""
    if bus.kind == "i2c":
        return [I2c(bus.name, roles, tick)]
    if bus.kind == "parallel":
        return [of_parallel(bus, roles)]
    if bus.kind == "shift":
        counts = dict.fromkeys(bridge.count for bridge, _ in bridges)
        return [of_shift(bus, roles, 8 * count) for count in counts]
    usual = next((role for role in ("cs", "cs1") if role in roles), "")
    wanted = [(device.select or usual, WRAPS[target.framing].bits) for device, target in devices]
    wanted += [(bridge.select or usual, 8) for bridge, _ in bridges]
    selects: list[str] = [role for role in ("cs", "cs1", "cs2", "cs3") if role in roles]
    wanted += [(role, bus.bits or 8) for role in selects or [""] if role not in {name for name, _ in wanted}]
    return [of_spi(bus, roles, role, bits) for role, bits in dict.fromkeys(wanted)]


@dataclass
class _Tap:
    """A device: what of a channel is for it, and what reads it."""

    device: str
    readers: list[Reader]
    mine: Callable[[Channel], list[Payload] | None]
    closes: bool  # data are over with their transaction

    def feed(self, own: Channel, out: Heard) -> None:
        payloads = self.mine(own)
        if payloads is None:
            return
        closed = self.closes and len(own.table) > 0 and int(own.table.ended[-1]) not in (END, CUT)
        for chip, (reader, payload) in enumerate(zip(self.readers, payloads, strict=True)):
            self._tell(chip, *reader.feed(payload, closed), out)

    def finish(self, out: Heard) -> None:
        for chip, reader in enumerate(self.readers):
            self._tell(chip, *reader.finish(), out)

    def _tell(self, chip: int, commands: Commands, going_on: bool, out: Heard) -> None:
        if len(commands):
            out.spoken.append(Spoken(self.device, chip if len(self.readers) > 1 else None, commands, going_on))


def _tap(bus: Bus, roles: dict[str, int], device: Device, target: Target) -> _Tap:
    def tap(mine: Callable[[Channel], list[Payload] | None], chips: int = 1, closes: bool = True) -> _Tap:
        return _Tap(device.name, [Reader(target.part) for _ in range(chips)], mine, closes)

    if bus.kind == "i2c":
        return tap(_called(device.address, target.framing))
    if bus.kind == "spi":
        usual = next((role for role in ("cs", "cs1") if role in roles), "")
        bits, select = WRAPS[target.framing].bits, device.select or usual
        number = _Numbers()

        def selected(own: Channel) -> list[Payload] | None:
            if own.select != select or own.bits != bits:
                return None
            return [number.given(spi_payload(spi.SpiDecoded(own.words, own.dc, own.table), bits, target), own)]

        return tap(selected)
    pairs = [Nibbles() for _ in range(target.chips)]
    high, _ = parallel.data_lines(roles)

    def latched(own: Channel) -> list[Payload]:
        words = replace(own.words, value=own.words.value << 4) if high else own.words
        data = np.ones(len(words), np.uint8) if own.dc is None else own.dc
        assert own.read is not None and own.chips is not None
        found = parallel.ParallelDecoded(words, data, own.read, own.chips)
        return [parallel_payload(found, target, chip, pairs[chip]) for chip in range(target.chips)]

    return tap(latched, target.chips, closes=False)


def _called(address: int | None, framing: str) -> Callable[[Channel], list[Payload] | None]:
    """What transactions for an address bring."""
    number = _Numbers()

    def mine(own: Channel) -> list[Payload] | None:
        if framing not in FRAMINGS or own.who is None:
            return None
        chosen = np.flatnonzero((own.who.address == address) & ~own.who.read & own.who.answered)
        return [number.given(FRAMINGS[framing](own.words, own.table, own.who.first, chosen), own)]

    return mine


class _Numbers:
    """Transactions are counted through all pieces; one that goes on with the piece before keeps its number."""

    def __init__(self) -> None:
        self.next = 0

    def given(self, payload: Payload, own: Channel) -> Payload:
        ahead = self.next
        if self.next and len(own.table) and int(own.table.began[0]) == CUT:
            ahead -= 1
        self.next = ahead + len(own.table)
        return replace(payload, transaction=payload.transaction + ahead)


class _Behind:
    """A bridge: what reaches it becomes the levels of its outputs, and what these make is heard in turn."""

    def __init__(self, rig: Rig, bus: Bus, roles: dict[str, int], bridge: Bridge, part: Part, tick: Fraction) -> None:
        self.bus, self.bridge, self.part, self.tick = bus, bridge, part, tick
        self.ports = Ports(part)
        self.select = bridge.select or next((role for role in ("cs", "cs1") if role in roles), "")
        self.sent = _called(bridge.address, "i2c-plain")
        inner = behind(bridge)
        self.place = _Place(rig, inner, {role: line for line, role in enumerate(bridge.drives)}, bridge.name, tick)
        self.states: list[States] = []
        self.start: int | None = None
        self.begun = False
        self.end = 0

    def take(self, own: Channel) -> None:
        """What a channel of the bus brings."""
        if own.kind == "i2c":
            for sent in self.sent(own) or []:
                self.states.append(self.ports.feed(sent.value, sent.time, sent.transaction))
        elif own.kind == "spi":
            if own.select == self.select and own.bits == 8:
                found = spi.SpiDecoded(own.words, own.dc, own.table)
                self.states.append(serial_states(found, self.bridge, self.part, self.ports))
        elif own.kind == "parallel" or own.bits == 8 * self.bridge.count:
            self.states.append(States.driven(own.words.effect, own.words.value.astype(np.int64)))

    def feed(self, block: Trace | Samples | None, out: Heard) -> None:
        if block is not None:
            self.end = block.end
            if self.start is None:
                self.start = block.start
        if self.states or not self.begun:
            states = States.join([States.none(), *self.states])
            first = (self.start or 0) if not self.begun else None
            self.place.feed(output_block(self.bridge, self.part, states, self.end, self.tick, 0, first), out)
            self.states, self.begun = [], True
        if block is None:
            self.place.feed(None, out)
