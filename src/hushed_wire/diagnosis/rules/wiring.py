"""Wires: lines that never move, that touch, that are disturbed, or that make sense only in another place.

An exchange is tested by decoding under it; what a wiring has to explain, and how it is tried, is in `hypotheses`.
"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...bus.i2c import spike_ticks
from ...finding import Finding
from ...units import show
from ..case import Case, sense, unmet
from ..hypotheses import wirings
from ..rule import Rule, is_addressed, moves_words, not_addressed

__all__ = ["RULES"]

NARROW = 0.2  # of the usual pulse: what is so much shorter is none of the driver's
TOGETHER = 0.98  # share of edges that two lines have at the same time when they touch
LEAST_EDGES = 12  # of a line that is held against another
FILTERED = 50e-9  # seconds: tSP, what Fast-mode inputs take out
SPIKE = 400e-9  # seconds: the longest pulse on an I2C bus that is taken for one


# ---- lines that do not move ----------------------------------------------------------------------------------------------


def held(case: Case) -> Iterator[Finding]:
    """A pulled-up line that never leaves its level although the bus is used, or that lies low on an idle bus."""
    first, second = case.kind.needs
    for role, other in ((first, second), (second, first)):
        edges, beside = case.edges(role), case.edges(other)
        if len(edges.times) > 1 or edges.level[0] > 1:
            continue
        low = edges.level[0] == 0
        busy = len(beside.times) - 1
        if not busy and (not low or beside.level[-1] != 1):
            continue  # nothing moves at all, and nothing is held: capture.silent
        name, clock_name = case.names(role)[0], case.names(other)[0]
        causes = [
            "shorted to ground or without pull-up",
            "held by a device that was reset in mid-word (hung bus)",
            "a device without supply",
        ] if low else ["driver pin not connected or not in its I2C function", "tied to the supply", "probe not connected"]  # fmt: skip
        start, end = case.span
        yield case.found(
            "wiring.stuck-line", "pulled-up-low" if low else "pulled-up-high", lines=[name], start=start, end=end,
            evidence={"level": "low" if low else "high", "changes_on_the_other_line": busy, "could_be": causes, "duration": show(case.trace.duration, "s")},
            called=name if role in name.lower() else f"{name} ({role.upper()})", name=name, role=role.upper(),
            around=f"while {clock_name} changes {busy} times" if busy else f"while {clock_name} idles high",
        )  # fmt: skip
        return
    if all(case.moves(role) for role in case.kind.needs):
        case.rule_out("wiring.stuck-line", "both lines move and come back")


def still(case: Case) -> Iterator[Finding]:
    """A clock, a select or a data line that never moves while others do."""
    bus = case.bus
    here = {role: case.moves(role) for role in case.roles}
    clocks = [role for role in case.kind.clocks if role in here]
    if not any(here.values()):
        return
    if clocks and not any(here[role] for role in clocks):
        busiest = max(here, key=lambda role: here[role])
        yield _stuck(case, clocks[0], f"so no word is clocked, while '{bus.lines[busiest]}' moves", certain=True)
        return
    if case.kind.transfers:
        for role in ("cs", "cs1"):
            if role in here and not here[role] and not case.words:
                yield _stuck(case, role, f"which is not the level that selects ({bus.select}), so no part listens", certain=True)
                return
        data = case.kind.needs[1]
        if case.words >= 4 and not here.get(data, 1):
            yield _stuck(case, data, f"while {case.words:,} words were clocked", certain=True)
        else:
            case.rule_out("wiring.stuck-line", "clock, select and data move")
    lines = list(case.kind.data_lines(bus.lines))
    dead = [role for role in lines if role in here and not here[role]]
    poor = any(sense(r.part, r.chips) - unmet(case, r, r.chips) < 0.9 for r in case.direct)
    if dead and case.words >= (12 if poor else 64) and len(dead) <= len(lines) // 2 and all(role in case.roles for role in lines):
        for role in dead:
            yield _stuck(case, role, f"while the other data lines move, in {case.words:,} words", certain=False)


def _stuck(case: Case, role: str, why: str, certain: bool) -> Finding:
    level = int(case.trace.level_at(case.roles[role], np.array([case.trace.end - 1]))[0])
    shown = {0: "low", 1: "high"}.get(level, "unknown")
    name, (start, end) = case.bus.lines[role], case.span
    return case.found(
        "wiring.stuck-line", confidence="certain" if certain else "likely", lines=[name], start=start, end=end,
        evidence={"level": shown, "words": case.words}, name=name, role=role.upper(), level=shown, why=why,
        to="ground" if level == 0 else "the supply",
    )  # fmt: skip


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
    edges = {role: case.edges(role).times[1:] for role in case.roles if case.moves(role) >= LEAST_EDGES}
    slack = 2 * case.trace.resolution()
    roles = list(edges)
    for number, a in enumerate(roles):
        for b in roles[number + 1 :]:
            one, two = edges[a], edges[b]
            if abs(len(one) - len(two)) > 0.02 * len(one):
                continue
            after = np.clip(np.searchsorted(one, two), 0, len(one) - 1)
            near = np.minimum(np.abs(one[after] - two), np.abs(one[np.maximum(after - 1, 0)] - two)) <= slack
            if np.mean(near) < TOGETHER:
                continue
            names, (start, end) = case.names(a, b), case.span
            yield case.found(
                "wiring.joined-lines", lines=names, start=start, end=end, count=len(one),
                evidence={"changes": len(one), "together": f"{float(np.mean(near)):.0%}"},
                shown=" and ".join(f"'{name}' ({role.upper()})" for name, role in zip(names, (a, b), strict=True)),
            )  # fmt: skip


def disturbed(case: Case) -> Iterator[Finding]:
    """Pulses on the lines of an I2C bus that are longer than what parts filter out, and far shorter than the driver's own."""
    sample = case.trace.resolution() * float(case.trace.tick)
    found: list[tuple[str, np.ndarray, float]] = []
    clock = np.diff(case.edges("scl").times[case.edges("scl").level == 1])
    middle = float(np.median(clock)) if len(clock) else 0.0
    steady = middle > 0 and float(np.median(np.abs(clock - middle))) < 0.1 * middle
    if case.as_wired.score < 0.5 and not steady:
        return  # that is no clock with spikes on it, but something else
    width = spike_ticks(case.trace, case.roles["scl"])
    for role in ("scl", "sda"):
        edges = case.edges(role)
        # What parts and decoder filter out is left out here, too: pulses that are, or may be, as short as a spike.
        tiny = np.flatnonzero(np.diff(edges.times) < width)
        kept = np.delete(edges.times, np.unique(np.concatenate([tiny, tiny + 1])))
        took = np.diff(kept)[1:-1] * float(case.trace.tick)
        if len(took) < 16:
            continue
        clocked = case.edges("scl").durations()[1:-1]
        usual = float(np.median(clocked)) * float(case.trace.tick) if len(clocked) else 0.0
        short = np.flatnonzero((took <= SPIKE) & (took < NARROW * usual) & (took - sample > 0.9 * FILTERED))
        if len(short) and len(short) < 0.2 * len(took):
            found.append((role, kept[1:-2][short], float(np.median(took[short]))))
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
    sample = case.trace.resolution()
    for role in (*case.kind.clocks, "cs", "cs1", "latch"):
        if case.moves(role) < 24:
            continue
        edges = case.edges(role)
        took = edges.durations()[1:-1]
        usual = float(np.median(took))
        # A pulse that jitter made short has a long neighbour; a spike breaks one of the driver's own pulses, or stands alone.
        beside = np.concatenate([[usual], took[:-1]]), np.concatenate([took[1:], [usual]])
        within = beside[0] + took + beside[1] < 1.6 * usual
        alone = (beside[0] > 3 * usual) & (beside[1] > 3 * usual)
        level = edges.level[1:-1]
        high, low = (float(np.median(took[level == value])) if (level == value).any() else 0.0 for value in (1, 0))
        short = np.flatnonzero((took < NARROW * usual) & (took < 0.5 * np.where(level == 1, high, low)) & (within | alone))
        if not len(short) or len(short) > 0.05 * len(took) or usual < 6 * sample:
            continue
        name, lasts = case.bus.lines[role], show(case.seconds(int(np.median(took[short]))), "s")
        span = case.seconds(int(edges.times[1 + short[0]])), case.seconds(int(edges.times[1 + short[-1]]))
        yield _glitches(
            case, [name], len(short), lasts, span, {"pulse": lasts, "usual pulse": show(case.seconds(int(usual)), "s")},
            f"'{name}' ({role.upper()})", "50 to 100 ohms", "help", "certain",
        )  # fmt: skip
        return
    case.rule_out("wiring.glitches", "no pulse of the clock is far shorter than the others")


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
    """Clock and data of an I2C bus exchanged: makes sense that way, and not as wired."""
    wired, other = case.as_wired, case.exchanged
    if wired.score >= 0.5 or other.score < 0.8 or other.words < 1:
        if wired.words:
            text = (
                f"{wired.score:.0%} of the clocked bits make whole words as wired, {other.score:.0%} with SCL and SDA exchanged"
            )
            case.rule_out("wiring.swapped-lines", text)
        return
    (scl, sda), (start, end) = case.names("scl", "sda"), case.span
    answered = f"{other.answered} addresses answered" if other.answered else "no address answered"
    yield case.found(
        "wiring.swapped-lines", "clock-and-data", lines=[scl, sda], start=start, end=end, confidence="certain" if other.words > 4 else "likely",
        evidence={
            "sense_as_wired": round(wired.score, 3),
            "sense_exchanged": round(other.score, 3),
            "whole_words_exchanged": other.words,
            "reading": f"as wired, {wired.score:.0%} of the clocked bits make whole words; exchanged, {other.score:.0%}: {other.words} words, {answered}",
        },
        scl=scl, sda=sda,
    )  # fmt: skip


RULES = [
    Rule("wiring", held, is_addressed),
    Rule("wiring", still, moves_words),
    Rule("wiring", joined, lambda kind: not kind.scanned),
    Rule("wiring", disturbed, is_addressed),
    Rule("wiring", spikes, not_addressed),
    Rule("wiring", exchanged, is_addressed),
    *wirings,
]
