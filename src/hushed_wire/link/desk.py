"""The desk: a link that is always there. A rig's devices answer in software, keep their state and show their glass.

It counts its own time: a transaction takes what it would take on the wire at the rig's clock, a wait what it asks for.
Mishaps act as they do in life: a device that is absent, strapped elsewhere or has a loose contact, a line that is stuck.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

from ..bus.base import BUSES
from ..errors import HushedError, nearest
from ..rig.schema import Bus, Rig
from ..rig.vocabulary import Mishap, address_of, share_of
from ..units import parse, parse_amount
from .base import BusHeld, Refused

if TYPE_CHECKING:
    from ..bus.moves import Move
    from ..sequence import Target
    from ..trace import Trace

__all__ = ["Desk", "WordDesk", "open_desk"]

DEFAULT_CLOCK = 400e3
ACTS = ("refuse", "strap", "flaky", "stuck", "slow")  # the mishaps that mean something to a desk


@dataclass
class Seat:
    """One device or bridge at the desk. answers: share of calls that it hears. received: (seconds, bytes) of each write.

    target: None for a bridge. slow: seconds for which it holds the clock in each call.
    """

    name: str
    target: Target | None
    address: int
    answers: float = 1.0
    slow: float = 0.0
    received: list[tuple[float, bytes]] = field(default_factory=list)


class OwnTime:
    """A desk counts its own time, and nobody really waits."""

    now = 0.0

    def wait(self, seconds: float) -> None:
        """Moves the desk's time on; nobody really waits."""
        self.now += seconds

    def clock(self) -> float:
        """The desk's own time."""
        return self.now

    def close(self) -> None:
        """Nothing to let go of."""


class Desk(OwnTime):
    """A simulated I2C link for a rig."""

    quick = True
    room = 1 << 20

    def __init__(self, rig: Rig, mishaps: list[Mishap] | None = None, seed: int = 0, bus: Bus | None = None) -> None:
        """Raises HushedError where one names nothing of the rig. bus: the rig's first I2C bus by default."""
        self.rig = rig
        self.bus: Bus = bus or addressed_bus(rig)
        self.name = f"the desk of '{rig.title or self.bus.name}'"
        devices = rig.devices_on(self.bus)
        bridges = [bridge for bridge in rig.bridge if bridge.on == self.bus.name]
        if not devices and not bridges:
            raise HushedError(
                "the rig has no device that could answer", remedy="add a [[device]] to the rig, or name a link with --link"
            )
        self.seats = {device.name: Seat(device.name, rig.target(device), device.address or 0) for device in devices}
        self.seats |= {bridge.name: Seat(bridge.name, None, bridge.address or 0) for bridge in bridges}
        self.shown = {device.name: rig.target(device) for device in rig.device if rig.way_to(device)[0].name == self.bus.name}
        self.period = 1 / (float(parse(self.bus.clock, "Hz")) if self.bus.clock else DEFAULT_CLOCK)
        self.random = random.Random(seed)
        self.stuck: dict[str, str] = {}
        for mishap in mishaps or []:
            self._act(mishap.kind, mishap.detail)
        self.by_address = {seat.address: seat for seat in self.seats.values() if seat.answers > 0}

    def _act(self, kind: str, detail: str) -> None:
        parts = [part.strip() for part in detail.split(",")]
        if kind not in ACTS:
            raise HushedError(f"'{kind}' does nothing to a desk", where="--mishap", remedy=f"the desk knows {', '.join(ACTS)}")
        if kind == "stuck":
            role = next((role for role, line in self.bus.lines.items() if line == parts[0]), None)
            if role is None or parts[1:] not in (["low"], ["high"]):
                remedy = f"like stuck:{self.bus.lines['sda']},low"
                raise HushedError(f"'{detail}' is no line of the bus and a level", where="--mishap", remedy=remedy)
            self.stuck[role] = parts[1]
            return
        if parts[0] not in self.seats:
            raise HushedError(f"the rig has no device '{parts[0]}'", where="--mishap", remedy=nearest(parts[0], self.seats))
        seat = self.seats[parts[0]]
        if kind == "refuse":
            seat.answers = 0.0
        elif kind == "strap":
            seat.address = address_of(detail)[1]
        elif kind == "slow":
            seat.slow = float(parse_amount(",".join(parts[1:]) or "?", "s", "--mishap"))
        else:
            seat.answers = 1.0 - share_of(",".join(parts[1:]))

    def check(self) -> None:
        """A stuck line is seen before anything is sent."""
        for role, level in self.stuck.items():
            if level == "low":
                raise held(self.bus.lines[role], role)

    def _call(self, address: int, size: int) -> Seat:
        self.check()
        self.now += (9 * (size + 1) + 3) * self.period
        seat = self.by_address.get(address)
        deaf = bool(self.stuck)  # a line that never falls carries nothing either
        if seat is None or deaf or (seat.answers < 1.0 and self.random.random() >= seat.answers):
            raise Refused(address, 0)
        self.now += seat.slow
        return seat

    def write(self, address: int, data: bytes) -> None:
        """One write transaction."""
        seat = self._call(address, len(data))
        if data:
            seat.received.append((self.now, data))

    def read(self, address: int, count: int) -> bytes:
        """One read transaction; a part that only listens drives nothing, and the pulled-up line reads as ones."""
        self._call(address, count)
        return b"\xff" * count

    def glass(self, name: str) -> Any:
        """What a device's panel shows now, a device behind bridges among them: from the wires, as in a capture."""
        from fractions import Fraction

        import numpy as np

        from ..bus import i2c

        sent = sorted((when, seat.address, raw) for seat in self.seats.values() for when, raw in seat.received)
        lengths = np.array([1 + len(raw) for _, _, raw in sent], np.int64)
        value = np.frombuffer(b"".join(bytes([address << 1]) + raw for _, address, raw in sent), np.uint8)
        # Devices answer to where the rig has them: a mishap that straps one elsewhere moves what it is sent with it.
        home = {seat.address: self._home(seat.name) for seat in self.seats.values()}
        value = value.copy()
        first = np.cumsum(lengths) - lengths
        value[first] = [home[address] << 1 for _, address, _ in sent]
        tick = Fraction(1, 10**7)
        gap = np.full(len(lengths), 100, np.int64)
        none = np.zeros(len(lengths), bool)
        trace = i2c.encode(
            value, np.ones(len(value), bool), lengths, none, gap, i2c.Timing.at(Fraction(400_000), tick), tick, 100, 100
        )
        names = {"SCL": self.bus.lines["scl"], "SDA": self.bus.lines["sda"]}
        return shown_by(trace.select([0, 1], tuple(names[line] for line in trace.names)), self.rig, self.bus, name)

    def _home(self, name: str) -> int:
        """The address at which the rig has a device or bridge."""
        bridge = self.rig.bridge_named(name)
        entry = bridge if bridge is not None else next(device for device in self.rig.device if device.name == name)
        return entry.address or 0


