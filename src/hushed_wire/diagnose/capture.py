"""Rules on the capture itself: is there anything to see, and is it seen well enough?"""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..bus.words import CUT
from ..finding import Finding
from ..units import parse, show
from .case import Case

__all__ = ["RULES"]

FEWEST_SAMPLES = 4.0  # a clock period sampled less often loses edges
DEEPER = ["address.no-answer", "address.shifted", "timing.clock-too-fast", "setup.display-off", "setup.charge-pump-off"]
DEEPER += ["setup.wrong-geometry", "picture.blank", "picture.partial", "capture.unlike-rig", "capture.clipped-start"]


def silent(case: Case) -> Iterator[Finding]:
    """No change on either bus line."""
    scl, sda = case.edges["scl"], case.edges["sda"]
    moves = len(scl.times) + len(sda.times) - 2
    level = {
        name: "low" if edges.level[-1] == 0 else "high" if edges.level[-1] == 1 else "unknown"
        for name, edges in case.edges.items()
    }
    if moves:
        return
    low = level["scl"] == level["sda"] == "low"
    summary = f"nothing moves on {' and '.join(case.names('scl', 'sda'))} for the whole {show(case.trace.duration, 's')}; " + (
        "both lie low" if low else f"SCL stays {level['scl']}, SDA {level['sda']}"
    )
    remedy = (
        "measure the bus voltage: with both lines low the pull-ups have no supply, the probes or their ground are not connected, or a "
        "device without supply holds both down"
        if low
        else "check that the driver runs at all (does it get to its display code?), that the probes sit on the display's pins with "
        "ground connected, and trigger on the first falling edge of SDA"
    )
    yield Finding(
        "capture.silent", summary, remedy, lines=case.names("scl", "sda"), start=case.seconds(case.trace.start),
        end=case.seconds(case.trace.end), evidence={"levels": level, "duration": case.trace.duration},
        explains=["capture.unlike-rig"],
    )  # fmt: skip


def undersampled(case: Case) -> Iterator[Finding]:
    """Fewer samples a clock period than edges need."""
    told = case.trace.sample > 0
    rig_clock = _rig_clock(case)
    by_rig = 1 / (case.trace.resolution() * float(case.trace.tick) * rig_clock) if told and rig_clock else None
    samples = case.samples_a_clock
    pulses = np.diff(case.edges["scl"].times)[1:-1]
    # Far below what is needed, whole clocks vanish and the rest looks slow: then the rig's clock tells, or, without one, that
    # many pulses last a single sample.
    single = len(pulses) > 16 and np.count_nonzero(pulses <= case.trace.resolution()) > 0.2 * len(pulses)
    hopeless = told and case.as_wired.score < 0.5 and (single if by_rig is None else by_rig < FEWEST_SAMPLES)
    if samples is None and not (hopeless and by_rig):
        return
    samples = min(count for count in (samples, by_rig if hopeless else None) if count is not None)
    if samples >= FEWEST_SAMPLES and not hopeless:
        if told and case.as_wired.score >= 0.5:
            case.rule_out("capture.undersampled", f"{samples:.1f} samples a clock period")
        return
    # A simulator's exact trace may have few ticks a period and nothing wrong; there the interval is only a guess.
    uneven = len(pulses) > 0 and pulses.min() != pulses.max()
    damaged = case.as_wired.score < 0.9 or case.reading.decoded.together > 0
    if not hopeless and (not uneven or (not told and not damaged)):
        return
    interval = case.trace.resolution() * float(case.trace.tick)
    seen = 1 / (samples * interval)
    needed = 10 * max(seen, rig_clock)
    yield Finding(
        "capture.undersampled",
        f"the capture has {samples:.1f} samples a clock period (sampled at {show(1 / interval, 'Hz')}, clock about {show(seen, 'Hz')} or more), "
        "so edges are lost and nothing decoded from it can be trusted",
        f"capture again at {show(needed, 'Hz')} or more, then diagnose that",
        lines=case.names("scl"),
        start=case.seconds(case.trace.start),
        end=case.seconds(case.trace.end),
        confidence="certain" if told else "likely",
        evidence={
            "samples_a_clock": round(samples, 2),
            "sample_rate": 1 / interval,
            "both_lines_in_one_sample": case.reading.decoded.together,
        },
        explains=[*DEEPER, "wiring.swapped-lines"],
    )


def _rig_clock(case: Case) -> float:
    return float(parse(case.bus.clock, "Hz")) if case.bus.clock else 0.0


