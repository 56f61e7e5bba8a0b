"""A case: one bus of a rig, the capture, and what several rules need of them, each worked out once.

The capture is decoded once for all cases, and what one rule asks for is kept for the others. How much sense a part makes of what it gets is
measured here, too: by known commands, steps of a bring-up, rules kept, and text that can be read.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np

from ..bus.base import BESIDE, BUSES, BusKind, select_of
from ..bus.changes import excerpt
from ..bus.channel import Channel
from ..bus.i2c_transactions import Addresses
from ..bus.roles import Fit, fit_i2c
from ..bus.scan_roles import COLOURS, coloured
from ..bus.words import CUT, END, Transactions, Words
from ..finding import Finding, finding_of
from ..part import Commands, Part, catalog_names, commands, load
from ..part.readable import readable_runs
from ..part.wrap import Send
from ..rig import DeviceReading, Reading, Rig, Setup
from ..rig.schema import Bridge, Bus
from ..sequence.examine import RULES as SEQUENCE_RULES
from ..sequence.listing import items_of
from ..sequence.target import Step
from ..sequence.timed import Timed
from ..trace import Edges, Trace
from ..trace.measured import Measured
from ..trace.pulses import Pulses
from .gathered import Gathered

__all__ = [
    "GAIN",
    "POWERED",
    "STRANGE",
    "Case",
    "Shared",
    "broken",
    "cases_of",
    "legibility",
    "select_for",
    "sense",
    "strange_share",
    "timed",
    "unmet",
]

POWERED = Fraction(3600)  # seconds that the part is taken to be powered when the capture starts: power-on is not in it
MOST_RULED = 400  # commands to which a part's rules are held under each hypothesis
STRANGE = 0.25  # share of commands that a part does not know, beyond which it does not understand what it gets
GAIN = 0.4  # by how much a wiring has to make more sense to be named


@dataclass
class Shared:
    """What all buses of a rig share. gathered: what is known of the capture. plan: the rig, given or assumed.

    unjudged: what rules would have told, had there been more to go by.
    """

    gathered: Gathered
    plan: Setup
    unjudged: list[str] = field(default_factory=list)

    @property
    def reading(self) -> Reading:
        """What the capture says by the rig."""
        return self.gathered.reading


@dataclass
class Case:
    """One bus of a rig. ruled_out: causes that were looked for in vain. kept: what rules worked out that others ask for, too."""

    shared: Shared
    bus: Bus
    ruled_out: list[dict[str, str]] = field(default_factory=list)
    kept: dict[str, Any] = field(default_factory=dict)

    # ---- the capture and the rig ----

    @property
    def trace(self) -> Trace:
        """The capture; of a long one no more than its length, its notes, and the lines beside buses."""
        return self.shared.gathered.trace

    @property
    def whole(self) -> Trace:
        """Every change of the capture. A long one is read again for it, so rules ask where `pulses` give a reason."""
        return self.shared.gathered.whole

    @property
    def head(self) -> Trace:
        """The beginning of the capture: what much is tried on."""
        return self.shared.gathered.head

    def stretches(self) -> Iterator[Trace]:
        """Every change of the bus's lines, in stretches that end while it rests; a long capture is read again for it. For rules that see a reason."""
        return self.shared.gathered.stretches(self.bus)

    @property
    def changes(self) -> int:
        """How many changes the capture has."""
        return len(self.shared.gathered)

    @property
    def plan(self) -> Setup:
        """The rig with what was assumed to make it."""
        return self.shared.plan

    @property
    def rig(self) -> Rig:
        """The rig it is read by."""
        return self.plan.rig

    @property
    def kind(self) -> BusKind:
        """The kind of bus."""
        return BUSES[self.bus.kind]

    @property
    def span(self) -> tuple[float, float]:
        """Seconds at which the capture starts and ends."""
        return self.trace.seconds(self.trace.start), self.trace.seconds(self.trace.end)

    def seconds(self, ticks: int) -> float:
        """Ticks in seconds."""
        return self.trace.seconds(ticks)

    def line(self, role: str) -> int | None:
        """The captured line that plays a role, None where none does."""
        name = self.bus.lines.get(role, "")
        return self.trace.names.index(name) if name in self.trace.names else None

    @cached_property
    def roles(self) -> dict[str, int]:
        """The captured lines of the bus by role."""
        return {role: line for role in self.bus.lines if (line := self.line(role)) is not None}

    def names(self, *roles: str) -> list[str]:
        """The capture's names of these roles, as far as they were captured."""
        return [self.bus.lines[role] for role in roles if role in self.roles]

    def edges(self, role: str) -> Edges:
        """The changes of the line of a role, which has to be captured; see `whole`, but for lines beside the bus."""
        if role not in self._edges:
            self._edges[role] = (self.trace if role in BESIDE else self.whole).edges(self.roles[role])
        return self._edges[role]

    def pulses(self, role: str) -> Pulses:
        """How the line of a role moves, which has to be captured."""
        return self.shared.gathered.pulses(self.roles[role])

    def times(self, select: str = "") -> Mapping[str, Measured]:
        """What is measured on the bus for what listens to a select (its role, "" for none), by what the kind's measures call it."""
        return self.shared.gathered.times(self.bus, select)

    @cached_property
    def _edges(self) -> dict[str, Edges]:
        return {}

    @cached_property
    def piece(self) -> Trace:
        """The first changes of the bus's lines: what its shape and other wirings are tried on."""
        return self.shared.gathered.piece(self.bus)

    @property
    def clocks(self) -> list[str]:
        """The captured roles whose edges move bits or words; of a panel with row groups its register's."""
        return [role for role in dict.fromkeys((*self.kind.clocks, "clock")) if role in self.roles]

    @property
    def serial(self) -> str:
        """The role of the one data line of a bus that moves bits, of several like ones the first that moves; "" where there is none."""
        if self.kind.one_wire:
            return ""
        if coloured(self.roles):
            return next((role for role in COLOURS if self.moves(role)), "")
        return "data" if "data" in self.roles else self.kind.needs[1] if self.kind.transfers else ""

    def moves(self, role: str) -> int:
        """How often the line of a role changes."""
        return self.pulses(role).changes if role in self.roles else 0

    def found(self, code: str, said: str = "", **told: Any) -> Finding:
        """A finding on this bus; what is told of it as for `finding_of`."""
        return finding_of(code, said, bus=self.bus.name, **told)

    def rule_out(self, code: str, because: str) -> None:
        """Notes a cause that was looked for and is not there."""
        self.ruled_out.append({"code": code, "because": because})

    # ---- what it says ----

    @property
    def reading(self) -> Reading:
        """What the capture says by the rig, on all buses."""
        return self.shared.reading

    @cached_property
    def channels(self) -> list[Channel]:
        """The channels of the bus itself."""
        return self.reading.on(self.bus.name)

    @cached_property
    def devices(self) -> list[DeviceReading]:
        """The displays that it leads to, behind bridges, too."""
        return [reading for reading in self.reading.devices if self.rig.way_to(reading.device)[0] is self.bus]

    @property
    def direct(self) -> list[DeviceReading]:
        """The displays directly on it."""
        return [reading for reading in self.devices if reading.device.on == self.bus.name]

    @cached_property
    def bridges(self) -> list[Bridge]:
        """The bridges that it leads to."""
        return [bridge for bridge in self.rig.bridge if self.rig.root_of(bridge.name) is self.bus]

    @cached_property
    def words(self) -> int:
        """Words on the bus itself."""
        return sum(len(channel.words) for channel in self.channels)

    @cached_property
    def unfinished(self) -> bool:
        """The capture ends in the middle of traffic, so what is missing may only come later."""
        if any(note.code == "capture.cut-short" for note in self.trace.notes):
            return True
        return any(channel.cut_at_end for channel in self.channels if channel.select or channel.who is not None)

    def panel_known(self, reading: DeviceReading) -> bool:
        """Whether a panel is given, or told by the set-up; with one that is only the usual one, another explains as much."""
        return reading.device.name not in self.plan.usual

    def relatives(self, reading: DeviceReading) -> Iterator[Part]:
        """Other parts with a memory of the same kind that know all that a display was sent."""
        framing = self.rig.target(reading.device).framing
        for name in catalog_names():
            other = load(name)
            if name == reading.part.name or framing not in other.framings or other.memory.kind != reading.part.memory.kind:
                continue
            if not any(commands(other, chip.payload).strange.any() for chip in reading.chips):
                yield other

    # ---- buses with addresses ----

    @property
    def talk(self) -> Channel:
        """The only channel of a bus whose devices have addresses."""
        return self.channels[0]

    @property
    def table(self) -> Transactions:
        """Its transactions."""
        return self.talk.table

    @property
    def who(self) -> Addresses:
        """Whom they are for."""
        assert self.talk.who is not None
        return self.talk.who

    @property
    def bytes(self) -> Words:
        """Its words."""
        return self.talk.words

    @property
    def begins_cut(self) -> bool:
        """Whether the capture begins in the middle of a transaction."""
        return any(len(channel.table) > 0 and int(channel.table.began[0]) == CUT for channel in self.channels)

    def _fit(self, clock: str, data: str) -> Fit:
        lines = self.roles[clock], self.roles[data]
        return fit_i2c(excerpt(self.piece, lines=lines), *lines)

    @property
    def ends_open(self) -> bool:
        """Whether a transaction is open when the capture ends."""
        return len(self.table) > 0 and int(self.table.ended[-1]) == END

    @property
    def one_held(self) -> bool:
        """Whether one of the two lines on which START and STOP part transfers never moves: no word can come."""
        return self.kind.started and not all(self.moves(role) for role in self.kind.needs)

    @cached_property
    def as_wired(self) -> Fit:
        """How much sense clock and data make as wired (on an excerpt)."""
        return self._fit(*self.kind.needs[:2])

    @cached_property
    def exchanged(self) -> Fit:
        """How much sense they make exchanged (on an excerpt)."""
        return self._fit(*self.kind.needs[1::-1])

    @cached_property
    def began(self) -> int | None:
        """The tick of a power-on or reset ahead of all traffic, None where the capture shows neither: of a reset line that comes up, or of `powered`."""
        clock = next(iter(self.clocks), "")
        first = self.pulses(clock).opening[0] if self.moves(clock) else self.trace.end
        if "reset" in self.roles and self.moves("reset"):
            edges = self.edges("reset")
            rises = edges.times[1:][(edges.level[1:] == 1) & (edges.level[:-1] == 0)]
            if len(rises) and (self.kind.addressed or int(rises[-1]) <= first):
                return int(rises[-1])
        return self.powered

    @cached_property
    def powered(self) -> int | None:
        """The tick at which lines that rest high, all low at first, come up together: nothing had a supply ahead of it. None where that is not seen."""
        resting = [role for role in self.kind.pulled_up if role in self.roles]
        if not resting or any(self.pulses(role).opened != 0 or self.moves(role) < 4 for role in resting):
            return None
        ups, idle = ([self.pulses(role).opening[which] for role in resting] for which in (0, 1))
        rests = 20 * self.pulses(resting[0]).lasted.typical  # amid traffic both may be low, but nothing rests behind
        return max(ups) if min(idle) - max(ups) > rests else None

    @cached_property
    def samples_a_clock(self) -> float | None:
        """Samples in one clock period, None where nothing is clocked."""
        steps = self.pulses(self.kind.clocks[0]).steps
        return steps.typical / self.trace.resolution() if len(steps) >= 8 else None