class WordDesk(OwnTime):
    """A simulated bus of any other kind: it takes what moves, and shows what the panels make of it."""

    def __init__(self, rig: Rig, bus: Bus) -> None:
        self.rig, self.bus = rig, bus
        self.name = f"the desk of '{rig.title or bus.name}'"
        self.shown = {device.name: rig.target(device) for device in rig.device if rig.way_to(device)[0].name == bus.name}
        self.moves: list[Move] = []

    def check(self) -> None:
        """Nothing can be held here."""

    def move(self, move: Move) -> None:
        """Takes a move; it lasts as long as on the wire."""
        from ..rig.wires import pace_of, wired_for

        bridge = self.rig.bridge_named(move.device)
        part = bridge.chip if bridge is not None else self.shown[move.device].part
        roles = {role: number for number, role in enumerate(self.bus.lines)}
        self.now += BUSES[self.bus.kind].load().seconds_of(move, wired_for(self.bus, roles), pace_of(part, self.bus))
        self.moves.append(move)

    def glass(self, name: str) -> Any:
        """What a device's panel shows now: from the wires, as in a capture."""
        from ..rig.wires import encode_moves

        roles = {role: number for number, role in enumerate(self.bus.lines)}
        target = self.shown[name]
        direct = [role for bridge in self.rig.bridge for role in bridge.direct]
        trace = encode_moves(
            self.moves, self.bus, target.part, roles, tuple(self.bus.lines.values()), 1000, 1000, target=target, direct=direct
        )
        return shown_by(trace, self.rig, self.bus, name)


def shown_by(trace: Trace, rig: Rig, bus: Bus, name: str) -> Any:
    """What a device's panel shows behind all that is in a trace of its bus."""
    from ..rig.reading import decode

    trace = replace(trace, turned=rig.turned)  # it is what the displays get
    reading = next(own for own in decode(trace, rig, bus.name).devices if own.device.name == name)
    return reading.memory.glass(reading.panel)


def addressed_bus(rig: Rig) -> Bus:
    """A rig's first bus whose devices have addresses; raises HushedError where it has none."""
    for bus in rig.bus:
        if BUSES[bus.kind].addressed:
            return bus
    kinds = " and ".join(sorted({BUSES[bus.kind].title for bus in rig.bus}))
    raise HushedError(f"its bus is {kinds}, where devices have no addresses", remedy="give the rig of an I2C bus")


def open_desk(rig: Rig, bus: Bus | None, mishaps: list[Mishap] | None = None, seed: int = 0) -> Desk | WordDesk:
    """The desk for a bus of a rig, its first I2C bus where none is named."""
    if bus is None or BUSES[bus.kind].addressed:
        return Desk(rig, mishaps, seed, bus)
    if mishaps:
        raise HushedError(
            f"'{mishaps[0].kind}' acts on devices with an address", where="--mishap", remedy=f"bus '{bus.name}' is {bus.kind}"
        )
    return WordDesk(rig, bus)


def held(line: str, role: str) -> BusHeld:
    """The error for a line that is held low, with what to do about it."""
    others = "a device that was reset in mid-word holds it" if role == "sda" else "a device stretches the clock and never lets go"
    nine = "; else clock SCL nine times and send a STOP" if role == "sda" else ""
    called = line if role in line.lower() else f"{line} ({role.upper()})"
    return BusHeld(
        f"{called} is held low, so nothing can be sent",
        remedy=f"check its pull-up and look for a short; or {others}: power the devices off and on{nine}",
    )
