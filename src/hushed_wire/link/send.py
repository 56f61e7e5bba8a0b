"""Sends the steps of a sequence over a link, with their waits, and stops at the first refusal."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from ..errors import HushedError
from ..part.wrap import transfers
from ..rig.schema import Rig, the_bus
from ..sequence import Step
from .base import Link, Refused

__all__ = ["Sent", "Stopped", "send"]


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


def send(steps: list[Step], rig: Rig, link: Link, progress: Callable[[int], None] | None = None) -> Sent:
    """Sends all steps. Raises Stopped at the first refusal, BusHeld ahead of the first step, LinkLost when the link goes."""
    link.check()
    bus = the_bus(rig)
    devices = {device.name: device for device in rig.devices_on(bus)}
    room = min(bus.driver.longest_write or link.room, link.room)
    out = Sent()
    begin = link.clock()
    first_picture = 0.0
    for step in steps:
        device = devices.get(step.device)
        if device is None or device.address is None:
            raise HushedError(
                f"device '{step.device}' is not on bus '{bus.name}'", where=step.place, remedy="give the rig of its own bus"
            )
        target = rig.target(device)
        try:
            for transfer in transfers(target.framing, step.sends, 0, room):
                for _, behind in transfer.pieces:
                    link.write(device.address, behind)
                    out.transactions += 1
                    out.data += len(behind)
        except Refused as refused:
            out.seconds = link.clock() - begin
            raise Stopped(step, refused, out) from refused
        if step.wait:
            link.wait(float(step.wait))
        out.steps += 1
        if step.name == "picture":
            out.pictures += 1
            first_picture = first_picture if out.pictures > 1 else link.clock()
        if progress is not None:
            progress(out.steps)
    end = link.clock()
    out.seconds = end - begin
    if out.pictures > 1 and end > first_picture:
        out.rate = (out.pictures - 1) / (end - first_picture)
    return out
