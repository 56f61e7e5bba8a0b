"""The set-up: what parts were told, held against their own rules by the code that checks sequences, and whose commands these are."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ...finding import Finding
from ...part import Commands, Part, catalog_names, commands, load
from ...part.bring_up import set_up_in
from ...rig import DeviceReading
from ...rig.guess_panel import panel_for
from ...sequence.examine import RULES as SEQUENCE_RULES
from ...units import parse
from ..case import POWERED, Case, broken, sense, strange_share, timed, unmet
from ..hypotheses import wrong_base
from ..rule import Rule

__all__ = ["RULES"]

FEW_WORDS = 8  # from which on a display that nobody set up is spoken to
UNSURE = ("setup.unknown-command", "setup.undocumented-value")
ANY_TIME = (*UNSURE, "setup.decimal-for-hex")  # that are told whenever the capture began


def kept(case: Case) -> Iterator[Finding]:
    """Everything that is checked on sequences, on what was sent."""
    for reading in case.devices:
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
                        found.start = round(found.start - float(POWERED), 10)
                        found.end = None if found.end is None else round(found.end - float(POWERED), 10)
                    found.bus = case.bus.name
                    found.summary = f"on '{reading.device.name}', {found.summary}"
                    if not case.panel_known(reading) and found.aside.get("by_panel"):  # with another panel it would be right
                        found.confidence = "likely"
                    _or_a_relative(case, reading, found)
                    found.evidence.pop("place", None)
                    yield found
        if reading.started and reading.part.command:
            case.rule_out(
                "setup.step-missing",
                f"the set-up of '{reading.device.name}' is in the capture, and it was held against the part's rules",
            )


def _or_a_relative(case: Case, reading: DeviceReading, found: Finding) -> None:
    """Of a setting that was never made, on a part that nobody named: another part that knows all that was sent may not have it at all."""
    registers = found.evidence.get("registers")
    if not case.plan.made_up or not registers or found.aside.get("set"):
        return
    owners = {name.partition(".")[0] for name in registers}
    lack = (part for part in case.relatives(reading) if part.panels and not owners & {command.owner for command in part.command})
    # One whose glass begins elsewhere than the windows that were sent is none.
    other = next((part for part in lack if _unlike(part, reading) <= _unlike(reading.part, reading)), None)
    if other is not None:
        found.confidence = "likely"
        found.remedy += f"; or the part is the {other.name}, which has no such setting: say --part {other.name}"


def _unlike(part: Part, reading: DeviceReading) -> int:
    """How badly the set-up and the windows that a display gets fit the best of a part's ready panels."""
    return panel_for(part, commands(part, reading.commands.payload), next(iter(part.panels))).unlike


def _fair(case: Case, reading: DeviceReading, found: Finding) -> bool:
    """What was not captured is not held against the driver."""
    if found.code == "timing.power-on-short":
        return False
    if found.aside.get("reset_line") and "reset" not in case.roles:
        return False
    if found.aside.get("from_power_on") and not _from_power_on(case, reading):
        return False
    if found.code in UNSURE and not reading.started:
        return False  # which of its command sets a part was in, or which half of a byte comes first, is not known
    if not case.panel_known(reading) and found.aside.get("by_panel") == "needs":
        return False  # with a panel that was only assumed, another panel explains as much
    if not found.code.startswith("setup.") or found.code in ANY_TIME:
        return reading.started or not found.aside.get("at_reset")
    told = found.aside.get("set")
    if told is None:  # a step that is missing, or comes too late
        return reading.started and not case.unfinished
    # What was set counts where somebody acknowledged it; on other buses only a bring-up shows that these words are commands at all. What has its
    # reset value, or is back at it, counts only where the set-up is there and over.
    return ((bool(told) and case.kind.addressed) or reading.started) and not (case.unfinished and found.aside.get("at_reset"))


def _from_power_on(case: Case, reading: DeviceReading) -> bool:
    """Whether the first command of the capture is the first that the part got: only behind a rest as long as the part needs to wake up can
    none of its start-up have come ahead, whose steps are nearer together."""
    first = min(int(chip.payload.start[0]) for chip in reading.chips if len(chip))
    rest = (first - case.trace.start) * case.trace.tick
    return rest >= parse(reading.part.waits.get("power_on", "0s"), "s")


