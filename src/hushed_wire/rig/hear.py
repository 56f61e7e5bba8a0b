"""Everything that a capture says by a rig: the words on each bus and behind each bridge, and the commands that parts make of them."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.i2c_address import Addresses
from ..bus.matrix import Scan
from ..bus.words import END, START, STOP, Transactions, Words
from ..part import commands
from ..part.chips import model_for
from ..trace import Trace
from .pipeline import DeviceReading, started
from .schema import Rig

__all__ = ["Channel", "Hearing", "hear", "runs"]


@dataclass(eq=False)
class Channel:
    """Words that go one way together: a bus, one select of it, or what a bridge's outputs make.

    bits: of a word. dc: (n,) level of D/C or RS, None without one. read: (n,). who: addresses, on I2C. select: its role, or "".
    """

    bus: str
    kind: str
    select: str
    words: Words
    table: Transactions
    bits: int = 8
    dc: NDArray[np.uint8] | None = None
    read: NDArray[np.bool_] | None = None
    who: Addresses | None = None

    @property
    def digits(self) -> int:
        """Hex digits of a word."""
        return max(1, -(-self.bits // 4))


@dataclass
class Hearing:
    """channels: buses first, then what is behind their bridges. devices: the displays. scans: how scanned ones are driven."""

    trace: Trace
    rig: Rig
    channels: list[Channel] = field(default_factory=list)
    devices: list[DeviceReading] = field(default_factory=list)
    scans: dict[str, Scan] = field(default_factory=dict)


def hear(trace: Trace, rig: Rig) -> Hearing:
    """Decodes every bus of a rig whose lines were captured. Raises HushedError where none was."""
    from ..errors import HushedError
    from .follow import payloads

    out = Hearing(trace, rig)
    missing: HushedError | None = None
    for bus in rig.bus:
        lights: dict[str, Any] = {}
        try:
            found = payloads(trace, rig, bus, lights, out.channels, out.scans)
        except HushedError as error:
            missing = missing or error  # another bus of the rig may have been captured
            continue
        for device in rig.device:
            if device.name not in found:
                continue
            target = rig.target(device)
            chips = [commands(target.part, own) for own in found[device.name]]
            up = all(started(target.part, own) for own in chips)
            memory = model_for(target.part, chips, float(trace.tick), up)
            if device.name in out.scans:
                memory.scan = out.scans[device.name]
            reading = DeviceReading(device, target.part, target.panel, chips[0], memory, up, lights.get(device.name))
            reading.chips = chips
            out.devices.append(reading)
    if not out.channels and missing is not None:
        raise missing
    return out


def runs(words: Words, *same: NDArray[Any]) -> Transactions:
    """Transactions of a bus without selects: words of one kind (equal in all columns of `same`) without a rest between them."""
    count = len(words)
    if not count:
        none = np.empty(0, np.int64)
        return Transactions(none, none, none, none, none.astype(np.uint8), none.astype(np.uint8), none.astype(np.uint8))
    step = np.diff(words.effect)
    pause = 4 * int(np.median(step)) if len(step) else 0
    cut = step > max(1, pause)
    for column in same:
        cut |= column[1:] != column[:-1]
    first = np.concatenate([[0], np.flatnonzero(cut) + 1]).astype(np.int64)
    last = np.append(first[1:], count)
    kinds = np.ones(len(first), np.uint8)
    table = Transactions(first, last, words.start[first], words.end[last - 1], kinds * START, kinds * STOP, kinds * 0)
    table.ended[-1:] = END
    return table