def cases_of(shared: Shared) -> list[Case]:
    """One for each bus of the rig whose lines were captured."""
    return [Case(shared, bus) for bus in shared.plan.rig.bus if bus.name not in shared.reading.absent]


# ---- how much sense it makes --------------------------------------------------------------------------------------------


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
                continue
            seen.add(part.command[kind].name)
            odd += bool(chip.fields_of(index)[1])
        readable += readable_runs(part, chip)
    looked = sum(min(len(chip), 400) for chip in own)
    steps = len(seen & set(part.start_up)) / len(set(part.start_up)) if part.start_up else float(not part.command)
    text = float(np.mean(readable)) if readable else 1.0
    return max(0.0, 0.3 * (1 - strange / looked) ** 6 + 0.1 * (1 - odd / looked) + 0.3 * steps + 0.3 * text**2)


def strange_share(own: list[Commands]) -> float:
    """The share of commands that are unknown or not documented."""
    count = odd = 0
    for chip in own:
        for index in range(min(len(chip), 300)):
            if chip.name_of(index) == "data":
                continue
            count += 1
            odd += int(chip.kind[index]) < 0 or bool(chip.fields_of(index)[1])
    return odd / count if count else 0.0


def legibility(reading: DeviceReading) -> float:
    """The mean of `readable_runs` over all that a display gets; 1 where it gets no text."""
    shares = [share for chip in reading.chips for share in readable_runs(reading.part, chip)]
    return float(np.mean(shares)) if shares else 1.0