def nothing_sent(case: Case) -> Iterator[Finding]:
    """A power-on or reset, words behind it, and no step of a set-up among them: the part keeps its reset values, which show nothing."""
    began = case.began
    if began is None or case.unfinished:
        return
    for reading in case.devices:
        chips = [chip for chip in reading.chips if len(chip)]
        if not chips or not reading.part.start_up or _names(reading.chips) & set(reading.part.start_up):
            continue
        if min(int(chip.payload.time[0]) for chip in chips) < began or sum(len(chip.payload) for chip in chips) < FEW_WORDS:
            continue  # what came ahead of it may have been anything
        if broken(case, reading) or strange_share(reading.chips) > 0.05:
            continue  # words that arrive as others may have been a set-up
        yield case.found(
            "setup.nothing-sent", device=reading.device.name, start=case.seconds(began), end=case.span[1],
            evidence={"words behind it": sum(len(chip.payload) for chip in chips), "steps of a set-up": 0}, part=reading.part.name,
        )  # fmt: skip


def decimals(case: Case) -> Iterator[Finding]:
    """A byte whose decimal digits were meant as hex."""
    for reading in case.devices:
        if not case.unfinished:
            found = wrong_base(case, reading, sense(reading.part, reading.chips) - unmet(case, reading, reading.chips))
            if found is None:
                continue
            value, meant = found
            start, end = case.span
            name = reading.part.command[reading.part.table()[meant]].name
            yield case.found(
                "setup.decimal-for-hex", "meant", device=reading.device.name, start=start, end=end, confidence="likely",
                evidence={"sent": f"{value:#04x}", "meant": f"{meant:#04x}"}, sent=f"{value:02X}", value=value, meant=f"{meant:02X}", name=name,
            )  # fmt: skip


def faint(case: Case) -> Iterator[Finding]:
    """A contrast that is half of what is hinted at as faint, or less."""
    for reading in case.devices:
        for hint in reading.part.beyond:
            value = reading.memory.register(hint.register) if hint.register else None
            if isinstance(value, int) and hint.below >= 16 and value < hint.below // 2 and not case.unfinished:
                start, end = case.span
                found = case.found(
                    "setup.contrast-low", confidence="likely", device=reading.device.name, start=start, end=end,
                    evidence={"value": value, "source": f"{reading.part.source}: {hint.source}"}, register=hint.register.replace(".", " "),
                    value=value, look=hint.look.format(value=value),
                )  # fmt: skip
                found.summary = f"on '{reading.device.name}', {found.summary}"
                yield found


def sisters(case: Case) -> Iterator[Finding]:
    """A set-up with commands that only a sister of the part has, and none that only the part itself has."""
    if any(key.startswith("part") for key in case.plan.assumed):
        return  # whose commands they are is what the part was worked out by
    for reading in case.devices:
        if not len(reading):
            continue
        if reading.part.memory.kind == "unknown":
            case.shared.unjudged.append(f"what '{reading.device.name}' is told, as nobody knows its part")
            continue
        framing = case.rig.target(reading.device).framing
        payload = [chip.payload for chip in reading.chips]
        alien = _unknown(reading.chips)
        if not alien:
            case.rule_out("setup.wrong-controller", f"what '{reading.device.name}' is sent is in its own command set")
            continue
        now, strange = sense(reading.part, reading.chips), strange_share(reading.chips)
        best: tuple[float, str] | None = None
        for name in catalog_names():
            other = load(name)
            if name == reading.part.name or framing not in other.framings or other.memory.kind == "port":
                continue
            own = [commands(other, each) for each in payload]
            table = reading.part.table()
            # What it opens that the sister does not know speaks for the part; some drivers send the commands of both.
            unknown = _unknown(own)
            mine = {code for code in unknown if table[code] >= 0}
            theirs = {code for code in alien if other.table()[code] >= 0}
            steps = {other.command[other.table()[code]].name for code in theirs} & set(other.start_up)
            worth = sense(other, own)
            if mine or len(unknown) > 0.25 * len(alien) or not (steps or len(theirs) > 1) or not set_up_in(other, _names(own)):
                continue
            if worth > 0.6:
                best = max(best or (0.0, ""), (worth, name))
        if best is not None:
            start, end = case.span
            yield case.found(
                "setup.wrong-controller", device=reading.device.name, start=start, end=end, confidence="likely",
                evidence={"as " + reading.part.name: f"{now:.0%} makes sense", "as " + best[1]: f"{best[0]:.0%}"},
               part=reading.part.name, other=best[1], strange=f"{strange:.0%}",
            )  # fmt: skip


def _names(own: list[Commands]) -> set[str]:
    return {name for chip in own for name in chip.names}


def _unknown(own: list[Commands]) -> set[int]:
    """The first bytes of what is no command of a part, as the part has it."""
    out: set[int] = set()
    for chip in own:
        for index in np.flatnonzero(chip.strange[:300]).tolist():
            out.add(chip.bytes_of(index)[0])
    return out


RULES = [
    Rule("setup", sisters),
    Rule("setup", kept),
    Rule("setup", decimals),
    Rule("setup", nothing_sent),
    Rule("setup", faint),
]
