"""Wires: lines that touch, that are disturbed, or that make sense only in another place.

An exchange is tested by decoding under it; what a wiring has to explain, and how it is tried, is in `hypotheses`.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...bus.i2c import spike_ticks
from ...bus.roles import fit_i2c
from ...finding import Finding
from ...trace import mishap
from ...trace.measured import Measured
from ...trace.pulses import Pulses
from ...units import show
from ..bearing import borne
from ..case import Case, sense, strange_share, unmet
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
        sound = bool(case.devices) and all(sense(r.part, r.chips) - unmet(case, r, r.chips) >= 0.9 for r in case.devices)
    if sound:
        case.rule_out("wiring.joined-lines", "what comes makes sense, so no two lines touch")
        return
    data = set(case.kind.data_lines(case.bus.lines))
    # Pictures of boxes and bars move several data lines as one; that these touch is told by the commands that it spoils.
    spoilt = any(reading.started or strange_share(reading.chips) > 0.1 for reading in case.devices) or not case.devices
    slack = 2 * case.trace.resolution()
    roles = [role for role in case.roles if case.moves(role) >= LEAST_EDGES]
    for number, a in enumerate(roles):
        for b in roles[number + 1 :]:
            if {a, b} <= data and not spoilt:
                continue
            if abs(case.moves(a) - case.moves(b)) > 0.002 * case.moves(a):
                continue
            near, alike = _together(case, a, b, slack)
            if near < TOGETHER or alike < TOGETHER:
                continue
            names, (start, end) = case.names(a, b), case.span
            yield case.found(
                "wiring.joined-lines", lines=names, start=start, end=end, count=case.moves(a),
                evidence={"changes": case.moves(a), "together": f"{near:.0%}"},
                shown=" and ".join(f"'{name}' ({role.upper()})" for name, role in zip(names, (a, b), strict=True)),
            )  # fmt: skip


def _together(case: Case, a: str, b: str, slack: int) -> tuple[float, float]:
    """The share of a line's changes at which another one changes, too; and of the moments at which both have settled that of those at which they have
    the same level: two that are each other's opposite do not touch."""
    near = moves = same = settled = 0
    total = case.moves(b)
    for part in case.stretches():
        one, two = (part.edges(case.roles[role]).times[1:] for role in (a, b))
        moves += len(two)
        if len(one) and len(two):
            after = np.clip(np.searchsorted(one, two), 0, len(one) - 1)
            apart = np.minimum(np.abs(one[after] - two), np.abs(one[np.maximum(after - 1, 0)] - two))
            near += int(np.count_nonzero(apart <= slack))
        if near + max(0, total - moves) < TOGETHER * total:
            return 0.0, 0.0  # whatever comes, they are not; a long capture need not be read on
        at = np.sort(np.concatenate([one, two]))
        at = at[np.append(True, at[1:] > at[:-1])[: len(at)]]
        if not len(at):
            continue
        at = at[np.append(np.diff(at) > 2 * slack, True)] + slack
        first, second = (part.level_at(case.roles[role], at) for role in (a, b))
        settled += len(at)
        same += int(np.count_nonzero(first == second))
    return near / max(1, moves), same / max(1, settled)


def disturbed(case: Case) -> Iterator[Finding]:
    """Pulses on the lines of an I2C bus that are longer than what parts filter out, and far shorter than the driver's own."""
    tick, sample = float(case.trace.tick), case.trace.resolution()
    found: list[tuple[str, np.ndarray, float]] = []
    clock = case.pulses("scl")
    middle = clock.steps.typical if len(clock.steps) else 0.0
    steady = middle > 0 and clock.steps.spread < 0.1 * middle
    if case.as_wired.score < 0.5 and not steady:
        return  # that is no clock with spikes on it, but something else
    width = spike_ticks(case.piece, case.roles["scl"])
    usual = clock.lasted.typical if len(clock.lasted) else 0.0
    for role in ("scl", "sda"):
        if not case.pulses(role).lasted.share_below(max(width, min(SPIKE / tick, NARROW * usual) + 1)):
            continue
        when, lasted, of = _beyond_filters(case, role, width)
        short = (lasted < NARROW * usual) & (lasted - sample > 0.9 * FILTERED / tick)
        if of >= 16 and short.any() and int(np.count_nonzero(short)) < 0.2 * of:
            found.append((role, when[short], float(np.median(lasted[short])) * tick))
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


