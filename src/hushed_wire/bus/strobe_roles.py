"""Which lines are a parallel bus or a shift register's, by the traffic alone: lines that hold still while one of them pulses.

A strobe (E, or WR where it rests high) has pulses at whose end all other lines of the bus hold still, and these are five at least:
four data lines and RS. A register's latch pulses between clocks, whose number between two latches is a multiple of eight. Which data
line is which no strobe tells: for that the commands of a part have to make sense.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ..trace import Trace
from ..trace.model import Times
from .changes import edges_to

__all__ = ["ParallelFit", "ShiftFit", "best_parallel", "best_shift"]

LEAST = 12  # pulses of all strobes
LOADS = 6  # of a register
STILL = 0.98
FEWEST = 5  # lines that a strobe latches


@dataclass(frozen=True)
class ParallelFit:
    """strobes: lines that latch, the busiest first. rests: their level between pulses. select: a line that has one level whenever something

    is latched, and the other between, or -1. latched: the lines that move, in the capture's order."""

    strobes: list[int]
    rests: int
    select: int
    latched: list[int]


@dataclass(frozen=True)
class ShiftFit:
    """The lines of a chain of registers. bits: between two latches."""

    clock: int
    data: int
    latch: int
    bits: int


def _pulses(trace: Trace, line: int) -> tuple[int, Times, Times]:
    """The level at which a line rests, and where its whole pulses begin and end."""
    edges = trace.edges(line)
    lasts = edges.durations()
    rest = int(lasts[edges.level == 1].sum() > lasts[edges.level == 0].sum())
    opens, closes = edges_to(trace, line, 1 - rest), edges_to(trace, line, rest)
    # Around levels that are unknown a pulse may lack its beginning or its end.
    next_close = np.searchsorted(closes, opens, side="right")
    ends = next_close < np.searchsorted(closes, np.append(opens[1:], trace.end), side="right")
    return rest, opens[ends], closes[next_close[ends]]


def best_parallel(trace: Trace) -> ParallelFit | None:
    """The strobes of a parallel bus, None where no line is one."""
    moving = [line for line in range(len(trace.names)) if len(trace.edges(line).times) > 1]
    found: list[tuple[int, int, int]] = []
    for line in moving:
        rest, opens, closes = _pulses(trace, line)
        if len(closes) < LEAST // 4:
            continue
        # In the last quarter of a pulse nothing else changes; what changes with its end comes with the hold time's grace.
        first = np.searchsorted(trace.times, closes - (closes - opens) // 4, side="left")
        changes = np.searchsorted(trace.times, closes, side="left") - first
        alone = np.ones(len(closes), bool)
        at = np.searchsorted(trace.times, closes)
        both = trace.levels[at] ^ trace.levels[np.maximum(at - 1, 0)]
        alone &= both == both.dtype.type(1 << line)
        if float(np.mean((changes == 0) & alone)) >= STILL:
            found.append((_worth(trace, opens, closes), line, rest))
    found.sort(reverse=True)
    if not found or sum(count for count, _, rest in found if rest == found[0][2]) < LEAST:
        return None
    rests = found[0][2]
    strobe = found[0][1]
    _, _, closes = _pulses(trace, strobe)
    strobes = [line for _, line, rest in found if rest == rests and _apart(trace, strobe, line)]
    select, latched = -1, []
    for line in moving:
        if line in strobes:
            continue
        seen = trace.level_at(line, closes - 1)
        if len(strobes) > 1 or (seen != seen[0]).any():
            latched.append(line)
        elif len(trace.edges(line).times) > LEAST:  # what moves now and then, but never while something is latched, is a reset
            select = line
    return ParallelFit(strobes, rests, select, latched) if len(latched) >= FEWEST else None


def _worth(trace: Trace, opens: Times, closes: Times) -> int:
    """Pulses ahead of which something moved: those of a strobe bring words, those of what runs by itself mostly nothing."""
    between = np.searchsorted(trace.times, opens[1:]) - np.searchsorted(trace.times, closes[:-1], side="right")
    return round(len(closes) * float(np.mean(between > 0))) if len(closes) > 1 else len(closes)


def _apart(trace: Trace, strobe: int, other: int) -> bool:
    """Whether two strobes never pulse at once (the one itself does not count)."""
    if strobe == other:
        return True
    rest, opens, closes = _pulses(trace, other)
    inside = trace.level_at(strobe, (opens + closes) // 2)
    return bool((inside == rest).all())


def best_shift(trace: Trace) -> ShiftFit | None:
    """The lines of a chain of registers whose latch pulses shortly behind the clocks; None where there is none.

    A select that stays active for all clocks of a transfer is SPI's, and none of these.
    """
    moving = [line for line in range(len(trace.names)) if len(trace.edges(line).times) > 2 * LOADS]
    for latch in moving:
        rest, opens, closes = _pulses(trace, latch)
        edge = trace.level_at(latch, np.array([trace.start, trace.end - 1]))
        if rest or len(opens) < LOADS or edge.any():  # a select rests high ahead of everything and behind it
            continue
        for clock in moving:
            rises = edges_to(trace, clock, 1)
            if clock == latch or len(rises) < 8 * len(opens) // 2:
                continue
            counts = np.diff(np.searchsorted(rises, opens))
            ticking = np.searchsorted(rises, closes) - np.searchsorted(rises, opens)
            usual = int(np.median(counts)) if len(counts) else 0
            if not usual or usual % 8 or float(np.mean(counts == usual)) < STILL or ticking.any():
                continue
            period = float(np.median(np.diff(rises)))
            if float(np.median(closes - opens)) > 4 * period:
                continue
            data = [line for line in moving if line not in (latch, clock) and _steady(trace, line, rises)]
            if data:
                busiest = max(data, key=lambda line: len(trace.edges(line).times))
                return ShiftFit(clock, busiest, latch, usual)
    return None


def _steady(trace: Trace, line: int, rises: Times) -> bool:
    """Whether a line holds still around the rises of a clock."""
    moved = trace.edges(line).times[1:]
    at = np.searchsorted(rises, moved)
    on = rises[np.minimum(at, len(rises) - 1)] == moved
    return bool(len(moved)) and float(np.mean(~on)) >= STILL
