"""Runs the rules on every bus of a rig, lets all findings compete, and says the outcome in one sentence."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from ..bus.tried import tried
from ..finding import Finding
from ..grades import GOOD, NOT_JUDGED, SEVERITIES, SO_FAR, WRONG
from ..part.neighbours import on_i2c
from ..rig import Reading, Setup
from ..trace import Trace
from .bearing import borne
from .case import Case, Shared, cases_of, sense
from .compete import compete
from .gathered import AtHand, Gathered
from .margins import Margin, margins
from .rule import Rule
from .rules import RULES
from .rules.picture import all_good

__all__ = ["Diagnosis", "diagnose", "judge", "nothing_known"]

BELOW_WORDS = ("capture", "wiring", "frame")
MOST_NAMED = 4  # parts that can have an address


@dataclass
class Diagnosis:
    """verdict: one sentence. findings: the most likely cause first. hidden: those explained away. judgement: WRONG, GOOD, SO_FAR or NOT_JUDGED.
    untold: what was not judged, or not wholly, and why."""

    verdict: str
    findings: list[Finding]
    judgement: str = NOT_JUDGED
    untold: list[str] = field(default_factory=list)
    hidden: list[Finding] = field(default_factory=list)
    ruled_out: list[dict[str, str]] = field(default_factory=list)
    not_observable: list[str] = field(default_factory=list)
    assumed: dict[str, str] = field(default_factory=dict)
    cases: list[Case] = field(default_factory=list)

    def worst(self) -> str | None:
        """The severity of the gravest finding, None when there is none."""
        return max((finding.severity for finding in self.findings), key=SEVERITIES.index, default=None)

    @property
    def reading(self) -> Reading:
        """What the capture says by the rig."""
        return self.cases[0].reading

    def again(self) -> Iterable[Trace]:
        """The blocks of the capture, in order, once more."""
        return self.cases[0].shared.gathered.again()

    def around(self, start: float, end: float) -> Trace:
        """The capture, as far as it lies between two moments (seconds) at least."""
        gathered = self.cases[0].shared.gathered
        ticks = [gathered.trace.ticks(at) for at in (start, end)]
        return gathered.around(ticks[0], max(ticks) + 1)

    def margins(self) -> list[Margin]:
        """Every time that is limited, required and measured, on all buses."""
        return [margin for case in self.cases for margin in margins(case)]


def diagnose(trace: Trace, plan: Setup) -> Diagnosis:
    """What is wrong with a capture, read by a rig (given or assumed).

    Raises HushedError where the capture has the lines of none of the rig's buses.
    """
    return judge(AtHand(trace.turned_as(plan.rig.turned), plan), plan)


def judge(gathered: Gathered, plan: Setup) -> Diagnosis:
    """The same of what was gathered of a capture."""
    cases = cases_of(Shared(gathered, plan))
    found = [
        finding for case in cases for rule in RULES if rule.on(case.kind) and _heard(case, rule) for finding in rule.run(case)
    ]
    lines = {case.bus.name: set(case.bus.lines.values()) for case in cases}

    def shared(one: Finding, other: Finding) -> bool:
        return bool(set(one.lines) & lines.get(other.bus, set()))

    kept, hidden = compete(found, shared)
    if not any(finding.severity != "note" for finding in kept):
        kept += [finding for case in cases if _carries_words(case) for finding in all_good(case)]
    kept.sort(key=Finding.rank, reverse=True)
    codes = {(finding.bus, finding.code) for finding in [*kept, *hidden]}
    several = len(cases) > 1
    ruled_out = [
        {**entry, "bus": case.bus.name} if several else entry
        for case in cases
        for entry in case.ruled_out
        if (case.bus.name, entry["code"]) not in codes
    ]
    judgement, untold = _judged(cases, kept)
    return Diagnosis(
        _verdict(cases, kept, judgement, untold),
        kept,
        judgement,
        untold,
        hidden,
        ruled_out,
        _not_observable(cases),
        plan.assumed,
        cases,
    )


def nothing_known(trace: Trace, why: str) -> Diagnosis:
    """Of a capture in which no display's bus is found at all. why: as it was told. What lines do that are no bus is no fault of anybody's."""
    reasons = [f"{kind}: {because}" for kind, because in tried(trace).items()]
    return Diagnosis(f"Not judged: no display's bus that is known is in this capture ({why}).", [], NOT_JUDGED, reasons)


def _heard(case: Case, rule: Rule) -> bool:
    """Whether the layer below a rule carries it: what words say is nothing to go by where the lines carry no words of this kind of bus."""
    return rule.layer in BELOW_WORDS or _carries_words(case)


def _carries_words(case: Case) -> bool:
    """Whether the lines carry words of their kind of bus; scanned LEDs have none, and addresses tell it by themselves."""
    return case.kind.started or case.kind.scanned or borne(case)


def _judged(cases: list[Case], findings: list[Finding]) -> tuple[str, list[str]]:
    """What it comes to, and what was not judged, or not wholly."""
    unjudged = cases[0].shared.unjudged
    if any(finding.severity != "note" for finding in findings):
        return WRONG, unjudged
    devices = [reading for case in cases for reading in case.devices]
    if not devices:
        return NOT_JUDGED, unjudged
    silent = [reading for case in cases if not case.kind.scanned for reading in case.devices if not len(reading)]
    if silent:
        return NOT_JUDGED, [*(f"no word for '{reading.device.name}' is in the capture" for reading in silent), *unjudged]
    untold = [
        f"what '{reading.device.name}' is told makes little sense ({share:.0%} of it is known commands and text), so no more could be judged of it"
        for reading in devices
        if reading.part.command and (share := sense(reading.part, reading.chips)) < 0.5 and not reading.started and reading.shows
    ]
    untold += unjudged
    untold += [
        f"no whole set-up of '{reading.device.name}' is in the capture: it came before, or never"
        for reading in devices
        if not reading.started and reading.part.start_up
    ]
    untold += [f"'{reading.device.name}' has no glass whose picture could be judged" for reading in devices if not reading.shows]
    untold += [f"bus '{name}' is not in the capture" for name in cases[0].reading.absent]
    if cases[0].plan.assumed:
        *others, last = cases[0].plan.assumed
        untold.append(f"{' and '.join([', '.join(others), last] if others else [last])} had to be assumed, as no rig tells")
    return (SO_FAR if untold else GOOD), untold


def _verdict(cases: list[Case], findings: list[Finding], judgement: str, untold: list[str]) -> str:
    problems = [finding for finding in findings if finding.severity != "note"]
    if problems:
        first, more = problems[0].summary, len(problems) - 1
        return first[0].upper() + first[1:] + (f" ({more} more finding{'s' if more > 1 else ''})." if more else ".")
    if judgement == GOOD:
        return "The wires carry what they should: look beyond them."
    if judgement == SO_FAR:
        rest = f" ({len(untold) - 1} more of that below)" if len(untold) > 1 else ""
        return f"Nothing is wrong as far as it can be told: {untold[0]}{rest}."
    for case in cases:
        if (nameless := _nameless(case)) is not None:
            return nameless
    if not any(case.devices for case in cases):
        return "Not judged: the bus carries words, but no part of the catalog was recognised: name it with --part or --rig."
    return f"Not judged: {untold[0]}."


def _nameless(case: Case) -> str | None:
    """What is said of a bus on which something answers and no display is known."""
    answering = {int(address) for address in case.who.address[case.who.answered]} if case.kind.addressed else set()
    if not answering or any(entry.on == case.bus.name for entry in case.rig.device) or case.bridges:
        return None
    shown = ", ".join(f"{address:#04x}" for address in sorted(answering))
    able = [part.name for part in on_i2c() if part.i2c and answering & {*part.i2c.addresses}]
    if not able:
        return f"Not judged: the bus is sound, but no part of the catalog is known at {shown}: name it with --part or --rig."
    others = f" and {len(able) - MOST_NAMED} more" if len(able) > MOST_NAMED else ""
    return (
        f"Not judged: the bus is sound, but what goes to {shown} does not tell the part "
        f"({', '.join(able[:MOST_NAMED])}{others} can be there): name it with --part or --rig."
    )


def _not_observable(cases: list[Case]) -> list[str]:
    """What the captured lines cannot reveal."""
    out = [
        "the display's supply and ground",
        "" if all("reset" in case.bus.lines for case in cases) else "its reset line",
        "the glass, its cable and its drive voltage",
        "" if cases[0].trace.volts else "levels in volts and rise times (capture in volts to see them)",
    ]
    absent = cases[0].reading.absent
    return [entry for entry in out if entry] + [f"bus '{name}', which is not in the capture" for name in absent]