def unmet(case: Case, reading: DeviceReading, own: list[Commands]) -> float:
    """A tenth for each rule of the part that its bring-up breaks, at most three; nothing where there is no bring-up, or too much to look at."""
    target = case.rig.target(reading.device)
    count = 0
    for chip in own:
        if 0 < len(chip) <= MOST_RULED:
            steps = timed(case, reading, chip, lines=False)
            found = (one for rule in SEQUENCE_RULES for one in rule(target, steps))
            count += len({one.code for one in found if one.severity == "fault" and one.code.startswith("setup.")})
    return 0.1 * min(3, count)


def broken(case: Case, reading: DeviceReading) -> float:
    """Half the share of transfers that end in mid-word, and of clocks that come while nobody is selected."""
    if not case.kind.transfers or case.kind.addressed:
        return 0.0
    out = 0.0
    for channel in case.channels:
        if channel.select and len(channel.table):
            # Of a transfer that the capture begins in the middle of, bits are left over by right.
            out = max(out, float(np.mean((channel.table.spare > 0) & (channel.table.began != CUT))))
    selects = {channel.select for channel in case.channels}
    if case.kind.clocks[0] in case.roles and len(selects) == 1 and "" not in selects:
        clocks = case.moves(case.kind.clocks[0]) / 2
        inside = sum(len(channel.words) * channel.bits + int(channel.table.spare.sum()) for channel in case.channels)
        out = max(out, 1 - inside / clocks) if clocks else out
    return 0.5 * out


