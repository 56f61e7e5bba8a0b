"""A whole capture as a rig reads it: what all buses said, and what each display was told and shows."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property, partial
from typing import Any

import numpy as np

from ..bus.base import BESIDE
from ..bus.channel import Channel, Said
from ..bus.scan import Scan
from ..bus.words import CUT, Held
from ..errors import HushedError
from ..part import Commands, Panel, Part
from ..part.bring_up import set_up_in
from ..part.chips import Chips, model_for
from ..part.expander import States, output_trace
from ..part.framing import Payload
from ..part.glass import Glass
from ..part.model import NEVER, Model
from ..part.output_pins import pins_of
from ..part.scanned import ScannedMemory
from ..room import give_back
from ..trace import Trace, joined
from ..trace.model import Samples
from .decoder import Decoded, RigDecoder, Told
from .schema import Device, Rig

__all__ = ["DeviceReading", "Reading", "as_piece", "decode", "hear"]

OPENING = 4  # steps with which set-ups begin
NOBODY: Mapping[str, Callable[[Any], None]] = {}
FEW_STEPS = 2  # a set-up of no more than these may be part of each update
ROOM_OF_A_WORD, OFTEN = 32, 32 << 20  # bytes, about, and after how many of them memory is given back
PIECE = 1 << 19  # changes that a whole trace is decoded in: what they need on the way fits into the cache


@dataclass
class DeviceReading:
    """One device's share of a capture. light: works out the trace and line that switch its backlight, None where none does.

    started: its set-up was captured, so what was not set has its reset value. chips: the commands of each of its chips. recall: works
    out what its memory holds, when somebody asks.
    """

    device: Device
    part: Part
    panel: Panel
    chips: list[Commands]
    recall: Callable[[], Model | Chips]
    started: bool
    lit_by: Callable[[], tuple[Trace, int] | None] = lambda: None

    @property
    def commands(self) -> Commands:
        """Those of its first chip."""
        return self.chips[0]

    def __len__(self) -> int:
        return sum(map(len, self.chips))

    @property
    def shows(self) -> bool:
        """Whether it has a glass of which it is known how it lies in memory."""
        return bool(self.panel.width)

    @cached_property
    def memory(self) -> Model | Chips:
        """What its memory holds over time."""
        return self.recall()

    @cached_property
    def light(self) -> tuple[Trace, int] | None:
        """The trace and line that switch its backlight."""
        return self.lit_by()

    def glass(self, when: int | None = None) -> Glass:
        """What the panel shows at a tick (None: at the end)."""
        glass = self.memory.glass(self.panel, NEVER if when is None else when, self.started)
        if self.light is not None:
            trace, line = self.light
            level = int(trace.level_at(line, np.array([trace.end if when is None else when]))[0])
            glass.backlight = None if level > 1 else level == 1
        return glass


@dataclass
class Reading:
    """A capture as a rig reads it. channels: buses first, then what is behind their bridges. scans: how scanned displays are driven.

    driven: what each bridge drives. absent: buses of the rig whose lines were not captured, and why.
    """

    trace: Trace
    rig: Rig
    channels: list[Channel] = field(default_factory=list)
    devices: list[DeviceReading] = field(default_factory=list)
    scans: dict[str, Scan] = field(default_factory=dict)
    driven: dict[str, States] = field(default_factory=dict)
    absent: dict[str, HushedError] = field(default_factory=dict)

    def on(self, bus: str) -> list[Channel]:
        """The channels of a bus, or of what a bridge's outputs make."""
        return [channel for channel in self.channels if channel.bus == bus]


def decode(trace: Trace, rig: Rig, only: str = "", heard: Channel | None = None) -> Reading:
    """Decodes every bus of a rig whose lines were captured. only: one bus. heard: what the rig's bus says in the whole trace, where that is
    known already. Raises HushedError where none was."""
    trace = trace.turned_as(rig.turned)
    decoder = RigDecoder(rig, trace.names, trace.tick, only, heard=heard)
    pieces = _Pieces()
    for piece in trace.pieces(PIECE) if heard is None else [trace]:
        pieces.take(decoder.feed(piece))
    pieces.take(decoder.finish())
    return _whole(trace, rig, pieces, decoder.absent)


