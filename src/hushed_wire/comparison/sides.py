"""One side of a comparison: what a driver told each display, from a capture, a sequence or pasted bytes, in one form.

Buses, lines, bridges and speeds are left behind here: what remains of a display is what reached it, word for word, the times at which it
did, and the models that say what it is set to and what it shows.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from ..part.bring_up import set_up_in
from ..part.chips import Chips, model_for
from ..part.describe import Panel, Part
from ..part.engine import Commands, commands
from ..part.framing import payload_of
from ..part.glass import Glass
from ..part.model import NEVER, Model
from ..part.wrap import WRAPS, Send
from ..rig.reading import DeviceReading, Reading
from ..sequence.target import Target
from ..sequence.timed import Timed

__all__ = ["Side", "Told", "side_of_bytes", "side_of_reading", "side_of_sequence"]

NANO_EXACT = Fraction(1, 10**9)
NANO = 1e-9  # seconds a tick of what has no capture


@dataclass
class Told:
    """What one display was told. chips: the commands of each of its chips. tick: seconds. timed: its times mean something.

    started: its set-up is there from the beginning. resets: a line reset it. places: where in a source each word of a chip comes from
    ("driver.hush:12"); none of captures.
    """

    name: str
    part: Part
    panel: Panel
    framing: str
    chips: list[Commands]
    tick: float
    timed: bool
    started: bool
    resets: bool = False
    places: list[list[str]] = field(default_factory=list)
    reading: DeviceReading | None = None

    @cached_property
    def memory(self) -> Model | Chips:
        """What it holds over time."""
        if self.reading is not None:
            return self.reading.memory
        return model_for(self.part, self.chips, self.tick, self.started, self.panel)

    def glass(self, when: int | None = None) -> Glass | None:
        """What its panel shows at a tick (None: at the end); None where it has no panel."""
        if not self.panel.width:
            return None
        if self.reading is not None:
            return self.reading.glass(when)
        glass: Glass = self.memory.glass(self.panel, NEVER if when is None else when, self.started)
        return glass


@dataclass
class Side:
    """A capture, a sequence or bytes. kind: which of them. notes: what is to be said of how it was read."""

    path: str
    kind: str
    devices: list[Told] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)


def side_of_reading(path: str, reading: Reading) -> Side:
    """Of a capture as a rig reads it."""
    out = Side(path, "capture")
    for device in reading.devices:
        target = reading.rig.target(device.device)
        bus = reading.rig.way_to(device.device)[0]
        line = bus.lines.get("reset", "")
        names = reading.trace.names
        resets = line in names and len(reading.trace.edges(names.index(line)).times) > 1
        out.devices.append(
            Told(
                device.device.name, device.part, device.panel, target.framing, device.chips, float(reading.trace.tick), True,
                device.started, resets, reading=device,
            )
        )  # fmt: skip
    return out


def side_of_sequence(path: str, steps: Sequence[Timed], targets: Sequence[Target]) -> Side:
    """Of a sequence on its timeline."""
    out = Side(path, "sequence")
    for target in targets:
        own = [entry for entry in steps if entry.step.device == target.name]
        if not own:
            continue
        chips, places = [], []
        for chip in range(target.chips):
            sends = [(entry, send) for entry in own for send in _for_chip(target, entry, chip)]
            payload = payload_of((0, send) for _, send in sends)
            start, end = _spread(own, target, chip)
            chips.append(commands(target.part, replace(payload, start=start, time=end, end=end)))
            places.append([entry.step.place for entry, send in sends for _ in range(len(send.raw))])
        resets = any(role == "reset" and not high for entry in own for role, high in entry.step.levels)
        started = target.part.memory.kind == "scanned" or all(set_up_in(target.part, chip.names) for chip in chips)
        out.devices.append(
            Told(target.name, target.part, target.panel, target.framing, chips, NANO, True, started, resets, places)
        )
    return out


def _for_chip(target: Target, entry: Timed, chip: int) -> list[Send]:
    """What a step sends to one chip; in a chain with the no-ops that it gets while others are meant."""
    if target.chain == 1 or not WRAPS[target.framing].chains:
        return [Send(send.data, send.raw) for send in entry.step.sends if not send.chips or send.chips >> chip & 1]
    at = 2 * (target.chain - 1 - target.position - chip)
    return [Send(False, transfer.pieces[0][1][at : at + 2]) for transfer in target.transfers(entry.step.sends)]


def _spread(steps: Sequence[Timed], target: Target, chip: int) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """(n,) ticks at which the words for a chip begin and end: those of a step evenly over the time that it takes."""
    out: list[NDArray[np.float64]] = [np.empty((2, 0))]
    for entry in steps:
        count = sum(len(send.raw) for send in _for_chip(target, entry, chip))
        at = float(entry.start / NANO_EXACT) + float(entry.took / NANO_EXACT) * np.arange(count + 1) / max(1, count)
        out.append(np.stack([at[:-1], at[1:]]))
    start, end = np.round(np.concatenate(out, axis=1)).astype(np.int64)
    return start, end


def side_of_bytes(path: str, sends: Sequence[Send], target: Target, notes: Sequence[str] = ()) -> Side:
    """Of bytes without wires: they have an order and no times."""
    payload = payload_of(list(enumerate(sends)))
    payload = replace(payload, time=np.arange(len(payload)), start=np.arange(len(payload)), end=np.arange(len(payload)))
    own = commands(target.part, payload)
    told = Told(target.name, target.part, target.panel, target.framing, [own], NANO, False, set_up_in(target.part, own.names))
    return Side(path, "bytes", [told], list(notes))