def timed(case: Case, reading: DeviceReading, own: Commands, lines: bool = True) -> list[Timed]:
    """Captured commands, and the edges of the reset line, as the steps of a sequence."""
    payload, tick = own.payload, case.trace.tick
    slack = case.trace.resolution()  # nothing is held against a driver that sampling could have made

    def seconds(ticks: int) -> Fraction:
        return Fraction(ticks * tick.numerator + int(POWERED) * tick.denominator, tick.denominator)

    out: list[tuple[int, Timed]] = []  # by when they were: with what sampling could have made, near ones would change places
    for item in items_of(reading.part, list(_runs(own))):
        first, last = item.first, item.first + max(1, len(item.raw)) - 1
        start, end = int(payload.start[first]), int(payload.time[last])
        send = Send(bool(payload.data[first]), item.raw)
        step = Step("", item.name, reading.device.name, item.name, (send,), fields=item.fields)
        took = Fraction(max(0, end - start - 2 * slack) * tick.numerator, tick.denominator)
        out.append((start, Timed(step, seconds(start + 2 * slack), took, [[0] * max(1, len(item.raw))], [item])))
    if lines and "reset" in case.roles:
        edges = case.edges("reset")
        for when, level in zip(edges.times[1:].tolist(), edges.level[1:].tolist(), strict=True):
            if level < 2:
                step = Step("", "reset", reading.device.name, "reset", levels=(("reset", bool(level)),))
                out.append((when, Timed(step, seconds(when + (slack if level else -slack)), Fraction(0), [], [])))
    out.sort(key=lambda entry: entry[0])
    return [entry for _, entry in out]


def _runs(own: Commands) -> Iterator[Send]:
    """Words of one kind that follow one another, as a driver sends them."""
    payload = own.payload
    edges = np.flatnonzero(payload.data[1:] != payload.data[:-1]) + 1
    for first, last in zip([0, *edges.tolist()], [*edges.tolist(), len(payload)], strict=True):
        yield Send(bool(payload.data[first]) if len(payload) else False, payload.value[first:last].tobytes())


def select_for(case: Case, select: str) -> str:
    """The role of the select that what has this one listens to, "" where none was captured."""
    role = select_of(case.roles, select)
    return role if role in case.roles else ""
