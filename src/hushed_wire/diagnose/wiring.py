"""Rules on the wires: exchanged, or held at one level. Exchange is tested by decoding under it."""

from __future__ import annotations

from collections.abc import Iterator

from ..finding import Finding
from ..units import show
from .capture import DEEPER
from .case import Case

__all__ = ["RULES"]


def swapped(case: Case) -> Iterator[Finding]:
    """Clock and data exchanged: makes sense that way, and not as wired."""
    wired, other = case.as_wired, case.exchanged
    if wired.score >= 0.5 or other.score < 0.8 or other.words < 1:
        if wired.words:
            text = (
                f"{wired.score:.0%} of the clocked bits make whole words as wired, {other.score:.0%} with SCL and SDA exchanged"
            )
            case.rule_out("wiring.swapped-lines", text)
        return
    scl, sda = case.names("scl", "sda")
    answered = f"{other.answered} addresses answered" if other.answered else "no address answered"
    yield Finding(
        "wiring.swapped-lines",
        f"SCL and SDA are exchanged: '{scl}' carries the data and '{sda}' the clock",
        f"exchange the two wires at the display (or at the driver's pins); if the display works, only the probes or the names in the "
        f"capture are exchanged: then say --line scl={sda} --line sda={scl}",
        lines=[scl, sda],
        start=case.seconds(case.trace.start),
        end=case.seconds(case.trace.end),
        confidence="certain" if other.words > 4 else "likely",
        evidence={
            "sense_as_wired": round(wired.score, 3),
            "sense_exchanged": round(other.score, 3),
            "whole_words_exchanged": other.words,
            "reading": f"as wired, {wired.score:.0%} of the clocked bits make whole words; exchanged, {other.score:.0%}: {other.words} words, {answered}",
        },
        explains=DEEPER,
    )


def stuck(case: Case) -> Iterator[Finding]:
    """A line that never leaves its level although the bus is used, or that lies low on an idle bus."""
    for role, other in (("scl", "sda"), ("sda", "scl")):
        edges, beside = case.edges[role], case.edges[other]
        if len(edges.times) > 1 or edges.level[0] > 1:
            continue
        low = edges.level[0] == 0
        busy = len(beside.times) - 1
        if not busy and (not low or beside.level[-1] != 1):
            continue  # nothing moves at all, and nothing is held: capture.silent
        name, clock_name = case.names(role)[0], case.names(other)[0]
        called = name if role in name.lower() else f"{name} ({role.upper()})"
        around = f"while {clock_name} changes {busy} times" if busy else f"while {clock_name} idles high"
        if low:
            summary = f"{called} is low for the whole capture, {around}"
            remedy = (
                f"a short or a missing pull-up and a hung bus look alike here. Power the display off and on and look again: if {name} "
                f"comes up, a device was holding it in mid-word: clock SCL nine times and send a STOP at start-up. If it stays low, unplug "
                f"the devices one by one and measure {name} against ground for a short; with all unplugged it has to read the supply"
            )
            explanations = [
                "shorted to ground or without pull-up",
                "held by a device that was reset in mid-word (hung bus)",
                "a device without supply",
            ]
        else:
            summary = f"{called} never falls, {around}"
            remedy = (
                f"check that the driver's {role.upper()} pin is set to its I2C function and wired to {name}, that the probe touches it, and "
                f"that {name} is not tied to the supply"
            )
            explanations = ["driver pin not connected or not in its I2C function", "tied to the supply", "probe not connected"]
        yield Finding(
            "wiring.stuck-line", summary, remedy, lines=[name], start=case.seconds(case.trace.start), end=case.seconds(case.trace.end),
            confidence="certain",
            evidence={
                "level": "low" if low else "high", "changes_on_the_other_line": busy, "could_be": explanations, "duration": show(case.trace.duration, "s"),
            },
            explains=[*DEEPER, "capture.silent", "capture.undersampled", "wiring.swapped-lines"],
        )  # fmt: skip
        return
    if all(len(edges.times) > 1 for edges in case.edges.values()):
        case.rule_out("wiring.stuck-line", "both lines move and come back")


RULES = [stuck, swapped]
