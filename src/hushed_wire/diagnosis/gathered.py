"""What rules ask of a capture, beside what it says: of each line how it moves, of each bus its times and its beginning, and the whole, if need be.

A short capture is at hand, and what is asked is worked out then (`AtHand`). Of a long one that is gathered while it goes by (`PassingBy`), block by
block, and no change is kept; a rule that sees a reason to look at every change reads it again.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import cached_property
from math import gcd
from typing import Protocol

import numpy as np

from ..bus.base import BUSES, SELECTS, select_of
from ..bus.changes import EXCERPT, excerpt
from ..bus.stretches import ByEvents, Measurer, Stretches
from ..rig import Reading, Rig, Setup
from ..rig.reading import hear
from ..rig.schema import Bus
from ..trace import Trace, joined
from ..trace.measured import Measured
from ..trace.model import GRIDDED
from ..trace.pulses import Pulses, follow

__all__ = ["AtHand", "Gathered", "PassingBy"]

PIECE = 1 << 16  # changes that are looked at together: what they need on the way fits into the cache
HEAD = 1_000_000  # changes on which more is tried than on an excerpt


class Gathered(Protocol):
    """trace: the capture; of a long one no more than its length, its notes, and the lines that play no part in words."""

    @property
    def trace(self) -> Trace:
        """Its length and its notes at least."""

    @property
    def whole(self) -> Trace:
        """Every change of it."""

    @property
    def reading(self) -> Reading:
        """What it says by the rig."""

    def __len__(self) -> int:
        """Its changes."""

    def pulses(self, line: int) -> Pulses:
        """How a line of a bus moves."""

    def piece(self, bus: Bus) -> Trace:
        """The first changes of a bus's lines."""

    def times(self, bus: Bus, select: str) -> Mapping[str, Measured]:
        """What is measured on a bus for what listens to a select (its role, "" for none), by what the kind's measures call it."""

    @property
    def head(self) -> Trace:
        """Its first changes, many of them."""

    def again(self) -> Iterable[Trace]:
        """Its blocks once more, in order."""

    def stretches(self, bus: Bus) -> Iterator[Trace]:
        """Every change of a bus's lines, in stretches that end while it rests."""

    def around(self, first: int, last: int) -> Trace:
        """Every change between two ticks at least."""


@dataclass
class AtHand:
    """A capture that is held whole."""

    trace: Trace
    plan: Setup
    _pulses: dict[int, Pulses] = field(default_factory=dict)
    _times: dict[tuple[str, str], Mapping[str, Measured]] = field(default_factory=dict)

    @property
    def whole(self) -> Trace:
        """The capture."""
        return self.trace

    @cached_property
    def reading(self) -> Reading:
        """What it says by the rig."""
        return self.plan.read(self.trace)

    def __len__(self) -> int:
        return len(self.trace)

    def pulses(self, line: int) -> Pulses:
        """How a line moves."""
        if line not in self._pulses:
            self._pulses[line] = Pulses()
            follow({line: self._pulses[line]}, self.trace)
        return self._pulses[line]

    def piece(self, bus: Bus) -> Trace:
        """The first changes of a bus's lines."""
        return excerpt(self.trace, lines=_roles(bus, self.trace.names).values())

    def times(self, bus: Bus, select: str) -> Mapping[str, Measured]:
        """What is measured on a bus for what listens to a select."""
        key = bus.name, select
        if key not in self._times:
            roles = _roles(bus, self.trace.names)
            measurer = _measurer(bus, roles, select)
            if measurer is None:
                return {}
            for piece in self.trace.pieces(PIECE) if isinstance(measurer, ByEvents) else self.stretches(bus):
                measurer.feed(piece)
            self._times[key] = measurer.told()
        return self._times[key]

    @property
    def head(self) -> Trace:
        """Its first changes, many of them."""
        return excerpt(self.trace, HEAD)

    def again(self) -> Iterable[Trace]:
        """Its blocks."""
        return self.trace.pieces()

    def stretches(self, bus: Bus) -> Iterator[Trace]:
        """Every change of a bus's lines, in stretches that end while it rests."""
        return _in_stretches(bus, _roles(bus, self.trace.names), [self.trace])

    def around(self, first: int, last: int) -> Trace:
        """Every change, those between two ticks among them."""
        return self.trace


