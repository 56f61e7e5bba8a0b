"""Whether lines do what a kind of bus does, whatever they carry: pulses of one length, and whole words within what begins and ends them.

A clock is told by its shape, not by what it clocks: its pulses are alike, and between a select and its end, or from latch to latch, there are
whole words of them. Another peripheral's traffic, or two lines in each other's place, have neither. So this is looked at before anything
that words could tell.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from ..trace.model import Times
from .changes import edges_to, typical

__all__ = ["FEWEST", "bursts", "clocked", "pulses_alike", "pulses_cut_off", "spans_latched", "spans_selected", "strobed"]

ALIKE = 0.5  # by how much a pulse may differ from the usual one, of that: software and its interrupts are no quartz
RATES = 2  # at which one bus may be clocked: a slow set-up, or two parts of different speed
RARE = 0.05  # of all pulses: what is rarer is no rate of its own
FEWEST = 16  # pulses that have to be seen
SETTLED = 0.25  # of a pulse: its last part, in which what it takes has to hold still


def spans_selected(trace: Trace, line: int, active: int) -> tuple[Times, Times]:
    """Whole spans in which a select is active."""
    opens, closes = edges_to(trace, line, active), edges_to(trace, line, 1 - active)
    if len(opens) and len(closes):
        closes = closes[closes > opens[0]]
    count = min(len(opens), len(closes))
    return opens[:count], closes[:count]


def spans_latched(trace: Trace, line: int) -> tuple[Times, Times]:
    """The spans from one latch to the next; the first begins with the capture."""
    closes = edges_to(trace, line, 1)
    return np.concatenate([[trace.start], closes[:-1]]).astype(np.int64)[: len(closes)], closes


def bursts(rises: Times) -> tuple[Times, Times]:
    """The spans between pauses of a clock: what is more than three times its usual period."""
    if len(rises) < 2:
        return rises, rises
    steps = np.diff(rises)
    cuts = np.flatnonzero(steps > 3 * typical(steps))
    return np.concatenate([rises[:1], rises[cuts + 1]]) - 1, np.concatenate([rises[cuts], rises[-1:]]) + 1


def pulses_cut_off(trace: Trace, clock: int, line: int, active: int) -> int:
    """How many pulses of a clock lie in spans of a select that the capture does not hold whole."""
    opens, closes = edges_to(trace, line, active), edges_to(trace, line, 1 - active)
    ahead, behind = trace.level_at(line, np.array([trace.start, trace.end - 1])) == active
    rises = edges_to(trace, clock, 1)
    before = np.searchsorted(rises, closes[0] if len(closes) else trace.end, side="right") if ahead else 0
    after = len(rises) - np.searchsorted(rises, opens[-1]) if behind and len(opens) else 0
    return int(before + after)


def clocked(
    trace: Trace, clock: int, spans: tuple[Times, Times] | None, bits: int, untold: float = 0.5, cut_off: int = 0
) -> float:
    """How well a line works as the clock of words of so many bits, from 0 to 1: the share of pulses that are alike, times that of spans with
    whole words in them, times that of pulses within spans. spans: where words are, None where only pauses tell.

    untold: what a steady clock without any pause counts: it may clock words, or be no clock at all. cut_off: pulses of which nothing tells,
    as the capture does not hold their span whole.
    """
    rises = edges_to(trace, clock, 1)
    if len(rises) < FEWEST:
        return 0.0
    opens, closes = spans if spans is not None else bursts(rises)
    counts = np.searchsorted(rises, closes, side="right") - np.searchsorted(rises, opens)
    used = counts > 0
    if not used.any():
        return 0.0
    whole = float(np.mean(counts[used] % bits == 0))
    if spans is None:
        # The capture may begin within the first burst; of a single one nothing tells where its words begin.
        whole = float(np.mean(counts[1:] % bits == 0)) if len(counts) > 1 else untold
    # What comes ahead of the first span or behind the last one may belong to one that the capture does not hold whole.
    between = int(np.searchsorted(rises, closes.max(), side="right") - np.searchsorted(rises, opens[0]))
    inside = float(counts.sum()) / max(1, between)
    # A single span tells little of the rest of the capture: there most pulses have to be in it.
    if len(opens) < 4:
        inside = float(counts.sum()) / max(1, len(rises) - cut_off)
    return pulses_alike(trace, clock, RATES) * whole * min(1.0, inside)


def pulses_alike(trace: Trace, line: int, rates: int = 1) -> float:
    """The share of pulses that last about as long as the usual one: those to the level that the line has for the shorter time.

    rates: as which clocks may be driven: of those that are left over, about as long as the usual one of them, and so on.
    """
    edges = trace.edges(line)
    lasts, level = edges.durations()[1:-1], edges.level[1:-1]
    if len(lasts) < 2:
        return 0.0
    own = [lasts[level == value] for value in (0, 1)]
    pulses = min((each for each in own if len(each)), key=lambda each: float(each.sum()))
    left = pulses
    for _ in range(rates):
        if len(left) < RARE * len(pulses) or not len(left):
            break
        left = left[~_usual(left, trace)]
    return 1 - len(left) / len(pulses)


def _usual(lasts: Times, trace: Trace) -> NDArray[np.bool_]:
    """(n,) which of these pulses last about as long as the usual one."""
    usual = typical(lasts)
    near: NDArray[np.bool_] = np.abs(lasts - usual) <= max(ALIKE * usual, 2.0 * trace.resolution())
    return near


def strobed(trace: Trace, strobe: int, rests: int, others: list[int]) -> float:
    """How well a line works as the strobe of a parallel bus: the share of pulses that are alike, times that of pulses in whose last quarter
    none of the other lines changes. rests: its level between pulses."""
    opens, closes = spans_selected(trace, strobe, 1 - rests)
    if len(opens) < 4:
        return 0.0
    lasts = closes - opens
    changes = np.sort(np.concatenate([trace.edges(line).times[1:] for line in others])) if others else np.empty(0, np.int64)
    first = closes - np.maximum((lasts * SETTLED).astype(np.int64), 1)
    moved = np.searchsorted(changes, closes, side="left") - np.searchsorted(changes, first, side="left")
    return float(np.mean(_usual(lasts, trace))) * float(np.mean(moved == 0))
