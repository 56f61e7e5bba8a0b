"""Runs the rules, lets findings compete, and says the outcome in one sentence.

A finding names the codes that it would explain; what a better one explains is its evidence, not one more line.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from ..finding import SEVERITIES, Finding
from ..rig import Setup
from ..trace import Trace
from . import address, capture, picture, setup, timing, wiring
from .case import Case

__all__ = ["Diagnosis", "diagnose"]

LAYERS = [capture, wiring, address, timing, setup, picture]  # from the wire upwards: a lower cause explains higher ones
RULES = [rule for layer in LAYERS for rule in layer.RULES]


@dataclass
class Diagnosis:
    """verdict: one sentence. findings: the most likely cause first. hidden: those explained away."""

    verdict: str
    findings: list[Finding]
    hidden: list[Finding] = field(default_factory=list)
    ruled_out: list[dict[str, str]] = field(default_factory=list)
    not_observable: list[str] = field(default_factory=list)
    assumed: dict[str, str] = field(default_factory=dict)

    def worst(self) -> str | None:
        """The severity of the gravest finding, None when there is none."""
        return max((finding.severity for finding in self.findings), key=SEVERITIES.index, default=None)


def diagnose(trace: Trace, plan: Setup) -> Diagnosis:
    """What is wrong with a capture, read by a rig (given or assumed)."""
    case = Case(trace, plan.rig, plan.assumed)
    found = [finding for rule in RULES for finding in rule(case)]
    kept, hidden = compete(found)
    if not any(finding.severity != "note" for finding in kept):
        kept += list(picture.all_good(case))
    kept.sort(key=Finding.rank, reverse=True)
    codes = {finding.code for finding in found}
    ruled_out = [entry for entry in case.ruled_out if entry["code"] not in codes]
    return Diagnosis(_verdict(case, kept), kept, hidden, ruled_out, _not_observable(case), plan.assumed)


def compete(found: list[Finding]) -> tuple[list[Finding], list[Finding]]:
    """Findings that stand, and those that a standing one explains; `explains` keeps only what was really swallowed.

    The order of `found` does not matter, except where two findings explain each other: then the graver, else the first, stands.
    """
    order = sorted(range(len(found)), key=lambda k: (tuple(-part for part in found[k].rank()), k))
    place = {index: position for position, index in enumerate(order)}
    stands: dict[int, bool] = {}

    def explains(one: int, other: int) -> bool:
        mutual = found[one].code in found[other].explains
        return one != other and found[other].code in found[one].explains and not (mutual and place[other] < place[one])

    def standing(index: int, asking: frozenset[int]) -> bool:
        if index not in stands:
            above = (k for k in order if k not in asking and explains(k, index))
            answer = not any(standing(k, asking | {index}) for k in above)
            if asking:
                return answer  # found on the way to another's answer, it may hang on who asked
            stands[index] = answer
        return stands[index]

    kept = [found[k] for k in order if standing(k, frozenset())]
    hidden = [found[k] for k in order if not stands[k]]
    for finding in kept:
        finding.explains = sorted({other.code for other in hidden if other.code in finding.explains})
    return kept, hidden


def _verdict(case: Case, findings: list[Finding]) -> str:
    problems = [finding for finding in findings if finding.severity != "note"]
    if problems:
        first = problems[0].summary
        more = len(problems) - 1
        return first[0].upper() + first[1:] + (f" ({more} more finding{'s' if more > 1 else ''} below)." if more else ".")
    if any(finding.code == "picture.all-traffic-good" for finding in findings):
        return "The wires carry what they should: look beyond them."
    answering = sorted({int(a) for a in case.reading.addresses.address[case.reading.addresses.answered]})
    bridges = [bridge.name for bridge in case.rig.bridge if bridge.on == case.bus.name and bridge.address in answering]
    if bridges:
        shown = " and ".join(f"'{name}'" for name in bridges)
        return f"The bus is sound and {shown} answers; what is behind it is not diagnosed by this version, hushed-wire screen shows its glass."
    if answering and not case.rig.devices_on(case.bus):
        shown = ", ".join(f"{address:#04x}" for address in answering)
        return f"The bus is sound, but no part of the catalog is known at {shown}: name it with --part or --rig."
    return "Nothing wrong was found in what was captured."


def _not_observable(case: Case) -> list[str]:
    """What the captured lines cannot reveal."""
    out = [
        "the display's supply and ground",
        "its reset line" if "reset" not in case.bus.lines else "",
        "the glass, its cable and its drive voltage",
    ]
    if not case.trace.volts:
        out.append("levels in volts and rise times (capture in volts to see them)")
    return [entry for entry in out if entry]