class PassingBy:
    """A capture that has gone by. Of its lines those of the rig's buses were followed; the others are as if they never moved."""

    def __init__(
        self,
        blocks: Iterable[Trace],
        names: tuple[str, ...],
        tick: Fraction,
        plan: Setup,
        again: Callable[[], Iterable[Trace]],
        ruled: bool = True,
    ) -> None:
        """blocks: in order. names: of its lines. tick: seconds. again: the blocks once more, for what has to look at every change.

        ruled: it will be asked for more than what it says.
        """
        turned = plan.rig.turned
        self.again: Callable[[], Iterable[Trace]] = lambda: (block.turned_as(turned) for block in again())
        self._buses: dict[str, _Followed] = {}
        for bus in plan.rig.bus if ruled else ():
            roles = _roles(bus, names)
            self._buses[bus.name] = _Followed(bus, roles, _selects_on(plan.rig, bus, roles))
        self._count = self._told = 0  # changes; ticks by which the file says that times may be off
        told = {
            name: own.take for name, bus in self._buses.items() for own in bus.measurers.values() if isinstance(own, ByEvents)
        }
        self.reading = hear(self._followed(blocks, turned), names, tick, plan.rig, told=told)
        grain = self._told or self._grid(self.reading.trace.start)
        self.trace = self.reading.trace = replace(self.reading.trace, grain=grain)

    def _followed(self, blocks: Iterable[Trace], turned: frozenset[str]) -> Iterator[Trace]:
        """The blocks, from which is gathered what there is to gather on their way to whom makes words of them."""
        for block in blocks:
            own = block.turned_as(turned)
            self._count += len(own)
            self._told = own.sample or own.grain
            for bus in self._buses.values():
                bus.feed(own)
            yield own
        for bus in self._buses.values():
            bus.finish()

    def _grid(self, start: int) -> int:
        """The grid on which all changes lie, in ticks, as `Trace.resolution` has it; 1 where they are too few to tell."""
        if self._count < GRIDDED or not self._buses:
            return 1
        lines = [own for bus in self._buses.values() for own in bus.pulses.values()]
        ahead = (tick - start for own in lines for tick in own.opening[:1])
        return max(1, gcd(*ahead, *(int(np.gcd.reduce(own.lasted.value)) for own in lines)))

    def __len__(self) -> int:
        return self._count

    def pulses(self, line: int) -> Pulses:
        """How a line moved."""
        return next(bus.pulses[line] for bus in self._buses.values() if line in bus.pulses)

    def piece(self, bus: Bus) -> Trace:
        """The first changes of a bus's lines."""
        own = self._buses[bus.name]
        return replace(excerpt(joined(own.first), lines=own.pulses), grain=self.trace.grain)

    def times(self, bus: Bus, select: str) -> Mapping[str, Measured]:
        """What was measured on a bus for what listens to a select."""
        measurer = self._buses[bus.name].measurers.get(select)
        return {} if measurer is None else measurer.told()

    @cached_property
    def head(self) -> Trace:
        """The first changes, read again."""
        held: list[Trace] = []
        for block in self.again():
            held.append(block)
            if sum(map(len, held)) > HEAD:
                break
        return excerpt(joined(held), HEAD)

    def stretches(self, bus: Bus) -> Iterator[Trace]:
        """Every change of a bus's lines, read again, in stretches that end while it rests."""
        return _in_stretches(bus, _roles(bus, self.trace.names), self.again())

    @cached_property
    def whole(self) -> Trace:
        """Every change, read again."""
        return joined(self.again())

    def around(self, first: int, last: int) -> Trace:
        """Every change between two ticks, read again."""
        within = []
        for block in self.again():
            if block.end > first:
                within.append(block)
            if block.end >= last:
                break
        return joined(within).window(first, last)


