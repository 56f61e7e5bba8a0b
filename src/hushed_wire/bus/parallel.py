"""Parallel buses: 6800 (data taken as E falls) and 8080 (data taken as WR rises), 4 to 16 data lines, with register selects.

Strategy: the latching edges are a column of moments; data lines, RS, R/W and selects are looked up at each. A word takes effect
at its latching edge. Reads (R/W high, or RD instead of WR) are words too, marked as such. Both directions are in this file.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Samples, Times
from .changes import Change, trace_of
from .channel import PAUSE, Channel, ChannelDecoder, Runs, Wanted, Wired
from .moves import TICK, Move, Pace, begins
from .pieces import States
from .words import Words

if TYPE_CHECKING:
    from collections.abc import Mapping

    from .stretches import Measurer

__all__ = ["Decoder", "ParallelChannel", "ParallelDecoded", "Pulse", "data_lines", "decode", "decoders", "encode", "fresh_start", "measuring",
           "samples_a_second", "seconds_of", "wires"]  # fmt: skip

SELECTS = ("cs1", "cs2", "cs3")
ENABLES = ("e", "e2")


@dataclass(frozen=True)
class Pulse:
    """Ticks of one cycle: set-up ahead of the pulse, the pulse, rest behind it (data are held for half of that)."""

    setup: int
    width: int
    rest: int
    select_active: int = 0  # level that selects a chip

    @property
    def cycle(self) -> int:
        """Ticks from one word to the next."""
        return self.setup + self.width + self.rest


@dataclass(eq=False)
class ParallelDecoded:
    """words; data: (n,) level of RS (1 where there is no such line); read: (n,); chips: (n,) mask of selected chips, 0 for all."""

    words: Words
    data: NDArray[np.uint8]
    read: NDArray[np.bool_]
    chips: NDArray[np.uint8]


def encode(
    value: NDArray[np.uint32],
    data: NDArray[np.bool_],
    chips: NDArray[np.uint8],
    start: Times,
    pulse: Pulse,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
) -> Trace:
    """The trace that a driver makes of words, all of them writes; the twin of `decode`.

    value: (n,) levels of d0 upwards (a nibble bus has it on d4 to d7). start: (n,) first tick of each word.
    """
    zero = np.zeros(1, np.int64)
    active = pulse.select_active
    columns: list[Change] = []
    for role, line in roles.items():
        rest = 1 if role in ("wr", "rd") else 1 - active if role in (*SELECTS, "cs") else 0
        columns.append((zero, line, rest))
    for role, line in roles.items():
        if role[0] == "d" and role[1:].isdecimal():
            columns.append((start, line, (value >> np.uint32(role[1:]) & 1).astype(np.uint8)))
    if "rs" in roles:
        columns.append((start, roles["rs"], data.astype(np.uint8)))
    if "cs" in roles:
        columns += [(start, roles["cs"], active), (start + pulse.cycle - 1, roles["cs"], 1 - active)]
    for number, role in enumerate(SELECTS):
        if role in roles:
            mine = (chips == 0) | (chips >> number & 1 == 1)
            columns.append((start, roles[role], np.where(mine, active, 1 - active)))
    rise = start + pulse.setup
    fall = rise + pulse.width
    if "wr" in roles:
        columns += [(rise, roles["wr"], 0), (fall, roles["wr"], 1)]
    for number, role in enumerate(ENABLES):
        if role in roles:
            mine = (chips == 0) | (chips >> number & 1 == 1) if "e2" in roles else np.ones(len(start), bool)
            columns += [(rise[mine], roles[role], 1), (fall[mine], roles[role], 0)]
    return trace_of(columns, names, tick, end)


def decode(trace: Trace, roles: dict[str, int], select_active: int = 0) -> ParallelDecoded:
    """The words of a whole trace; roles: role to line number. 6800 where there is an `e`, else 8080."""
    return Decoder(roles, select_active).feed(trace)


def decoders(wired: Wired, wanted: list[Wanted], runs: Runs | None = None) -> list[ChannelDecoder]:
    """The bus has one channel; its selects are told with each word. runs: what parts the transactions, where more is known of it."""
    return [ParallelChannel(wired, runs)]


class ParallelChannel:
    """The words of a parallel bus, in runs of one kind without a rest."""

    def __init__(self, wired: Wired, runs: Runs | None = None) -> None:
        self.name, self.roles = wired.name, wired.roles
        self.decoder, self.runs = Decoder(wired.roles, wired.settings.active), runs or Runs()
        self.nibbles, self.bits = data_lines(wired.roles)

    def feed(self, block: Trace | Samples) -> Channel:
        """The runs that are complete with a block."""
        return self._take(self.decoder.feed(block), last=False)

    def finish(self) -> Channel:
        """The rest."""
        return self._take(self.decoder.finish(), last=True)

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return self.runs.held

    def _take(self, found: ParallelDecoded, last: bool) -> Channel:
        words = replace(found.words, value=found.words.value >> 4) if self.nibbles else found.words
        words, table, (data, read, chips) = self.runs.feed(words, found.data, found.read, found.chips, last=last)
        return Channel(
            self.name, "parallel", "", words, table, self.bits, data if "rs" in self.roles else None, read, chips=chips
        )


class Decoder:
    """Words from blocks of a trace, each complete at its latching edge."""

    def __init__(self, roles: dict[str, int], select_active: int = 0) -> None:
        """roles: role to line number in the blocks. select_active: the level that selects."""
        self.roles, self.active = roles, select_active
        self.states = States()

    def feed(self, block: Trace | Samples) -> ParallelDecoded:
        """The words latched within `block`."""
        roles, states = self.roles, self.states
        states.feed(block)
        if "wr" in roles and "e" not in roles:
            edges = [states.to(roles["wr"], 1), *([states.to(roles["rd"], 1)] if "rd" in roles else [])]
        else:
            edges = [states.to(roles[role], 0) for role in ENABLES if role in roles]
        at, which = edges[0], np.zeros(len(edges[0]), np.uint8)
        if len(edges) > 1:
            at, which = np.concatenate(edges), np.repeat(np.arange(len(edges)), [len(own) for own in edges]).astype(np.uint8)
            order = np.argsort(at, kind="stable")
            at, which = at[order], which[order]
        if "wr" in roles and "e" not in roles:
            read, chips = which == 1, np.zeros(len(at), np.uint8)
        else:
            read = states.bit(roles["rw"], at) == 1 if "rw" in roles else np.zeros(len(at), bool)
            chips = which + np.uint8(1) if len(edges) > 1 else np.zeros(len(at), np.uint8)
        if "cs" in roles:
            keep = states.bit(roles["cs"], at) == self.active
            at, read, chips = at[keep], read[keep], chips[keep]
        value, unclear = self._value(at)
        data = states.bit(roles["rs"], at) if "rs" in roles else np.ones(len(at), np.uint8)
        selects = [(number, roles[role]) for number, role in enumerate(SELECTS) if role in roles]
        if selects:
            chips = np.zeros(len(at), np.uint8)
            for number, line in selects:
                chips |= (states.bit(line, at) == self.active).astype(np.uint8) << np.uint8(number)
        when = states.when(at)
        return ParallelDecoded(Words(value, when, when, when, np.ones(len(at), bool), unclear), data, read, chips)

    def finish(self) -> ParallelDecoded:
        """Nothing: a word is complete at its edge."""
        none, no = np.empty(0, np.int64), np.empty(0, bool)
        words = Words(np.empty(0, np.uint32), none, none, none, no, no)
        return ParallelDecoded(words, np.empty(0, np.uint8), no, np.empty(0, np.uint8))

    def _value(self, at: NDArray[np.int64]) -> tuple[NDArray[np.uint32], NDArray[np.bool_]]:
        """The data lines just ahead of entries, packed; and where one of them was unknown (it reads 0)."""
        states = self.states
        lines = {int(role[1:]): line for role, line in self.roles.items() if role[0] == "d" and role[1:].isdecimal()}
        unclear = np.zeros(len(at), bool)
        before = states.levels[at]
        if states.unknown is not None:
            mask = states.unknown.dtype.type(sum(1 << line for line in lines.values()))
            blurred = states.unknown[at] & mask
            unclear, before = blurred != 0, before & ~blurred
        kind = before.dtype.type
        first = min(lines)
        step = lines[first] - first
        if step >= 0 and all(line - bit == step for bit, line in lines.items()):  # neighbours in order are moved as they are
            mask = kind(sum(1 << line for line in lines.values()))
            return ((before & mask) >> kind(step)).astype(np.uint32), unclear
        value = np.zeros(len(at), np.uint32)
        for bit, line in lines.items():
            value |= ((before >> kind(line)) & kind(1)).astype(np.uint32) << np.uint32(bit)
        return value, unclear


def data_lines(roles: Iterable[str]) -> tuple[bool, int]:
    """Whether a bus has its nibbles on d4 to d7, and the bits of its words."""
    data = [int(role[1:]) for role in roles if role[0] == "d" and role[1:].isdecimal()]
    nibbles = min(data) == 4
    return nibbles, max(data) + 1 - (4 if nibbles else 0)


def fresh_start(block: Trace, wired: Wired) -> int | None:
    """A tick behind which nothing depends on what came ahead: in the middle of a pause so long that it surely is one."""
    when = Decoder(wired.roles, wired.settings.active).feed(block).words.effect
    steps = np.diff(when)
    if not len(steps):
        return None
    good = np.flatnonzero(steps > PAUSE * steps.min())
    return int(when[good[0]] + steps[good[0]] // 2) if len(good) else None


def measuring(roles: Mapping[str, int], mode: int, active: int, select: str) -> Measurer:
    """Measures times, by their names in the kind's measures. mode: of SPI. active: the level that selects. select: its role, "" for none."""
    from .edges_timing import measure_parallel
    from .stretches import EachByItself

    return EachByItself(lambda trace: measure_parallel(trace, roles))


