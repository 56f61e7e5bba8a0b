"""What a rig makes of a capture: lines to words to commands to pictures, each step as columns.

`read` runs the chain on a whole trace. The device of a transaction is found by its address; what is for nobody in the rig
is kept as transactions all the same.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus import i2c
from ..bus.i2c_address import Addresses, addresses, refused
from ..bus.words import Transactions
from ..errors import HushedError
from ..part import FRAMINGS, Commands, Panel, Part, commands
from ..part.chips import model_for
from ..trace import Trace
from .schema import Bus, Device, Rig, the_bus

__all__ = ["DeviceReading", "Reading", "lines_of", "read", "read_with", "shown_devices", "started"]

START_UP_SEEN = 3  # distinct start-up commands that show that the set-up was captured


@dataclass
class DeviceReading:
    """One device's share of a capture. light: the trace and line that switch its backlight.

    started: its set-up was captured, so what was not set has its reset value. chips: the commands of each of several chips. recall: works
    out what its memory holds, when somebody asks.
    """

    device: Device
    part: Part
    panel: Panel
    commands: Commands
    recall: Callable[[], Any]
    started: bool
    light: tuple[Trace, int] | None = None
    chips: list[Commands] = field(default_factory=list)

    @cached_property
    def memory(self) -> Any:
        """What its memory holds over time."""
        return self.recall()

    def glass(self, when: int | None = None) -> Any:
        """What the panel shows at a tick (None: at the end)."""
        glass = self.memory.glass(self.panel, from_reset=self.started, **({} if when is None else {"when": when}))
        if self.light is not None and hasattr(glass, "backlight"):
            trace, line = self.light
            level = int(trace.level_at(line, np.array([trace.end if when is None else when]))[0])
            glass.backlight = None if level > 1 else level == 1
        return glass


@dataclass
class Reading:
    """A capture as a rig reads it."""

    trace: Trace
    rig: Rig
    bus: Bus
    scl: int
    sda: int
    decoded: i2c.Decoded
    transactions: Transactions
    addresses: Addresses
    devices: list[DeviceReading]

    def refused(self) -> NDArray[np.bool_]:
        """(n,) words that were not acknowledged, but for the last of a read: a driver ends a read so on purpose."""
        return refused(self.decoded.words, self.transactions, self.addresses)


def lines_of(trace: Trace, bus: Bus) -> tuple[int, int]:
    """Line numbers of SCL and SDA; raises HushedError where the capture lacks a line that the rig names."""
    out = []
    for role in ("scl", "sda"):
        try:
            out.append(trace.index(bus.lines[role]))
        except HushedError as error:
            what = f"the rig's bus '{bus.name}' has {role.upper()} on line '{bus.lines[role]}', which the capture lacks"
            has = ", ".join(trace.names[:12])
            remedy = f"the capture has {has}; correct the rig, or say --line {role}=LINE"
            raise HushedError(what, remedy=remedy) from error
    if out[0] == out[1]:
        raise HushedError("SCL and SDA are the same line", remedy="give each role a line of its own")
    return out[0], out[1]


def read(trace: Trace, rig: Rig) -> Reading:
    """Decodes a trace by a rig."""
    bus = the_bus(rig)
    return read_with(trace, rig, bus, *lines_of(trace, bus))


def shown_devices(trace: Trace, rig: Rig, bus: Bus) -> list[DeviceReading]:
    """The displays of any bus and behind its bridges, as a capture has them."""
    from .hear import hear

    return hear(trace, rig).devices


def started(part: Part, own: Commands) -> bool:
    """Whether a part's set-up was captured."""
    seen = {part.command[kind].name for kind in np.unique(own.kind[own.kind >= 0]).tolist()}
    return len(seen & set(part.start_up)) >= min(START_UP_SEEN, max(1, len(part.start_up)))


def read_with(trace: Trace, rig: Rig, bus: Bus, scl: int, sda: int) -> Reading:
    """Decodes a trace by a rig with these lines as SCL and SDA (diagnosis tries others than the rig's)."""
    decoded = i2c.decode(trace, scl, sda)
    table = decoded.transactions()
    who = addresses(decoded.words, table)
    devices = []
    for device in rig.devices_on(bus):
        target = rig.target(device)
        if target.framing not in FRAMINGS:
            continue
        chosen = np.flatnonzero((who.address == device.address) & ~who.read & who.answered)
        payload = FRAMINGS[target.framing](decoded.words, table, who.first, chosen)
        own = commands(target.part, payload)
        up = started(target.part, own)
        recall = partial(model_for, target.part, [own], float(trace.tick), up)
        devices.append(DeviceReading(device, target.part, target.panel, own, recall, up))
    return Reading(trace, rig, bus, scl, sda, decoded, table, who, devices)