class _Followed:
    """A bus while the capture goes by: how its lines move, its times for what listens to each of its selects, and its first changes."""

    def __init__(self, bus: Bus, roles: Mapping[str, int], selects: Iterable[str]) -> None:
        self.lines = _mask(roles.values())
        self.pulses = {line: Pulses() for line in roles.values()}
        self.measurers = {select: measurer for select in selects if (measurer := _measurer(bus, roles, select)) is not None}
        self.parted = [own for own in self.measurers.values() if not isinstance(own, ByEvents)]
        self.stretches = _stretches(bus, roles) if self.parted else None
        self.first: list[Trace] = []
        self.room = EXCERPT

    def feed(self, block: Trace) -> None:
        """The next block."""
        own = _of_lines(block, self.lines)
        if self.room > 0:
            self.room -= len(own) - 1  # the first entry is the state that was there
            self.first.append(own)
        for piece in own.pieces(PIECE):
            follow(self.pulses, piece)
        if self.stretches is not None:
            self._measure(self.stretches.feed(own))

    def finish(self) -> None:
        """The rest."""
        if self.stretches is not None:
            self._measure(self.stretches.finish())

    def _measure(self, stretches: Iterator[Trace]) -> None:
        for stretch in stretches:
            for measurer in self.parted:
                measurer.feed(stretch)


def _measurer(bus: Bus, roles: Mapping[str, int], select: str) -> Measurer | None:
    """What measures a bus for what listens to a select; None where there is nothing to measure."""
    kind = BUSES[bus.kind]
    measuring = getattr(kind.load(), "measuring", None)
    if measuring is None or kind.missing(roles):
        return None
    found: Measurer = measuring(roles, bus.mode, int(bus.select == "high"), select)
    return found


def _stretches(bus: Bus, roles: Mapping[str, int]) -> Stretches:
    """What cuts a capture to stretches while a bus rests: its lines are high that only a resistor brings there, or nothing is selected."""
    high = [role for role in BUSES[bus.kind].pulled_up if role in roles]
    mask = _mask(roles[role] for role in high or [role for role in SELECTS if role in roles])
    return Stretches(mask, mask if high or bus.select == "low" else 0)


def _in_stretches(bus: Bus, roles: Mapping[str, int], blocks: Iterable[Trace]) -> Iterator[Trace]:
    """The blocks of a capture, of which nothing changes but a bus's lines, in its stretches."""
    stretches, mask = _stretches(bus, roles), _mask(roles.values())
    for block in blocks:
        yield from stretches.feed(_of_lines(block, mask))
    yield from stretches.finish()


def _selects_on(rig: Rig, bus: Bus, roles: Mapping[str, int]) -> list[str]:
    """The selects that anything on a bus listens to, "" for none: those for which its times are measured."""
    if BUSES[bus.kind].started:
        return [""]
    wanted = [device.select for device in rig.device if device.on == bus.name]
    wanted += [bridge.select for bridge in rig.bridge if bridge.on == bus.name]
    return list(dict.fromkeys(role if role in roles else "" for role in (select_of(roles, each) for each in wanted)))


def _roles(bus: Bus, names: tuple[str, ...]) -> dict[str, int]:
    """The captured lines of a bus by role."""
    return {role: names.index(line) for role, line in bus.lines.items() if line in names}


def _of_lines(block: Trace, mask: int) -> Trace:
    """A block where nothing but some lines changes."""
    return block if (1 << len(block.names)) - 1 == mask else block.only(mask)


def _mask(lines: Iterable[int]) -> int:
    """Lines as bits."""
    return sum(1 << line for line in set(lines))
