"""Wires: lines that touch, that are disturbed, or that make sense only in another place.

An exchange is tested by decoding under it; what a wiring has to explain, and how it is tried, is in `hypotheses`.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...bus.changes import has_step_below, some_steps, typical
from ...bus.i2c import spike_ticks
from ...bus.roles import fit_i2c
from ...finding import Finding
from ...trace import mishap
from ...units import show
from ..bearing import borne
from ..case import Case, sense, strange_share
from ..rule import Rule, is_addressed, is_started, not_addressed

__all__ = ["RULES"]

CONTINUED = 0.01  # share of other pulses nearly as short, from which on short ones are nothing of their own
NARROW = 0.2  # of the usual pulse: what is so much shorter is none of the driver's
TOGETHER = 0.999  # share of edges that two lines have at the same time when they touch
LEAST_EDGES = 12  # of a line that is held against another
FILTERED = 50e-9  # seconds: tSP, what Fast-mode inputs take out
SPIKE = 400e-9  # seconds: the longest pulse on an I2C bus that is taken for one


# ---- lines that touch, and what couples into them ----------------------------------------------------------------------------


def joined(case: Case) -> Iterator[Finding]:
    """Two lines that do the same at all times."""
    if case.kind.addressed:
        sound = case.as_wired.score >= 0.9
    else:
        sound = bool(case.devices) and all(sense(r.part, r.chips) >= 0.9 for r in case.devices)
    if sound:
        case.rule_out("wiring.joined-lines", "what comes makes sense, so no two lines touch")
        return
    data = set(case.kind.data_lines(case.bus.lines))
    # Pictures of boxes and bars move several data lines as one; that these touch is told by the commands that it spoils.
    spoilt = any(reading.started or strange_share(reading.chips) > 0.1 for reading in case.devices) or not case.devices
    edges = {role: case.edges(role).times[1:] for role in case.roles if case.moves(role) >= LEAST_EDGES}
    slack = 2 * case.trace.resolution()
    roles = list(edges)
    for number, a in enumerate(roles):
        for b in roles[number + 1 :]:
            one, two = edges[a], edges[b]
            if {a, b} <= data and not spoilt:
                continue
            if abs(len(one) - len(two)) > 0.002 * len(one):
                continue
            after = np.clip(np.searchsorted(one, two), 0, len(one) - 1)
            near = np.minimum(np.abs(one[after] - two), np.abs(one[np.maximum(after - 1, 0)] - two)) <= slack
            if np.mean(near) < TOGETHER or not _alike(case, a, b, slack):
                continue
            names, (start, end) = case.names(a, b), case.span
            yield case.found(
                "wiring.joined-lines", lines=names, start=start, end=end, count=len(one),
                evidence={"changes": len(one), "together": f"{float(np.mean(near)):.0%}"},
                shown=" and ".join(f"'{name}' ({role.upper()})" for name, role in zip(names, (a, b), strict=True)),
            )  # fmt: skip


def _alike(case: Case, a: str, b: str, slack: int) -> bool:
    """Whether two lines have the same level whenever both have settled: two that are each other's opposite do not touch."""
    at = np.union1d(case.edges(a).times[1:], case.edges(b).times[1:])
    at = at[np.append(np.diff(at) > 2 * slack, True)] + slack
    first, second = (case.trace.level_at(case.roles[role], at) for role in (a, b))
    return float(np.mean(first == second)) >= TOGETHER


