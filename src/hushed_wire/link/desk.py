"""The desk: a link that is always there. A rig's devices answer in software, keep their state and show their glass.

It counts its own time: a transaction takes what it would take on the wire at the rig's clock, a wait what it asks for.
Mishaps act as they do in life: a device that is absent, strapped elsewhere or has a loose contact, a line that is stuck.
"""

from __future__ import annotations

import random
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from ..errors import HushedError, nearest
from ..rig.schema import Bus, Device, Rig, the_bus
from ..rig.vocabulary import Mishap, address_of, share_of
from ..units import parse
from .base import BusHeld, Refused

if TYPE_CHECKING:
    from ..sequence import Target

__all__ = ["Desk"]

DEFAULT_CLOCK = 400e3
ACTS = ("refuse", "strap", "flaky", "stuck")  # the mishaps that mean something to a desk


@dataclass
class Seat:
    """One device at the desk. answers: share of calls that it hears. received: (seconds, bytes) of each write."""

    device: Device
    target: Target
    address: int
    answers: float = 1.0
    received: list[tuple[float, bytes]] = field(default_factory=list)


class Desk:
    """A simulated I2C link for a rig."""

    quick = True
    room = 1 << 20

    def __init__(self, rig: Rig, mishaps: list[Mishap] | None = None, seed: int = 0) -> None:
        """Raises HushedError where one names nothing of the rig."""
        self.bus: Bus = the_bus(rig)
        self.name = f"the desk of '{rig.title or self.bus.name}'"
        devices = rig.devices_on(self.bus)
        if not devices:
            raise HushedError(
                "the rig has no device that could answer", remedy="add a [[device]] to the rig, or name a link with --link"
            )
        self.seats = {device.name: Seat(device, rig.target(device), device.address or 0) for device in devices}
        self.period = 1 / (float(parse(self.bus.clock, "Hz")) if self.bus.clock else DEFAULT_CLOCK)
        self.random = random.Random(seed)
        self.now = 0.0
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

    def wait(self, seconds: float) -> None:
        """Moves the desk's time on; nobody really waits."""
        self.now += seconds

    def clock(self) -> float:
        """The desk's own time."""
        return self.now

    def close(self) -> None:
        """Nothing to let go of."""

    def glass(self, name: str) -> Any:
        """What a device's panel shows now."""
        import numpy as np

        from ..bus.words import START, STOP, Transactions, Words
        from ..part import FRAMINGS, commands
        from ..part.chips import model_for

        seat = self.seats[name]
        data = np.frombuffer(b"".join(raw for _, raw in seat.received), np.uint8)
        lengths = np.array([len(raw) for _, raw in seat.received], np.int64)
        last = np.cumsum(lengths)
        when = (np.array([when for when, _ in seat.received]) * 1e9).astype(np.int64)
        each = np.repeat(when, lengths)
        yes = np.ones(len(data), bool)
        words = Words(data, each, each, each, yes, ~yes)
        count = len(lengths)
        marks = np.full(count, START, np.uint8), np.full(count, STOP, np.uint8)
        table = Transactions(last - lengths, last, when, when, *marks, np.zeros(count, np.uint8))
        payload = FRAMINGS[seat.target.framing](words, table, table.first, np.arange(count))
        return model_for(seat.target.part, [commands(seat.target.part, payload)]).glass(seat.target.panel)


def held(line: str, role: str) -> BusHeld:
    """The error for a line that is held low, with what to do about it."""
    others = "a device that was reset in mid-word holds it" if role == "sda" else "a device stretches the clock and never lets go"
    nine = "; else clock SCL nine times and send a STOP" if role == "sda" else ""
    called = line if role in line.lower() else f"{line} ({role.upper()})"
    return BusHeld(
        f"{called} is held low, so nothing can be sent",
        remedy=f"check its pull-up and look for a short; or {others}: power the devices off and on{nine}",
    )