def clipped(case: Case) -> Iterator[Finding]:
    """The capture begins in the middle of traffic, or behind the set-up."""
    marks = case.reading.decoded.marks
    start = case.seconds(case.trace.start)
    cut = bool(len(marks) and marks.kind[0] == CUT)
    behind = [r for r in case.reading.devices if len(r.commands) and not r.started]
    if not cut and not behind:
        return
    parts = ["the first transaction is under way when the capture begins"] if cut else []
    if behind:
        parts.append(
            f"the set-up of {' and '.join(r.device.name for r in behind)} is not in it (the display was running already)"
        )
    yield Finding(
        "capture.clipped-start",
        "; ".join(parts) + ": what came before is not held against the driver",
        "to see the set-up too, start the capture first, then reset the driver",
        lines=case.names("scl", "sda"),
        start=start,
        end=start,
        evidence={"cut_transaction": cut, "devices_without_set_up": [r.device.name for r in behind]},
    )


def cut_short(case: Case) -> Iterator[Finding]:
    """The file ends early."""
    for note in case.trace.notes:
        if note.code == "capture.cut-short":
            end = case.seconds(case.trace.end)
            yield Finding(
                "capture.cut-short", note.text, "export the capture again if what is missing matters", start=end, end=end,
                lines=case.names("scl", "sda"), evidence={"read_up_to": end},
            )  # fmt: skip
            return


def unknown_levels(case: Case) -> Iterator[Finding]:
    """Stretches of x or z on the bus lines, beyond what lies ahead of the first value."""
    spans, names = 0, []
    first = None
    for role, edges in case.edges.items():
        unknown = (edges.level == 2) & (edges.times > case.trace.start)
        if unknown.any():
            names += case.names(role)
            spans += int(np.count_nonzero(unknown))
            when = case.seconds(int(edges.times[unknown][0]))
            first = when if first is None else min(first, when)
    if names:
        yield Finding(
            "capture.unknown-levels",
            f"{' and '.join(names)} {'has' if len(names) == 1 else 'have'} {spans} stretch{'es' if spans > 1 else ''} without a known level; "
            "nothing was read into them",
            "look there before trusting what lies around them",
            lines=names, start=first, count=spans, evidence={"stretches": spans},
        )  # fmt: skip


def unlike_rig(case: Case) -> Iterator[Finding]:
    """The lines carry something that is no I2C either way, or never speak to the rig's devices."""
    edges = len(case.edges["scl"].times) + len(case.edges["sda"].times) - 2
    if edges >= 32 and max(case.as_wired.score, case.exchanged.score) < 0.5:
        yield Finding(
            "capture.unlike-rig",
            f"the traffic on {' and '.join(case.names('scl', 'sda'))} is not I2C: {case.as_wired.score:.0%} of the clocked bits make whole "
            f"words, {case.exchanged.score:.0%} with the lines exchanged",
            "check which lines of the capture are the bus, and that the capture was sampled at ten times the bus clock or more",
            lines=case.names("scl", "sda"), confidence="likely",
            evidence={"score": round(case.as_wired.score, 3), "score_exchanged": round(case.exchanged.score, 3), "edges": edges},
            explains=[code for code in DEEPER if code != "capture.unlike-rig"],
        )  # fmt: skip
        return
    who = case.reading.addresses
    tried = [int(address) for address in np.unique(who.address) if address >= 0]
    answered = {int(address) for address in np.unique(who.address[who.answered])}
    for device in case.rig.devices_on(case.bus):
        possible = case.rig.target(device).part.i2c
        straps = set(possible.addresses if possible else [])
        related = straps | {device.address or 0}
        related |= {2 * address & 0x7F for address in related} | {2 * address + 1 & 0x7F for address in related}
        # Calls in vain to a related address are for the rules on addresses to explain.
        if tried and device.address not in tried and not related & set(tried) - answered:
            shown = ", ".join(f"{address:#04x}" for address in tried[:8])
            strapped = sorted(straps & answered)
            remedy = "check that the driver gets to its display code, and that this is the display's bus"
            if strapped:
                remedy = f"{strapped[0]:#04x} answers, the other strap of {device.part}: if that is the display, say address = {strapped[0]:#04x} in the rig"
            yield Finding(
                "capture.unlike-rig",
                f"nothing on the bus speaks to '{device.name}' at {device.address:#04x}; the traffic is for {shown}",
                remedy,
                device=device.name, lines=case.names("scl", "sda"), confidence="likely", evidence={"addresses_tried": tried},
            )  # fmt: skip


RULES = [silent, undersampled, unlike_rig, cut_short, clipped, unknown_levels]