def disturbed(case: Case) -> Iterator[Finding]:
    """Pulses on the lines of an I2C bus that are longer than what parts filter out, and far shorter than the driver's own."""
    tick, sample = float(case.trace.tick), case.trace.resolution()
    found: list[tuple[str, np.ndarray, float]] = []
    clock = some_steps(case.edges("scl").to(1))
    middle = typical(clock) if len(clock) else 0.0
    steady = middle > 0 and typical(np.abs(clock - middle)) < 0.1 * middle
    if case.as_wired.score < 0.5 and not steady:
        return  # that is no clock with spikes on it, but something else
    width = spike_ticks(case.trace, case.roles["scl"])
    clocked = some_steps(case.edges("scl").times[1:])
    usual = typical(clocked) if len(clocked) else 0.0
    for role in ("scl", "sda"):
        edges = case.edges(role)
        if not has_step_below(edges.times, max(width, min(SPIKE / tick, NARROW * usual) + 1)):
            continue
        # What parts and decoder filter out is left out here, too: pulses that are, or may be, as short as a spike.
        steps, kept = np.diff(edges.times), edges.times
        tiny = np.flatnonzero(steps < width)
        if len(tiny):
            kept = np.delete(edges.times, np.unique(np.concatenate([tiny, tiny + 1])))
            steps = np.diff(kept)
        took = steps[1:-1]
        if len(took) < 16:
            continue
        below = np.flatnonzero((took <= SPIKE / tick) & (took < NARROW * usual))
        short = below[took[below] - sample > 0.9 * FILTERED / tick]
        if len(short) and len(short) < 0.2 * len(took):
            found.append((role, kept[1:-2][short], float(np.median(took[short])) * tick))
    if not found:
        case.rule_out("wiring.glitches", "no pulse is far shorter than the driver's own")
        return
    count = sum(len(when) for _, when, _ in found)
    first, last = min(int(when[0]) for _, when, _ in found), max(int(when[-1]) for _, when, _ in found)
    names = [name for role, _, _ in found for name in case.names(role)]
    yield _glitches(
        case, names, count, show(found[0][2], "s"), (case.seconds(first), case.seconds(last)),
        {"pulse": show(found[0][2], "s"), "filtered by parts up to": "50 ns [I2C-bus specification, tSP]"}, " and ".join(names),
        "100 ohms", "and a smaller pull-up help", "certain" if count > 2 else "likely",
    )  # fmt: skip


def spikes(case: Case) -> Iterator[Finding]:
    """Pulses on a clock, an enable or a select that are far shorter than the driver's own."""
    if not borne(case):
        return  # what is no clock of this bus has no pulses of its own that others could be shorter than
    sample = case.trace.resolution()
    for role in (*case.kind.clocks, "cs", "cs1", "latch"):
        if case.moves(role) < 24:
            continue
        edges = case.edges(role)
        took = edges.durations()[1:-1]
        usual = typical(took)
        if not (took < NARROW * usual).any():
            continue
        # A pulse that jitter made short has a long neighbour; a spike breaks one of the driver's own pulses, or stands alone.
        beside = np.concatenate([[usual], took[:-1]]), np.concatenate([took[1:], [usual]])
        within = beside[0] + took + beside[1] < 1.6 * usual
        alone = (beside[0] > 3 * usual) & (beside[1] > 3 * usual)
        level = edges.level[1:-1]
        high, low = (typical(took[level == value]) if (level == value).any() else 0.0 for value in (1, 0))
        short = np.flatnonzero((took < NARROW * usual) & (took < 0.5 * np.where(level == 1, high, low)) & (within | alone))
        if role not in case.kind.clocks and len(short):  # a select of one word among long ones is no spike: clocks run in it
            clock = case.kind.clocks[0] if case.kind.clocks else "clock"
            clocks = case.edges(clock).times[1:] if clock in case.roles else edges.times[:0]
            if role != "latch" and not any((channel.table.spare[:-1] > 0).any() for channel in case.channels):
                continue  # every word is whole, so no select was disturbed
            within_it = np.searchsorted(clocks, edges.times[1:-1] + took) - np.searchsorted(clocks, edges.times[1:-1])
            short = short[within_it[short] < 2]
        if not len(short) or len(short) > 0.05 * len(took) or usual < 6 * sample or _among_others(took, short):
            continue
        name, lasts = case.bus.lines[role], show(case.seconds(int(np.median(took[short]))), "s")
        span = case.seconds(int(edges.times[1 + short[0]])), case.seconds(int(edges.times[1 + short[-1]]))
        yield _glitches(
            case, [name], len(short), lasts, span, {"pulse": lasts, "usual pulse": show(case.seconds(int(usual)), "s")},
            f"'{name}' ({role.upper()})", "50 to 100 ohms", "help", "certain",
        )  # fmt: skip
        return
    case.rule_out("wiring.glitches", "no pulse of the clock is far shorter than the others")


