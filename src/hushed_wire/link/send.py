"""Sends the steps of a sequence over a link, with their waits, and stops at the first refusal."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

from ..bus.base import BUSES
from ..errors import HushedError
from ..rig.schema import Bus, Rig
from ..sequence import Step
from .base import Link, Refused, WordLink

if TYPE_CHECKING:
    from ..bus.moves import Move

__all__ = ["Sent", "Stopped", "play", "send"]


@dataclass
class Sent:
    """What went out. seconds: as the link counts them. pictures: how many, and how many a second from first to last."""

    steps: int = 0
    transactions: int = 0
    data: int = 0
    seconds: float = 0.0
    pictures: int = 0
    rate: float | None = None


class Stopped(HushedError):
    """A device refused; what had gone out by then is in `sent`."""

    def __init__(self, step: Step, refused: Refused, sent: Sent) -> None:
        places = {0: "its address", -1: "its address or a byte behind it"}  # the kernel does not tell which
        where = places.get(refused.position, f"byte {refused.position} behind the address")
        super().__init__(
            f"'{step.text}' was refused: {refused.address:#04x} did not acknowledge {where}",
            where=step.place,
            remedy=f"{sent.steps} steps went out before it; see which addresses answer: hushed-wire scan",
        )
        self.sent = sent


def send(steps: list[Step], rig: Rig, link: Link | WordLink, progress: Callable[[int], None] | None = None) -> Sent:
    """Sends all steps. Raises Stopped at the first refusal, BusHeld ahead of the first step, LinkLost when the link goes."""
    link.check()
    bus = rig.bus_for(steps)
    devices = {device.name: device for device in rig.device}
    direct = BUSES[bus.kind].addressed and all(
        rig.bridge_named(devices[step.device].on) is None and not step.levels for step in steps
    )
    out = Sent()
    begin = link.clock()
    first_picture = 0.0
    one = _by_transaction(rig, bus, link) if direct else _by_moves(rig, bus, link)
    for step in steps:
        try:
            for size in one(step):
                out.transactions += 1
                out.data += size
        except Refused as refused:
            out.seconds = link.clock() - begin
            raise Stopped(step, refused, out) from refused
        out.steps += 1
        if step.name in DRAWN:
            out.pictures += 1
            first_picture = first_picture if out.pictures > 1 else link.clock()
        if progress is not None:
            progress(out.steps)
    end = link.clock()
    out.seconds = end - begin
    if out.pictures > 1 and end > first_picture:
        out.rate = (out.pictures - 1) / (end - first_picture)
    return out


DRAWN = ("picture", "test picture")
Sender = Callable[[Step], Iterator[int]]


def _by_transaction(rig: Rig, bus: Bus, link: Any) -> Sender:
    """Devices directly on I2C: each step's transactions; what is yielded is their bytes."""
    room = min(bus.driver.longest_write or link.room, link.room)
    targets = {device.name: (rig.target(device), device.address or 0) for device in rig.devices_on(bus)}

    def one(step: Step) -> Iterator[int]:
        target, address = targets[step.device]
        for transfer in target.transfers(step.sends, 0, room):
            for _, behind in transfer.pieces:
                link.write(address, behind)
                yield len(behind)
        if step.wait:
            link.wait(float(step.wait))

    return one


def _place(rig: Rig, step: Step) -> str:
    return next(device.on for device in rig.device if device.name == step.device)


def play(moves: Iterable[Move], bus: Bus, link: Any) -> list[int]:
    """Puts moves on a link, with the rests between them; returns the bytes of each."""
    from ..bus.moves import REST, TICK

    sizes = []
    for move in moves:
        rest = float((move.gap * TICK) - REST)
        if rest > 0:
            link.wait(rest)
        if not BUSES[bus.kind].addressed:
            if len(move.words) or move.levels:
                link.move(move)
                sizes.append(len(move.words) * (-(-move.bits // 8)))
        elif move.address is not None and len(move.words):
            link.write(move.address, move.words.astype("uint8").tobytes())
            sizes.append(len(move.words))
    return sizes


def _by_moves(rig: Rig, bus: Bus, link: Any) -> Sender:
    """Any other bus, and whatever is behind bridges: moves, with the parts' own times between them."""
    from ..rig.encoder import RigEncoder

    mover = RigEncoder(rig)

    def one(step: Step) -> Iterator[int]:
        if step.levels and BUSES[bus.kind].addressed and rig.bridge_named(_place(rig, step)) is None:
            raise HushedError(
                f"'{step.text}' sets a line beside the bus, which this link does not drive", where=step.place,
                remedy="take the step out, and drive the line by hand",
            )  # fmt: skip
        yield from play(mover.moves([step], bus), bus, link)
        # A rest behind the last step is kept too, as waits of the sequence are.
        if step.wait:
            link.wait(float(step.wait))
            mover.rest -= step.wait

    return one