# ---- what a driver moves -----------------------------------------------------------------------------------------------------

SAMPLES_A_PULSE = 6


def _pulse(pace: Pace, select_active: int) -> Pulse:
    """The cycle: the part's minimum times with a margin, or the rig's clock where that is slower."""
    setup = max(pace.longest("register select set-up", "data set-up"), 50 * TICK)
    width = max(pace.longest("enable high"), 100 * TICK)
    cycle = max(pace.longest("enable cycle"), setup + 2 * width)
    rate = pace.asked or pace.clock
    if rate:
        cycle = max(cycle, 1 / rate) if not pace.asked else 1 / rate
        if setup + width > cycle:
            setup, width = cycle / 5, cycle * 2 / 5
    ticks = [max(1, int(value / TICK)) for value in (setup, width, cycle - setup - width)]
    return Pulse(ticks[0], ticks[1], ticks[2], select_active)


def wires(moves: list[Move], wired: Wired, pace: Pace, names: tuple[str, ...], lead: int, tail: int) -> tuple[Trace, Times]:
    """The exact trace of moves, and the tick at which each begins."""
    pulse = _pulse(pace, wired.settings.active)
    sizes = np.array([len(move.words) for move in moves], np.int64)
    took = sizes * pulse.cycle + np.array([int(move.pauses.sum()) for move in moves], np.int64)
    start = begins(moves, took, lead)
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    each = [np.arange(len(move.words)) * pulse.cycle + np.cumsum(move.pauses) - move.pauses for move in moves]
    at = np.repeat(start, sizes) + np.concatenate([np.empty(0, np.int64), *each])
    chips = np.repeat(np.array([move.chips for move in moves], np.uint8), sizes)
    words = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)])
    data = np.concatenate([np.empty(0, bool), *(move.data for move in moves)])
    return encode(words, data, chips, at, pulse, wired.roles, names, TICK, end), start


def seconds_of(move: Move, wired: Wired, pace: Pace) -> float:
    """How long a move takes."""
    return float((len(move.words) * _pulse(pace, wired.settings.active).cycle + int(move.pauses.sum())) * TICK)


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wires."""
    pulse = _pulse(pace, wired.settings.active)
    return SAMPLES_A_PULSE / (min(pulse.setup, pulse.width, pulse.rest) * TICK)