def _among_others(took: NDArray[np.int64], short: NDArray[np.int64]) -> bool:
    """Whether pulses that look short are the shorter ones of a line whose pulses have every length: an encoder's, say, not a clock's."""
    beside = np.unique(
        np.clip(np.concatenate([short - 1, short, short + 1]), 0, len(took) - 1)
    )  # a spike cuts a pulse into anything
    others = np.delete(took, beside)
    return len(others) > 0 and float(np.mean(others < 2 * took[short].max())) > CONTINUED


def _glitches(
    case: Case,
    lines: list[str],
    count: int,
    pulse: str,
    span: tuple[float, float],
    evidence: dict[str, str],
    where: str,
    series: str,
    relief: str,
    sure: str,
) -> Finding:
    return case.found(
        "wiring.glitches", lines=lines, start=span[0], end=span[1], count=count, confidence=sure, evidence=evidence, pulse=pulse, where=where,
        pulses=f"{count} pulse{'s' if count > 1 else ''}", are="are" if count > 1 else "is", series=series, help=relief,
    )  # fmt: skip


# ---- lines in each other's place --------------------------------------------------------------------------------------------


def exchanged(case: Case) -> Iterator[Finding]:
    """Clock and data of a bus with START and STOP exchanged: makes sense that way, and not as wired."""
    wired, other = case.as_wired, case.exchanged
    clock, data = case.kind.needs[:2]
    roles = f"{clock.upper()} and {data.upper()}"
    if wired.score >= 0.5 or other.score < 0.8 or other.words < 1:
        if wired.words:
            text = f"{wired.score:.0%} of the clocked bits make whole words as wired, {other.score:.0%} with {roles} exchanged"
            case.rule_out("wiring.swapped-lines", text)
        return
    (scl, sda), (start, end) = case.names(clock, data), case.span
    answered = f"{other.answered} addresses answered" if other.answered else "no address answered"
    yield case.found(
        "wiring.swapped-lines", "probes" if other.answered else "clock-and-data", lines=[scl, sda], start=start, end=end,
        confidence="certain" if other.words > 4 else "likely",
        evidence={
            "sense_as_wired": round(wired.score, 3),
            "sense_exchanged": round(other.score, 3),
            "whole_words_exchanged": other.words,
            "reading": f"as wired, {wired.score:.0%} of the clocked bits make whole words; exchanged, {other.score:.0%}: {other.words} words, {answered}",
        },
        scl=scl, sda=sda, roles=roles, clock=clock, data=data,
    )  # fmt: skip


def turned_over(case: Case) -> Iterator[Finding]:
    """Both lines of such a bus behind something that inverts: they rest low, and make sense turned over."""
    if max(case.as_wired.score, case.exchanged.score) >= 0.5 or not all(case.moves(role) for role in case.kind.needs):
        return
    piece = case.piece
    names = case.names(*case.kind.needs)
    for name in names:
        piece = mishap.invert(piece, name)
    fit = fit_i2c(piece, *(case.roles[role] for role in case.kind.needs[:2]))
    if fit.score >= 0.9 and fit.words > 4:
        start, end = case.span
        yield case.found(
            "wiring.inverted-bus", "", lines=names, start=start, end=end, shown=" and ".join(names), apart="",
            evidence={"whole words as wired": f"{case.as_wired.score:.0%}", "turned over": f"{fit.score:.0%}"},
        )  # fmt: skip


RULES = [
    Rule("wiring", joined, lambda kind: not kind.scanned),
    Rule("wiring", disturbed, is_addressed),
    Rule("wiring", spikes, not_addressed),
    Rule("wiring", exchanged, is_started),
    Rule("wiring", turned_over, is_started),
]
