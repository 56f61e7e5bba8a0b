"""The capture itself: is there anything to see, is it seen well enough, and is it what the rig describes?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ...bus.base import ANSWERS
from ...bus.tried import tried
from ...finding import Finding
from ...rig import DeviceReading
from ...trace.measured import Measured
from ...units import parse, show
from ..bearing import bearing, borne, exchanged_by_shape
from ..case import Case, broken, sense
from ..rule import Rule, is_addressed, moves_words, not_addressed

__all__ = ["RULES"]

BUSY = 64  # changes from which on lines are asked for their shape
FEWEST_SAMPLES = 4.0  # a clock period sampled less often loses edges
FEW_PULSES = 32  # of a clock, that tell how it is seen
SINGLE = 0.3  # share of a clock's stretches that last a single sample, from which on others may have been lost
LOST = 0.04  # share of those that last two, from which on some were
LEVELS = {0: "low", 1: "high", 2: "unknown"}


def silent(case: Case) -> Iterator[Finding]:
    """No change on any line of the bus."""
    if any(case.moves(role) for role in case.roles):
        return
    if any(len(reading) for reading in case.reading.devices):
        # Buses are set up one after the other: this one may have had its turn ahead of the capture, or have it behind.
        case.shared.unjudged.append(f"the bus '{case.bus.name}', on which nothing moved")
        return
    level = {role: LEVELS[case.pulses(role).level] for role in case.roles}
    pulled = [level[role] for role in case.kind.pulled_up if role in level]
    said = "pulled-up-low" if pulled and set(pulled) == {"low"} else "pulled-up" if pulled else ""
    names = case.names(*(case.kind.needs if pulled else case.roles))
    start, end = case.span
    yield case.found(
        "capture.silent", said, lines=names, start=start, end=end,
        evidence={"levels": {case.bus.lines[role]: value for role, value in level.items()}, "duration": show(case.trace.duration, "s")},
        names=" and ".join(names), kind=case.kind.title, lasts=show(case.trace.duration, "s"),
        levels=", ".join(f"{role.upper()} stays {level[role]}" for role in case.kind.pulled_up if role in level),
    )  # fmt: skip


def undersampled(case: Case) -> Iterator[Finding]:
    """Fewer samples a clock period than edges need."""
    told = case.trace.sample > 0
    rig_clock = float(parse(case.bus.clock, "Hz")) if case.bus.clock else 0.0
    by_rig = 1 / (case.trace.resolution() * float(case.trace.tick) * rig_clock) if told and rig_clock else None
    samples = case.samples_a_clock
    # Far below what is needed, whole clocks vanish and the rest looks slow: then the rig's clock tells, or, without one, that
    # many pulses last a single sample.
    unread = told and case.as_wired.score < 0.5
    hopeless = unread and (_single(case) if by_rig is None else by_rig < FEWEST_SAMPLES)
    if samples is None and not (hopeless and by_rig):
        return
    samples = min(count for count in (samples, by_rig if hopeless else None) if count is not None)
    if samples >= FEWEST_SAMPLES and not hopeless:
        if told and case.as_wired.score >= 0.5:
            case.rule_out("capture.undersampled", f"{samples:.1f} samples a clock period")
        return
    together = case.talk.passed_over.together
    # A simulator's exact trace may have few ticks a period and nothing wrong; there the interval is only a guess.
    pulses = case.pulses("scl").lasted
    uneven = len(pulses) > 0 and pulses.least != pulses.most
    damaged = case.as_wired.score < 0.9 or together > 0
    if not hopeless and (not uneven or (not told and not damaged)):
        return
    interval = case.trace.resolution() * float(case.trace.tick)
    seen = 1 / (samples * interval)
    start, end = case.span
    yield case.found(
        "capture.undersampled", lines=case.names("scl"), start=start, end=end, confidence="certain" if told else "likely",
        evidence={"samples_a_clock": round(samples, 2), "sample_rate": 1 / interval, "both_lines_in_one_sample": together},
        samples=f"{samples:.1f}", rate=show(1 / interval, "Hz"), clock=show(seen, "Hz"), needed=show(10 * max(seen, rig_clock), "Hz"),
    )  # fmt: skip


def clocks_lost(case: Case) -> Iterator[Finding]:
    """A clock that is sampled too slowly: most of its stretches last one sample or two, and what comes has no shape.

    At two samples a period a steady clock still comes through whole, one that wavers does not.
    """
    clock = next((role for role in case.clocks if case.moves(role) > 2 * FEW_PULSES), "")
    if not clock or case.kind.each_rests or borne(case):
        return
    tick, told = float(case.trace.tick), case.trace.sample
    period = 1 / float(parse(case.bus.clock, "Hz")) if case.bus.clock and not case.kind.scanned else 0.0
    hopeless = told and 0 < period < 2 * told * tick
    interval = (told if hopeless else _sampled_at(case, case.pulses(clock).lasted)) * tick
    if not interval:
        return
    by_rig = period / interval if period else FEWEST_SAMPLES
    samples = min(2.0, by_rig)  # more than that, and no clock would be lost
    start, end = case.span
    yield case.found(
        "capture.undersampled", lines=case.names(clock), start=start, end=end, confidence="certain" if hopeless else "likely",
        evidence={"sample_rate": 1 / interval}, samples=f"{samples:.1f}" if by_rig < 2 else "about two", rate=show(1 / interval, "Hz"),
        clock=show(1 / (samples * interval), "Hz"), needed=show(10 / (samples * interval), "Hz"),
    )  # fmt: skip


def _sampled_at(case: Case, lasts: Measured) -> float:
    """Ticks between the samples of a clock that loses edges by it, 0 where its stretches are not such: all last whole samples, most of them one or two,
    some of them each. Other traffic whose stretches are whole, as those of a UART are, has longer ones among them."""
    unit = float(case.trace.sample) or lasts.percentile(0.05)
    if unit < 1:
        return 0.0
    near = lasts.below(8.5 * unit)
    value = near.value / unit
    whole = np.round(value)
    if len(near) < FEW_PULSES or _share(near, np.abs(value - whole) < 0.1) < 0.97:
        return 0.0
    one, two, more = (_share(near, each) for each in (whole == 1, whole == 2, whole > 2))
    return unit if one > SINGLE and two > LOST and more < LOST else 0.0


def _share(lasts: Measured, which: NDArray[np.bool_]) -> float:
    """The share of all that those lengths have."""
    return float(lasts.count[which].sum()) / max(1, len(lasts))


def _single(case: Case) -> bool:
    """Whether many of the clock's pulses last a single sample."""
    pulses = case.pulses("scl").lasted
    return len(pulses) > 16 and pulses.share_below(case.trace.resolution() + 1) > 0.2