def hear(
    blocks: Iterable[Trace | Samples],
    names: tuple[str, ...],
    tick: Fraction,
    rig: Rig,
    lines: Collection[int] = (),
    told: Mapping[str, Callable[[Any], None]] = NOBODY,
) -> Reading:
    """The same of a capture as it is read. Of its trace no more is kept than lines that play no part in words (a reset, a backlight), and those
    that are asked for: on all others nothing happens in it. told: by bus, who wants what its decoder goes by, too."""
    decoder = RigDecoder(rig, names, tick)
    for bus, who in told.items():
        decoder.tell(bus, who)
    beside = {bus.lines[role] for bus in rig.bus for role in BESIDE if role in bus.lines}
    beside |= {bus.lines[role] for bus in rig.bus for bridge in rig.bridge for role in bridge.direct if role in bus.lines}
    mask = sum(1 << line for line in {*lines, *(names.index(line) for line in beside if line in names)})
    pieces = _Pieces()

    def kept() -> Iterator[Trace]:
        for block in blocks:
            turned = block.turned_as(rig.turned)
            pieces.take(decoder.feed(turned))
            yield turned.only(mask)

    thin = joined(kept())
    pieces.take(decoder.finish())
    return _whole(thin, rig, pieces, decoder.absent)


class _Pieces:
    """What pieces of a capture said, put together as they come: nothing is held twice."""

    def __init__(self) -> None:
        self.said: dict[tuple[str, int], Said] = {}
        self.driven: dict[str, list[States]] = {}
        self._spoken: dict[tuple[str, int], list[tuple[Commands, bool]]] = {}
        self._payloads: dict[tuple[str, int], Held] = {}
        self._room = 0  # bytes of the pieces since memory was given back

    def take(self, piece: Decoded) -> None:
        """The next piece."""
        self._room += sum(ROOM_OF_A_WORD * len(channel.words) for channel in piece.channels)
        if self._room > OFTEN:
            give_back()
            self._room = 0
        for channel in piece.channels:
            self.said.setdefault((channel.bus, channel.number), Said()).take(channel)
        for bridge in piece.driven:
            self.driven.setdefault(bridge.bridge, []).append(bridge.states)
        for one in piece.commands:
            own = self._payloads.setdefault((one.device, one.chip), Held())
            commands = replace(one.commands, payload=one.commands.payload.none(), first=one.commands.first + own.count)
            own.add(**one.commands.payload.columns)
            self._spoken.setdefault((one.device, one.chip), []).append((commands, one.going_on))

    def commands(self, part: Part, key: tuple[str, int]) -> Commands:
        """Those of one chip of a device."""
        out = Commands.join(part, self._spoken.pop(key, []))
        held = self._payloads.pop(key, None)
        return out if held is None else replace(out, payload=Payload(**held.whole()))


def as_piece(reading: Reading) -> Decoded:
    """A whole reading as one piece of it."""
    told = [
        Told(device.device.name, chip, len(device.chips), own, False)
        for device in reading.devices
        for chip, own in enumerate(device.chips)
    ]
    return Decoded(reading.channels, told)


def _whole(trace: Trace, rig: Rig, pieces: _Pieces, absent: dict[str, HushedError]) -> Reading:
    """What the pieces said of a trace."""
    out = Reading(trace, rig, absent=absent)
    buses = [bus.name for bus in rig.bus]
    order = sorted(pieces.said, key=lambda key: buses.index(key[0]) if key[0] in buses else len(buses))
    out.channels = [pieces.said.pop(key).whole() for key in order]
    out.driven = {bridge: States.join(states) for bridge, states in pieces.driven.items()}
    for bus in rig.bus:
        if bus.name in absent or not any(channel.bus == bus.name for channel in out.channels):
            continue
        for device in rig.device:
            if rig.way_to(device)[0] is bus:
                out.devices.append(_device_reading(out, device, pieces))
    return out


