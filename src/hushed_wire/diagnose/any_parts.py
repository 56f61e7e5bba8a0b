"""What parts on any bus were told: their own rules, as for sequences, and the picture that comes of it."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from ..finding import Finding
from ..part import load
from ..rig import DeviceReading
from ..rig.schema import pins_of
from ..sequence.examine import RULES as SEQUENCE_RULES
from .any_case import EVERYTHING, POWERED, AnyCase, broken, sense, timed
from .beside import beside
from .picture import beyond

__all__ = ["RULES", "all_good"]

# ---- the part's own rules, as for sequences -----------------------------------------------------------------------------------


def rules(case: AnyCase) -> Iterator[Finding]:
    """Everything that is checked on sequences, on what was sent."""
    for reading in case.hearing.devices:
        target = case.rig.target(reading.device)
        seen: set[tuple[str, str]] = set()
        for chip in reading.chips:
            if not len(chip):
                continue
            steps = timed(case, reading, chip)
            for rule in SEQUENCE_RULES:
                for found in rule(target, steps):
                    if (found.code, found.summary) in seen or not _fair(case, reading, found):
                        continue
                    seen.add((found.code, found.summary))
                    if found.start is not None:
                        found.start = found.end = float(found.start - float(POWERED))
                    found.summary = f"on '{reading.device.name}', {found.summary}"
                    found.evidence.pop("place", None)
                    yield found
        yield from _faint(case, reading)
        if reading.started:
            case.rule_out(
                "setup.step-missing",
                f"the set-up of '{reading.device.name}' is in the capture, and it was held against the part's rules",
            )


def undriven(case: AnyCase) -> Iterator[Finding]:
    """Pins of an expander that drive a display and were made inputs. Where nothing was said of them, that may have been ahead of the capture."""
    for bridge in case.rig.bridge:
        states, part = case.hearing.driven.get(bridge.name), load(bridge.part)
        if states is None or not len(states) or "iodir-a" not in part.by_name:
            continue
        pins = pins_of(part, bridge.count)
        inputs = [pin for pin in bridge.drives.values() if int(states.undriven[-1]) >> pins[pin] & 1]
        if not inputs:
            continue
        yield Finding(
            "setup.step-missing", f"{', '.join(inputs)} of '{bridge.name}' are inputs, as IODIR says, so nothing drives what hangs there",
            "write 0 to the bits of IODIRA and IODIRB that drive the display, once, before anything is sent to it",
            device=bridge.name,
            lines=[line for line in case.bus.lines.values() if line in case.trace.names], start=case.trace.seconds(int(states.time[0])),
            end=case.trace.seconds(case.trace.end), evidence={"inputs": inputs, "source": f"{part.source}: 3.5.1, I/O Direction Register"},
            explains=[code for code in EVERYTHING if code != "setup.step-missing"],
        )  # fmt: skip


def _faint(case: AnyCase, reading: DeviceReading) -> Iterator[Finding]:
    """A contrast that is half of what is hinted at as faint, or less."""
    for hint in reading.part.beyond:
        value = reading.memory.register(hint.register) if hint.register else None
        if isinstance(value, int) and hint.below >= 16 and value < hint.below // 2 and not case.unfinished:
            start = case.trace.seconds(case.trace.start)
            yield Finding(
                "setup.contrast-low", f"on '{reading.device.name}', {hint.register.replace('.', ' ')} is {value}, so little can be seen: "
                f"{hint.look.format(value=value)}",
                "set it to the middle of its range, and from there to what looks right", confidence="likely", device=reading.device.name,
                start=start, end=case.trace.seconds(case.trace.end), evidence={"value": value, "source": f"{reading.part.source}: {hint.source}"},
            )  # fmt: skip


def _fair(case: AnyCase, reading: DeviceReading, found: Finding) -> bool:
    """What was not captured is not held against the driver."""
    if found.code == "timing.power-on-short":
        return False
    if found.code in ("setup.unknown-command", "setup.undocumented-value") and not reading.started:
        return False  # which of its command sets a part was in, or which half of a byte comes first, is not known
    if case.plan.assumed and reading.panel.needs.get(str(found.evidence.get("register", ""))) is not None:
        return False  # with a panel that was only assumed, another panel explains as much
    late = found.code.startswith("setup.") and found.code not in (
        "setup.unknown-command",
        "setup.undocumented-value",
        "setup.decimal-for-hex",
    )
    return not late or (reading.started and not case.unfinished)


# ---- the picture -----------------------------------------------------------------------------------------------------------------


def picture(case: AnyCase) -> Iterator[Finding]:
    """Pictures that were written in part, or that show nothing."""
    for reading in case.hearing.devices:
        if not reading.started or case.unfinished or not any(len(chip) for chip in reading.chips):
            continue
        glass = reading.glass()
        known = glass.known if hasattr(glass, "known") else glass.written
        count, total = int(np.count_nonzero(known)), int(known.size)
        unit = "cells" if hasattr(glass, "known") else "pixels"
        name, end = reading.device.name, case.trace.seconds(case.trace.end)
        if 0 < count < total and not case.plan.assumed:  # of a panel that was only assumed, another size explains as much
            yield Finding(
                "picture.partial", f"on '{name}', {count:,} of the {total:,} {unit} of the glass were written; "
                "the rest shows what the memory held at power-on, usually noise",
                "write the whole memory once after the set-up; look at what ends the transfer: "
                "a length, a buffer that is too small, or a window that is too narrow",
                device=name, start=case.trace.seconds(case.trace.start), end=end, evidence={"written": count, "needed": total},
            )  # fmt: skip
        elif count == total:
            case.rule_out("picture.partial", f"all {total:,} {unit} of the glass were written")
        if getattr(glass, "backlight", None) is False and not case.plan.assumed and not _ever_lit(reading):
            yield Finding(
                "setup.backlight-off", f"the backlight of '{name}' is never on, by the line that the driver sets for it",
                "switch it on; where it is on, and dark, the rig's (or the driver's) idea of the line's polarity is wrong",
                device=name, start=end, end=end, evidence={"backlight": "off"},
            )  # fmt: skip
        if not _anything(glass) and not case.plan.assumed:
            yield Finding(
                "picture.blank", f"on '{name}', nothing is written that could be seen",
                "send a picture or a text; look for a buffer that is never filled or never sent",
                device=name, start=case.trace.seconds(case.trace.start), end=end, evidence={"written": count, "needed": total},
            )  # fmt: skip


def _ever_lit(reading: DeviceReading) -> bool:
    """Whether the backlight was on at any time; switched off later it may be meant."""
    return reading.light is not None and bool((reading.light[0].edges(reading.light[1]).level == 1).any())


def _anything(glass: Any) -> bool:
    if hasattr(glass, "lines"):
        return any(line.strip() for line in glass.lines)
    return bool(glass.rgb.any() if hasattr(glass, "rgb") else glass.lit.any())


def all_good(case: AnyCase) -> Iterator[Finding]:
    """Nothing wrong on the wires: what is left, for each panel."""
    for reading in case.hearing.devices:
        glass = reading.glass()
        if not any(len(chip) for chip in reading.chips) or not glass.shown or not _anything(glass):
            continue
        looks = beyond(reading)
        yield Finding(
            "picture.all-traffic-good", f"on '{reading.device.name}', wires, set-up and picture are right; the panel should show what hushed-wire screen shows",
            "if it stays dark, look at " + "; ".join(looks), device=reading.device.name,
            lines=[line for line in case.bus.lines.values() if line in case.trace.names], start=case.trace.seconds(case.trace.start),
            end=case.trace.seconds(case.trace.end), evidence={"set_up_in_the_capture": reading.started},
        )  # fmt: skip


def capture(case: AnyCase) -> Iterator[Finding]:
    """What the file itself tells, and traffic that no part of the rig makes sense of."""
    for note in case.trace.notes:
        if note.code in ("capture.cut-short", "capture.unknown-levels"):
            remedy = (
                "record or export it again"
                if note.code == "capture.cut-short"
                else "check the probes; unknown levels are not guessed"
            )
            yield Finding(note.code, note.text, remedy,
                          start=case.trace.seconds(case.trace.start), end=case.trace.seconds(case.trace.end))  # fmt: skip
    if not case.words and any(case.moves(role) for role in case.bus.lines):
        lines = [line for role, line in case.bus.lines.items() if case.moves(role)]
        yield Finding(
            "capture.unlike-rig", f"{', '.join(lines)} move, but no word of the {case.bus.kind} bus comes of it",
            "check which line plays which role, and the level that selects",
            confidence="likely", lines=lines, start=case.trace.seconds(case.trace.start), end=case.trace.seconds(case.trace.end),
        )  # fmt: skip
    for reading in case.hearing.devices:
        worth = sense(reading.part, reading.chips)
        count = sum(len(chip) for chip in reading.chips)
        strange = sum(int(np.count_nonzero(chip.kind == -1)) for chip in reading.chips)
        torn = broken(case, reading)
        if torn >= 0.2 and worth < 0.5 and not case.plan.assumed and case.words >= 4:
            yield Finding(
                "capture.unlike-rig", f"what comes on the lines of '{reading.device.name}' is no traffic of this bus: clocks outside the select, "
                f"transfers of broken words, "
                f"and {worth:.0%} of it makes sense to a {reading.part.name}",
                "check that the capture is of this rig, and which line of it plays which role", confidence="likely", device=reading.device.name,
                start=case.trace.seconds(case.trace.start), end=case.trace.seconds(case.trace.end), evidence={"sense": f"{worth:.0%}",
                "broken": f"{2 * torn:.0%}"},
                explains=[*(code for code in EVERYTHING if code != "capture.unlike-rig"), "timing.clock-too-fast", "wiring.glitches"],
            )  # fmt: skip
        elif count >= 8 and strange > count / 2 and not case.plan.assumed:
            yield Finding(
                "capture.unlike-rig", f"of what '{reading.device.name}' gets, {strange:,} of {count:,} commands are none of {reading.part.name}",
                "check that the capture is of this rig: another part, other lines, or another bus", confidence="likely", device=reading.device.name,
                start=case.trace.seconds(case.trace.start), end=case.trace.seconds(case.trace.end), evidence={"sense": f"{worth:.0%}"},
                explains=[code for code in EVERYTHING if code != "capture.unlike-rig"],
            )  # fmt: skip


def offsets(case: AnyCase) -> Iterator[Finding]:
    """Pictures of the panel's size that lie beside the glass, and text one cell beside its place."""
    for reading in case.hearing.devices:
        yield from beside(
            reading, bool(case.plan.assumed), case.trace.seconds(case.trace.start), case.trace.seconds(case.trace.end)
        )


RULES: list[Callable[[AnyCase], Iterator[Finding]]] = [capture, undriven, rules, picture, offsets]
