"""One capture of any bus, the rig it is read by, and how much sense a part makes of what it gets.

The checks of sequences (`sequence.examine`) are held against captured commands by the same code: `timed` makes steps of them.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property

import numpy as np

from ..bus.words import END
from ..part import Commands, Part
from ..part.wrap import Send
from ..rig import DeviceReading, Rig, Setup
from ..rig.hear import Hearing, hear
from ..rig.schema import Bus
from ..sequence.examine import RULES as SEQUENCE_RULES
from ..sequence.examine import Timed
from ..sequence.listing import items_of
from ..sequence.target import Step
from ..trace import Trace

__all__ = ["CLOCKS", "EVERYTHING", "GAIN", "POWERED", "AnyCase", "broken", "sense", "timed", "unmet"]

POWERED = Fraction(3600)  # seconds that the part is taken to be powered when the capture starts: power-on is not in it
MOST_RULED = 400  # commands to which a part's rules are held under each hypothesis
GAIN = 0.4  # by how much a wiring has to make more sense to be named
CLOCKS = {"spi": ("sck",), "parallel": ("e", "wr", "e2"), "shift": ("clock",), "i2c": ("scl",), "matrix": ()}


@dataclass
class AnyCase:
    """trace: the capture. plan: the rig, given or assumed. ruled_out: causes that were looked for in vain."""

    trace: Trace
    plan: Setup
    ruled_out: list[dict[str, str]] = field(default_factory=list)

    @property
    def rig(self) -> Rig:
        """The rig it is read by."""
        return self.plan.rig

    @property
    def bus(self) -> Bus:
        """The bus itself."""
        return self.rig.bus[0]

    @cached_property
    def hearing(self) -> Hearing:
        """What was said."""
        return hear(self.trace, self.rig)

    @cached_property
    def unfinished(self) -> bool:
        """The capture ends in the middle of traffic."""
        if any(note.code == "capture.cut-short" for note in self.trace.notes):
            return True
        told = [channel for channel in self.hearing.channels if channel.select or channel.kind == "i2c"]
        return any(len(channel.table) and int(channel.table.ended[-1]) == END for channel in told)

    def line(self, role: str) -> int | None:
        """The captured line that plays a role, None where none does."""
        name = self.bus.lines.get(role, "")
        return self.trace.names.index(name) if name in self.trace.names else None

    def moves(self, role: str) -> int:
        """How often the line of a role changes."""
        line = self.line(role)
        if line is None:
            return 0
        if line not in self._counted:
            self._counted[line] = len(self.trace.edges(line).times) - 1
        return self._counted[line]

    @cached_property
    def _counted(self) -> dict[int, int]:
        """Changes of the lines that were asked for: many rules ask for the same."""
        return {}

    @cached_property
    def words(self) -> int:
        """Words on the bus itself."""
        return sum(len(channel.words) for channel in self.hearing.channels if channel.bus == self.bus.name)

    def rule_out(self, code: str, because: str) -> None:
        """Notes a cause that was looked for and is not there."""
        self.ruled_out.append({"code": code, "because": because})


EVERYTHING = [
    "setup.display-off", "setup.charge-pump-off", "setup.wrong-geometry", "setup.shutdown", "setup.test-mode", "setup.scan-limit", "setup.decode-mode",
    "setup.backlight-off", "setup.decimal-for-hex", "setup.step-missing", "setup.interface-width", "setup.pixel-format",
    "setup.contrast-low", "setup.step-order",
    "setup.unknown-command", "setup.orientation", "setup.undocumented-value", "timing.wait-short", "timing.reset-short", "picture.blank", "picture.partial",
    "picture.outside-panel", "picture.column-offset", "picture.row-offset", "picture.cell-off-by-one", "capture.unlike-rig", "frame.truncated-word",
    "frame.bit-slip", "frame.nibble-slip", "frame.select-broken", "setup.wrong-controller", "timing.pulse-short", "timing.setup-short", "timing.hold-short",
]  # fmt: skip


def sense(part: Part, own: list[Commands]) -> float:
    """How much sense commands make, from 0 to 1: known and documented ones, steps of a bring-up, text that can be read."""
    count = sum(len(chip) for chip in own)
    if not count:
        return 0.0
    strange = odd = 0
    seen: set[str] = set()
    readable: list[float] = []
    for chip in own:
        for index in range(min(len(chip), 400)):
            kind = int(chip.kind[index])
            if kind < 0:
                strange += chip.name_of(index) != "data"
                if part.memory.kind == "character" and chip.name_of(index) == "data":
                    raw = np.frombuffer(chip.bytes_of(index), np.uint8)
                    readable.append(float(np.mean(((raw >= 0x20) & (raw < 0x80)) | (raw < 0x20) | (raw >= 0xA1))))
                continue
            seen.add(part.command[kind].name)
            odd += bool(chip.fields_of(index)[1])
    looked = sum(min(len(chip), 400) for chip in own)
    steps = len(seen & set(part.start_up)) / max(1, len(set(part.start_up)))
    text = float(np.mean(readable)) if readable else 1.0
    return max(0.0, 0.4 * (1 - strange / looked) ** 2 + 0.1 * (1 - odd / looked) + 0.35 * steps + 0.15 * text**2)


def unmet(case: AnyCase, reading: DeviceReading, own: list[Commands]) -> float:
    """A tenth for each rule of the part that its bring-up breaks, at most three; nothing where there is no bring-up, or too much to look at."""
    target = case.rig.target(reading.device)
    count = 0
    for chip in own:
        if 0 < len(chip) <= MOST_RULED:
            steps = timed(case, reading, chip, lines=False)
            found = (one for rule in SEQUENCE_RULES for one in rule(target, steps))
            count += len({one.code for one in found if one.severity == "fault" and one.code.startswith("setup.")})
    return 0.1 * min(3, count)


def broken(case: AnyCase, reading: DeviceReading) -> float:
    """Half the share of transfers that end in mid-word, and of clocks that come while nobody is selected."""
    if case.bus.kind != "spi":
        return 0.0
    out = 0.0
    for channel in case.hearing.channels:
        if channel.bus == case.bus.name and channel.select and len(channel.table):
            out = max(out, float(np.mean(channel.table.spare > 0)))
    line, selects = case.line("sck"), {channel.select for channel in case.hearing.channels if channel.bus == case.bus.name}
    if line is not None and len(selects) == 1 and "" not in selects:
        clocks = case.moves("sck") / 2
        inside = sum(len(c.words) * c.bits + int(c.table.spare.sum()) for c in case.hearing.channels if c.bus == case.bus.name)
        out = max(out, 1 - inside / clocks) if clocks else out
    return 0.5 * out


def timed(case: AnyCase, reading: DeviceReading, own: Commands, lines: bool = True) -> list[Timed]:
    """Captured commands, and the edges of the reset line, as the steps of a sequence."""
    payload, tick = own.payload, case.trace.tick
    slack = case.trace.resolution() * tick  # nothing is held against a driver that sampling could have made
    runs: list[Send] = []
    edges = np.flatnonzero(payload.data[1:] != payload.data[:-1]) + 1
    for first, last in zip([0, *edges.tolist()], [*edges.tolist(), len(payload)], strict=True):
        runs.append(Send(bool(payload.data[first]), payload.value[first:last].tobytes()))
    out: list[Timed] = []
    for item in items_of(reading.part, runs):
        first, last = item.first, item.first + max(1, len(item.raw)) - 1
        start, end = Fraction(int(payload.start[first])) * tick, Fraction(int(payload.time[last])) * tick
        send = Send(bool(payload.data[first]), item.raw)
        step = Step("", item.name, reading.device.name, item.name, (send,), fields=item.fields)
        out.append(
            Timed(
                step,
                POWERED + start + 2 * slack,
                max(Fraction(0), end - start - 2 * slack),
                [[0] * max(1, len(item.raw))],
                [item],
            )
        )
    line = case.line("reset") if lines else None
    if line is not None:
        edges_of = case.trace.edges(line)
        for when, level in zip(edges_of.times[1:].tolist(), edges_of.level[1:].tolist(), strict=True):
            if level < 2:
                step = Step("", "reset", reading.device.name, "reset", levels=(("reset", bool(level)),))
                out.append(Timed(step, POWERED + Fraction(when) * tick + (slack if level else -slack), Fraction(0), [], []))
    out.sort(key=lambda entry: entry.start)
    return out
