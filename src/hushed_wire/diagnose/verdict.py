"""Runs the rules, lets findings compete, and says the outcome in one sentence.

A finding names the codes that it would explain; what a better one explains is its evidence, not one more line.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from ..finding import SEVERITIES, Finding
from ..part import load
from ..rig import Setup
from ..trace import Trace
from ..trace.threshold import Waveforms
from . import address, any_frames, any_parts, any_scan, any_timing, any_wires, capture, i2c_frames, picture, setup, timing, wiring
from .any_case import AnyCase
from .case import Case
from .volts import electric

__all__ = ["Diagnosis", "diagnose"]

SETUP = {
    "setup.display-off",
    "setup.charge-pump-off",
    "setup.wrong-geometry",
    "picture.outside-panel",
}  # told by `setup`, with more beside them
LAYERS = [
    capture,
    wiring,
    i2c_frames,
    address,
    timing,
    setup,
    picture,
]  # from the wire upwards: a lower cause explains higher ones
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


def diagnose(trace: Trace, plan: Setup, waves: Waveforms | None = None) -> Diagnosis:
    """What is wrong with a capture, read by a rig (given or assumed). waves: the same in volts, where it was captured so."""
    volts = [] if waves is None else [found for bus in plan.rig.bus for found in electric(trace, waves, plan, bus)]
    bus = plan.rig.bus[0]
    paged = all(load(device.part).memory.kind == "paged" for device in plan.rig.device)
    if bus.kind != "i2c" or not paged or any(bridge.on == bus.name for bridge in plan.rig.bridge):
        wires = _i2c_itself(trace, plan, volts) if bus.kind == "i2c" else None
        if wires is not None and any(finding.severity != "note" for finding in wires.findings):
            return wires
        return _any_bus(trace, plan, wires, volts)
    return _i2c_itself(trace, plan, volts)


def _any_bus(trace: Trace, plan: Setup, wires: Diagnosis | None, volts: list[Finding]) -> Diagnosis:
    """Other buses than I2C, and what is behind bridges. wires: what is known of the I2C bus ahead of a bridge."""
    case = AnyCase(trace, plan)
    kept, hidden = compete(
        volts
        + [
            finding
            for rule in [
                any_frames.selects,
                *any_wires.RULES,
                *any_frames.RULES,
                *any_timing.RULES,
                *any_scan.RULES,
                *any_parts.RULES,
            ]
            for finding in rule(case)
        ]
    )
    if not any(finding.severity != "note" for finding in kept):
        kept += list(any_parts.all_good(case))
    kept.sort(key=Finding.rank, reverse=True)
    codes = {finding.code for finding in [*kept, *hidden]}
    ruled_out = [entry for entry in [*(wires.ruled_out if wires else []), *case.ruled_out] if entry["code"] not in codes]
    problems = [finding for finding in kept if finding.severity != "note"]
    if problems:
        first, more = problems[0].summary, len(problems) - 1
        verdict = first[0].upper() + first[1:] + (f" ({more} more finding{'s' if more > 1 else ''} below)." if more else ".")
    elif any(finding.code == "picture.all-traffic-good" for finding in kept):
        verdict = "The wires carry what they should: look beyond them."
    elif not case.hearing.devices:
        verdict = "The bus carries words, but no part of the catalog was recognised: name it with --part or --rig."
    else:
        verdict = "Nothing wrong was found in what was captured."
    unseen = ["the display's supply and ground", "" if "reset" in case.bus.lines else "its reset line", "the glass, its cable and its drive voltage",
              "" if trace.volts else "levels in volts and rise times (capture in volts to see them)"]  # fmt: skip
    return Diagnosis(verdict, kept, hidden, ruled_out, [entry for entry in unseen if entry], plan.assumed)


def _i2c_itself(trace: Trace, plan: Setup, volts: list[Finding]) -> Diagnosis:
    """An I2C bus and the displays on it."""
    case = Case(trace, plan.rig, plan.assumed)
    found = volts + [finding for rule in RULES for finding in rule(case)]
    have = {finding.code for finding in found} | SETUP
    if not plan.rig.bridge:
        other = AnyCase(trace, plan)
        found += [finding for finding in any_parts.rules(other) if finding.code not in have]
        found += list(any_frames.sisters(other))
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
