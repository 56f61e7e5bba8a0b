"""Drivers of LEDs without a chip: a frame in RAM, and a function that lights the next row, called at a steady pace.

A row goes dark before the next one's columns are set, so that none glows in another's place. Panels with row groups are shifted full while the
group before is lit, and dark only while the registers take over.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import Any

from ..errors import HushedError
from ..part.describe import turns_of
from ..rig.schema import Bus, Device, Rig, lamps_of
from ..sequence.expand import steps_of_statement
from ..sequence.parse import Statement
from ..sequence.state import State
from ..sequence.target import Target
from ..units import parse

__all__ = ["Shown", "Scan", "scan_of", "scan_values"]

USUAL = Fraction(120)  # frames a second where the rig does not say: twice what looks steady


@dataclass(frozen=True)
class Shown:
    """A picture as it lies in the frame. wait: microseconds for which it stands."""

    said: str
    raw: bytes
    wait: int


@dataclass
class Scan:
    """A driver of scanned LEDs. frames: a second. turns: rows, digits or groups that take turns."""

    rig: Rig
    device: Device
    bus: Bus
    target: Target
    source: str
    shown: list[Shown]
    frames: Fraction
    turns: int

    def leave_out_pictures(self) -> None:
        """Without what the sequence shows."""
        self.shown = []


def scan_of(rig: Rig, device: Device, statements: Sequence[Statement], folder: Path, source: str) -> Scan:
    """The driver of one scanned display. Raises HushedError for what cannot be scanned so."""
    bus, bridges = rig.way_to(device)
    if bridges:
        raise HushedError(
            "LEDs behind registers are not emitted", where=source, remedy="put them on pins of the micro-controller"
        )
    target = rig.target(device)
    state = State({own.name: rig.target(own) for own in rig.device}, folder, target)
    shown: list[Shown] = []
    for statement in statements:
        for step in steps_of_statement(state, statement):
            if step.device != device.name:
                continue
            wait = int(step.wait * 10**6)
            if step.sends:
                shown.append(Shown(step.text.strip(), step.sends[-1].raw, wait))
            elif shown and wait:
                shown[-1] = Shown(shown[-1].said, shown[-1].raw, shown[-1].wait + wait)
    # What is drawn over at once is never seen.
    shown = [own for own, behind in zip(shown, [*shown[1:], None], strict=True) if own.wait or behind is None]
    if target.panel.form == "colours":
        raise HushedError(
            "drivers of colour panels that are scanned are not emitted",
            where=source, remedy="hushed-wire rehearse plays their wires, with eight bits of each colour",
        )  # fmt: skip
    turns = turns_of(target.part, target.panel)
    return Scan(rig, device, bus, target, source, shown, parse(bus.clock, "Hz", "clock") if bus.clock else USUAL, turns)


def scan_values(made: Scan, pins: Mapping[str, Any]) -> dict[str, Any]:
    """What the templates of scanned LEDs are filled in with. pins: by role."""
    panel, groups = made.target.panel, made.target.part.memory.groups
    lamps = lamps_of(made.target, made.bus)
    digits = panel.form == "digits"
    wide = 1 if digits else -(-panel.width // 8)
    rate = made.frames * made.turns
    out: dict[str, Any] = {
        "turns": made.turns, "row_bytes": wide, "frame_rows": panel.width if digits else panel.height, "width": panel.width, "height": panel.height,
        "digits": digits, "scan_hz": int(rate), "frames_hz": int(made.frames), "period_us": int(10**6 / rate), "grouped": groups is not None,
        "row_on": lamps.row == 1, "column_on": lamps.column == 1,
    }  # fmt: skip
    if groups is not None:
        out |= {
            "group_rows": panel.height // 4, "bottom_first": groups.first_row == "bottom", "left_first": groups.first_column == "left",
            "address_pins": [role for role in ("a", "b", "c") if role in pins],
        }  # fmt: skip
        return out
    rows = sorted((int(found[1]), role) for role in pins if (found := re.fullmatch(r"(?:row|digit)(\d+)", role)))
    columns: list[tuple[str, int, int]] = []
    for role in pins:
        if found := re.fullmatch(r"column(\d+)", role):
            number = int(found[1])
            columns.append((role, number // 8, 0x80 >> number % 8))
        elif found := re.fullmatch(r"segment_(\w+)", role):
            columns.append((role, 0, 1 << panel.segments.index(found[1])))
    if len(rows) < made.turns:
        raise HushedError(
            f"{made.turns} rows take turns, and the rig has lines for {len(rows)}",
            where=made.source,
            remedy="add them to the bus's lines",
        )
    return out | {"row_pins": [role for _, role in rows[: made.turns]], "column_pins": columns}