def clipped(case: Case) -> Iterator[Finding]:
    """The capture begins in the middle of traffic, or behind the set-up."""
    cut = case.begins_cut
    behind = [reading.device.name for reading in case.devices if len(reading) and not reading.started and reading.part.start_up]
    if not cut and not behind:
        return
    start = case.seconds(case.trace.start)
    steps = sorted({name for reading in case.devices if reading.device.name in behind for name in _steps(reading)})
    said = "both" if cut and behind else "cut" if cut else "some" if steps else ""
    yield case.found(
        "capture.clipped-start", said, lines=case.names(*case.kind.needs), start=start, end=start,
        evidence={"cut_transaction": cut, "devices_without_set_up": behind}, devices=" and ".join(behind),
        steps=", ".join(steps),
    )  # fmt: skip


def _steps(reading: DeviceReading) -> set[str]:
    """The steps of a set-up among what a display was told."""
    return {name for chip in reading.chips for name in chip.names} & set(reading.part.start_up)


def cut_short(case: Case) -> Iterator[Finding]:
    """The file ends early."""
    for note in case.trace.notes:
        if note.code == "capture.cut-short":
            end = case.seconds(case.trace.end)
            lines = case.names(*case.kind.needs)
            yield case.found("capture.cut-short", lines=lines, start=end, end=end, evidence={"read_up_to": end}, note=note.text)
            return


def unknown_levels(case: Case) -> Iterator[Finding]:
    """Stretches of x or z on the bus's lines, beyond what lies ahead of the first value."""
    spans, names, firsts = 0, [], []
    for role in case.roles:
        own = case.pulses(role)
        if own.blurred is not None:
            names += case.names(role)
            spans += own.blurs
            firsts.append(case.seconds(own.blurred))
    if names:
        yield case.found(
            "capture.unknown-levels", lines=names, start=min(firsts), count=spans, evidence={"stretches": spans},
            names=" and ".join(names), have="has" if len(names) == 1 else "have", stretches=f"{spans} stretch{'es' if spans > 1 else ''}",
        )  # fmt: skip