def _beyond_filters(case: Case, role: str, width: int) -> tuple[NDArray[np.int64], NDArray[np.int64], int]:
    """Pulses of an I2C line that are no longer than what is taken for a spike: when each begins, how long it lasts; and how many pulses there are.

    What parts and decoder filter out is left out: pulses of less than `width` ticks, that are, or may be, as short as that.
    """
    whens, lasts, count = [np.empty(0, np.int64)], [np.empty(0, np.int64)], 0
    for part in case.stretches():
        kept = part.edges(case.roles[role]).times
        tiny = np.flatnonzero(np.diff(kept) < width)
        kept = np.delete(kept, np.unique(np.concatenate([tiny, tiny + 1]))) if len(tiny) else kept
        took = np.diff(kept)[1:-1]
        short = np.flatnonzero(took <= SPIKE / float(case.trace.tick))
        whens.append(kept[1:-2][short])
        lasts.append(took[short])
        count += len(took)
    return np.concatenate(whens), np.concatenate(lasts), count


def spikes(case: Case) -> Iterator[Finding]:
    """Pulses on a clock, an enable or a select that are far shorter than the driver's own."""
    if not borne(case):
        return  # what is no clock of this bus has no pulses of its own that others could be shorter than
    sample = case.trace.resolution()
    for role in (*case.kind.clocks, "cs", "cs1", "latch"):
        if case.moves(role) < 24 or not _narrow(case.pulses(role)):
            continue
        if role not in (*case.kind.clocks, "latch") and not any(
            (channel.table.spare[:-1] > 0).any() for channel in case.channels
        ):
            continue  # every word is whole, so no select was disturbed
        when, lasted, beside = _breaking(case, role)
        own = case.pulses(role).lasted
        usual = own.typical
        if not len(when) or len(when) > 0.05 * len(own) or usual < 6 * sample or _among_others(own, lasted, beside):
            continue
        name, lasts = case.bus.lines[role], show(case.seconds(int(np.median(lasted))), "s")
        span = case.seconds(int(when[0])), case.seconds(int(when[-1]))
        yield _glitches(
            case, [name], len(when), lasts, span, {"pulse": lasts, "usual pulse": show(case.seconds(int(usual)), "s")},
            f"'{name}' ({role.upper()})", "50 to 100 ohms", "help", "certain",
        )  # fmt: skip
        return
    case.rule_out("wiring.glitches", "no pulse of the clock is far shorter than the others")


def _breaking(case: Case, role: str) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64]]:
    """Pulses that are far shorter than others of their line and level, and break one of the driver's own or stand alone: when each begins, and how long
    it lasts; and how long these and those beside them last. A pulse that jitter made short has a long neighbour."""
    own, line = case.pulses(role), case.roles[role]
    usual, levels = own.lasted.typical, (own.low, own.high)
    clock = "" if role in case.kind.clocks else case.kind.clocks[0] if case.kind.clocks else "clock"
    out: list[list[NDArray[np.int64]]] = [[np.empty(0, np.int64)] for _ in range(3)]
    low, high = (0.5 * each.typical if len(each) else 0.0 for each in levels)
    for part in case.stretches():
        edges = part.edges(line)
        begin, took, level = edges.times[1:-1], edges.durations()[1:-1], edges.level[1:-1]
        if not len(took):
            continue
        before, behind = np.concatenate([[usual], took[:-1]]), np.concatenate([took[1:], [usual]])
        odd = (before + took + behind < 1.6 * usual) | ((before > 3 * usual) & (behind > 3 * usual))
        short = np.flatnonzero((took < NARROW * usual) & (took < np.where(level == 1, high, low)) & odd)
        if clock in case.roles and len(short):  # a select of one word among long ones is no spike: clocks run in it
            clocks = part.edges(case.roles[clock]).times[1:]
            runs = np.searchsorted(clocks, begin[short] + took[short]) - np.searchsorted(clocks, begin[short])
            short = short[runs < 2]
        near = np.unique(np.clip(np.concatenate([short - 1, short, short + 1]), 0, len(took) - 1))
        for column, found in zip(out, (begin[short], took[short], took[near]), strict=True):
            column.append(found)
    when, lasted, beside = (np.concatenate(column) for column in out)
    return when, lasted, beside


def _narrow(pulses: Pulses) -> bool:
    """Whether any pulse is far shorter than most, of all and of those at its level: few are, so most lines need no further look."""
    most = NARROW * pulses.lasted.typical
    return any(len(own) and own.least < min(most, 0.5 * own.typical) for own in (pulses.low, pulses.high))


def _among_others(own: Measured, short: NDArray[np.int64], beside: NDArray[np.int64]) -> bool:
    """Whether pulses that look short are the shorter ones of a line whose pulses have every length: an encoder's, say, not a clock's. beside: how long
    they last and those next to them: a spike cuts a pulse into anything."""
    limit, others = 2 * int(short.max()), len(own) - len(beside)
    below = len(own.below(limit)) - int(np.count_nonzero(beside < limit))
    return others > 0 and below / others > CONTINUED


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
