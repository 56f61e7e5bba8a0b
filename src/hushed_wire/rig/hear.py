"""Everything that a capture says by a rig: the words on each bus and behind each bridge, and the commands that parts make of them."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import partial
from typing import Any

from ..bus.matrix import Scan
from ..part import commands
from ..part.chips import model_for
from ..trace import Trace
from .channel import Channel
from .pipeline import DeviceReading, started
from .ports import States
from .schema import Rig

__all__ = ["Hearing", "hear"]

OPENING = 4  # steps with which set-ups begin


@dataclass
class Hearing:
    """channels: buses first, then what is behind their bridges. devices: the displays. scans: how scanned ones are driven.

    driven: what each bridge drives.
    """

    trace: Trace
    rig: Rig
    channels: list[Channel] = field(default_factory=list)
    devices: list[DeviceReading] = field(default_factory=list)
    scans: dict[str, Scan] = field(default_factory=dict)
    driven: dict[str, States] = field(default_factory=dict)


def hear(trace: Trace, rig: Rig) -> Hearing:
    """Decodes every bus of a rig whose lines were captured. Raises HushedError where none was."""
    from ..errors import HushedError
    from .follow import payloads

    out = Hearing(trace, rig)
    missing: HushedError | None = None
    for bus in rig.bus:
        lights: dict[str, Any] = {}
        try:
            found = payloads(trace, rig, bus, lights, out.channels, out.scans, out.driven)
        except HushedError as error:
            missing = missing or error  # another bus of the rig may have been captured
            continue
        for device in rig.device:
            if device.name not in found:
                continue
            target = rig.target(device)
            chips = [commands(target.part, own) for own in found[device.name]]
            up = all(started(target.part, own) for own in chips) and _from_reset(trace, rig, device, chips)
            recall = partial(_recalled, target.part, chips, float(trace.tick), up, out.scans.get(device.name))
            reading = DeviceReading(device, target.part, target.panel, chips[0], recall, up, lights.get(device.name))
            reading.chips = chips
            out.devices.append(reading)
    if not out.channels and missing is not None:
        raise missing
    return out


def _recalled(part: Any, chips: list[Any], tick: float, up: bool, scan: Scan | None) -> Any:
    memory = model_for(part, chips, tick, up)
    if scan is not None:
        memory.scan = scan
    return memory


def _from_reset(trace: Trace, rig: Rig, device: Any, chips: list[Any]) -> bool:
    """Whether nothing speaks against a set-up being there from its beginning: a reset line that is captured has to move, unless a

    command resets the part, or it begins as set-ups do."""
    line = rig.way_to(device)[0].lines.get("reset", "")
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