def no_calls(case: Case) -> Iterator[Finding]:
    """The lines carry something that is no I2C either way, or never speak to the rig's devices."""
    edges = sum(case.moves(role) for role in case.kind.needs)
    lines = case.names("scl", "sda")
    if edges >= 32 and max(case.as_wired.score, case.exchanged.score) < 0.5:
        yield case.found(
            "capture.unlike-rig", "not-i2c", lines=lines, confidence="likely",
            evidence={"score": round(case.as_wired.score, 3), "score_exchanged": round(case.exchanged.score, 3), "edges": edges, **_tried(case)},
            names=" and ".join(lines), wired=f"{case.as_wired.score:.0%}", other=f"{case.exchanged.score:.0%}",
        )  # fmt: skip
        return
    who = case.who
    tried = [int(address) for address in np.unique(who.address) if address >= 0]
    answered = {int(address) for address in np.unique(who.address[who.answered])}
    for device in case.rig.devices_on(case.bus):
        possible = case.rig.target(device).part.i2c
        straps = set(possible.addresses if possible else [])
        related = straps | {device.address or 0}
        related |= {2 * address & 0x7F for address in related} | {2 * address + 1 & 0x7F for address in related}
        # Calls in vain to a related address are for the rules on addresses to explain.
        if tried and device.address not in tried and not related & set(tried) - answered:
            strapped = sorted(straps & answered)
            yield case.found(
                "capture.unlike-rig", "other-strap" if strapped else "not-called", device=device.name, lines=lines, confidence="likely",
                evidence={"addresses_tried": tried}, name=device.name, address=f"{device.address:#04x}", part=device.part,
                tried=", ".join(f"{address:#04x}" for address in tried[:8]), strapped=f"{strapped[0]:#04x}" if strapped else "",
            )  # fmt: skip


def _tried(case: Case) -> dict[str, str]:
    """Of lines that nobody named: each kind of bus that they could be, and why they are none."""
    return tried(case.head) if case.plan.made_up and len(case.shared.plan.rig.bus) == 1 else {}


def no_words(case: Case) -> Iterator[Finding]:
    """Lines move, and no word of the bus comes of it; or words come, and the part that should get them makes no sense of them."""
    start, end = case.span
    if case.one_held:
        return
    lines = [line for role, line in case.bus.lines.items() if role not in ANSWERS and case.moves(role)]
    if not case.words and not case.kind.scanned and lines and not case.begins_cut:
        yield case.found(
            "capture.unlike-rig", "no-words", confidence="likely", lines=lines, start=start, end=end, names=", ".join(lines), kind=case.kind.title
        )  # fmt: skip
    for reading in case.devices:
        worth, torn = sense(reading.part, reading.chips), broken(case, reading)
        strange = sum(int(np.count_nonzero(chip.kind == -1)) for chip in reading.chips)
        if case.plan.assumed:
            continue
        if torn >= 0.2 and worth < 0.5 and case.words >= 4:
            yield case.found(
                "capture.unlike-rig", "broken", confidence="likely", device=reading.device.name, start=start, end=end,
                evidence={"sense": f"{worth:.0%}", "broken": f"{2 * torn:.0%}"}, name=reading.device.name, worth=f"{worth:.0%}", part=reading.part.name,
            )  # fmt: skip
        elif len(reading) >= 8 and strange > len(reading) / 2:
            yield case.found(
                "capture.unlike-rig", "other-part", confidence="likely", device=reading.device.name, start=start, end=end,
                evidence={"sense": f"{worth:.0%}"}, name=reading.device.name, strange=f"{strange:,} of {len(reading):,}", part=reading.part.name,
            )  # fmt: skip


def no_shape(case: Case) -> Iterator[Finding]:
    """Much moves, and nothing of it has the shape of this kind of bus: neither alike pulses nor whole words."""
    moves = sum(case.moves(role) for role in case.roles)
    if moves < BUSY or borne(case) or exchanged_by_shape(case) is not None:
        return
    if case.one_held:
        return
    lines = [line for role, line in case.bus.lines.items() if case.moves(role)]
    start, end = case.span
    yield case.found(
        "capture.unlike-rig", "no-shape", confidence="likely", lines=lines, start=start, end=end, names=", ".join(lines), kind=case.kind.title,
        evidence={"changes": moves, "shape": f"{bearing(case):.0%}", **_tried(case)},
    )  # fmt: skip


RULES = [
    Rule("capture", silent),
    Rule("capture", undersampled, is_addressed),
    Rule("capture", clocks_lost, not_addressed),
    Rule("capture", no_calls, is_addressed),
    Rule("capture", no_words, not_addressed),
    Rule("capture", no_shape, moves_words),
    Rule("capture", cut_short),
    Rule("capture", clipped),
    Rule("capture", unknown_levels),
]