def _device_reading(reading: Reading, device: Device, pieces: _Pieces) -> DeviceReading:
    rig, trace, target = reading.rig, reading.trace, reading.rig.target(device)
    chips = [pieces.commands(target.part, (device.name, chip)) for chip in range(target.chips)]
    up = all(set_up_in(target.part, own.names) for own in chips) and _from_reset(trace, rig, device, chips, reading.channels)
    up = up or (target.part.memory.kind == "chain" and any(len(own) for own in chips))  # each update is a whole one
    scan = None
    if target.part.memory.kind == "scanned":
        own = [other.name for other in rig.device if other.on == device.on]
        scan = reading.on(device.on)[own.index(device.name)].scan
        if scan is not None:
            reading.scans[device.name] = scan
    recall = partial(_recalled, target.part, target.panel, chips, float(trace.tick), up, scan)
    return DeviceReading(device, target.part, target.panel, chips, recall, up, partial(_light, reading, device))


def _recalled(part: Part, panel: Panel, chips: list[Commands], tick: float, up: bool, scan: Scan | None) -> Model | Chips:
    memory = model_for(part, chips, tick, up, panel)
    if isinstance(memory, ScannedMemory):
        memory.scan = scan
    return memory


def _light(reading: Reading, device: Device) -> tuple[Trace, int] | None:
    """The trace and line that switch a device's backlight: of the capture, or an output of the bridge that it hangs on."""
    trace, bridge = reading.trace, reading.rig.bridge_named(device.on)
    if bridge is None:
        line = reading.rig.bus_named(device.on).lines.get("backlight", "")
        return (trace, trace.index(line)) if line in trace.names else None
    if "backlight" in bridge.direct:
        return trace, trace.index(reading.rig.way_to(device)[0].lines["backlight"])
    if "backlight" not in bridge.drives or bridge.name not in reading.driven:
        return None
    pin = pins_of(bridge.chip, bridge.count)[bridge.drives["backlight"]]
    outputs = output_trace({"backlight": pin}, reading.driven[bridge.name], trace.end, trace.tick, trace.sample, trace.start)
    return outputs, 0


def _cut_ahead(channels: list[Channel], bus: str, chips: list[Commands]) -> bool:
    """Whether the first transfer on a bus is one whose beginning was not captured, and the device was told nothing ahead of it: a call on a bus with
    addresses; on others only of a part whose set-up is no more than what drivers send with each picture."""
    own = next((channel for channel in channels if channel.bus == bus and len(channel.table)), None)
    if own is None:
        return False
    if own.who is None:
        if int(own.table.began[0]) != CUT or any(len(chip.part.start_up) > FEW_STEPS for chip in chips):
            return False
    elif int(own.who.address[0]) >= 0:
        return False
    first = min((int(chip.payload.start[0]) for chip in chips if len(chip)), default=None)
    return first is not None and first >= int(own.table.start[0])


def _from_reset(trace: Trace, rig: Rig, device: Device, chips: list[Commands], channels: list[Channel]) -> bool:
    """Whether nothing speaks against a set-up being there from its beginning: a reset line that is captured has to move, unless a command
    resets the part, or it begins as set-ups do. A bus that was in the middle of a call when the capture began may have told it anything."""
    bus = rig.way_to(device)[0]
    if _cut_ahead(channels, bus.name, chips):
        return False
    line = bus.lines.get("reset", "")
    if line not in trace.names or len(trace.edges(trace.names.index(line)).times) > 1:
        return True
    part = chips[0].part
    opening = {
        line.split()[0] for line in [*part.start, *(line for lines in part.start_by.values() for line in lines)][:OPENING] if line
    }
    for own in chips:
        listed = [command for _, command, _ in own.listed() if command is not None]
        if any(command.effect == "reset" for command in listed) or (listed and listed[0].name in opening):
            return True
    return False
