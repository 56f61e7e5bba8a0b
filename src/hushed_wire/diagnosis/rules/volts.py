"""Captures in volts: levels against what the parts take, slow edges, fights between drivers, noise."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from ...bus.i2c import USUAL_CLOCK
from ...finding import Finding
from ...part import Part
from ...units import parse, show
from ..case import Case
from ..rule import Rule
from ..volts import RISE, Edge, climbing, line_volts

__all__ = ["RULES"]

LONGEST_RISE = ((100e3, 1000e-9), (400e3, 300e-9), (1e6, 120e-9))  # I2C-bus specification, tr by mode
VIL = 0.3  # of the supply: what inputs take for low (I2C-bus specification, Characteristics of the SDA and SCL I/O stages)
SAMPLES = 1.5  # in a rise, for its time to be claimed: what is shorter the scope did not see
ONE = {"takes": "takes", "has": "has", "gets": "gets", "lies": "lies", "its": "its pull-up is", "is": "is", "comes": "comes"}
MANY = {
    "takes": "take up to",
    "has": "have up to",
    "gets": "get",
    "lies": "lie",
    "its": "their pull-ups are",
    "is": "are",
    "comes": "come",
}


@dataclass
class Claim:
    """What one line's volts tell; of several lines with the same claim the worst speaks for all. badness: greater is worse."""

    code: str
    said: str
    name: str
    badness: float
    evidence: dict[str, str]
    values: dict[str, Any]
    span: tuple[float, float] | None = None
    count: int = 1


def electric(case: Case) -> Iterator[Finding]:
    """What the volts of a bus's lines tell; a cause that several lines have is told once."""
    trace, bus = case.trace, case.bus
    waves = trace.waves
    if waves is None:
        return
    lines = {role: name for role, name in bus.lines.items() if name in waves.names and name not in trace.turned}
    measured = {name: line_volts(waves, trace, waves.names.index(name)) for name in lines.values()}
    needs = _needed(case, list(measured.values()))
    longest, clock = _longest(case)
    claims: list[Claim] = []
    for role, name in lines.items():
        line, own = waves.names.index(name), measured[name]
        moves = len(trace.edges(line).times) - 1
        pulled = role in case.kind.pulled_up
        claims += _fights(case, name, own)
        slow: list[Claim] = []
        if moves > 8 and pulled:
            share = climbing(waves, trace, bus.lines.get(case.kind.clocks[0], ""), line, own)
            if share:
                slow = [
                    Claim(
                        "wiring.missing-pullup",
                        "climbing",
                        name,
                        share,
                        {"supply": f"{needs.supply:.3g} V"},
                        {"share": f"{share:.0%}", **_wanted(case, longest)},
                    )
                ]
            else:
                slow = list(_slow(case, name, own, longest, clock, needs.high))
        claims += slow
        if moves > 2:
            claims += _levels(name, own, needs, bool(slow) or own.rise > 2 * longest)
        claims += _noise(case, name, own)
    for key in dict.fromkeys((claim.code, claim.said) for claim in claims):
        yield _told(case, [claim for claim in claims if (claim.code, claim.said) == key])


def _told(case: Case, alike: list[Claim]) -> Finding:
    """One finding of all lines that have a claim."""
    worst = max(alike, key=lambda claim: claim.badness)
    spans = [claim.span or case.span for claim in alike]
    verbs = ONE if len(alike) == 1 else MANY
    return case.found(
        worst.code, worst.said, lines=[claim.name for claim in alike], start=min(span[0] for span in spans), end=max(span[1] for span in spans),
        count=sum(claim.count for claim in alike), evidence=worst.evidence, name=" and ".join(claim.name for claim in alike), **verbs, **worst.values,
    )  # fmt: skip


@dataclass(frozen=True)
class Needs:
    """Volts: of the supply, from which on every part on the bus takes a level for high, and up to which for low."""

    supply: float
    high: float
    low: float


def _needed(case: Case, measured: list[Edge]) -> Needs:
    """What the parts on a bus need. Of a rig that nobody wrote, the highest line tells the supply."""
    if case.plan.made_up:
        supply = max((own.high for own in measured), default=0.0)
        shares = [_share(reading.part, supply) for reading in case.devices]
        need = max(shares, default=0.7) * supply
        return Needs(supply, need, VIL * need / 0.7)
    supply = float(parse(case.bus.driver.supply, "V"))
    high: list[float] = []
    low: list[float] = []
    for device in case.rig.devices_on(case.bus):
        levels = case.rig.target(device).part.levels
        logic = float(parse(device.supply, "V")) if device.supply else supply
        if levels is not None:
            logic = levels.logic_at(logic)
            low.append(levels.low_to(logic))
        high.append(levels.high_from(logic) if levels is not None else 0.7 * logic)
    return Needs(supply, max(high, default=0.7 * supply), min(low, default=VIL * supply))


def _share(part: Part, supply: float) -> float:
    """The share of the supply that a part takes for high."""
    return part.levels.high_from(supply) / supply if part.levels is not None and supply > 0 else 0.7


def _longest(case: Case) -> tuple[float, float]:
    """The longest rise that the clock's mode allows, and the clock: as the rig says, else as it was measured."""
    clock = float(parse(case.bus.clock, "Hz")) if case.bus.clock else 0.0
    if not clock:
        edges = case.edges(case.kind.clocks[0]) if case.kind.clocks and case.kind.clocks[0] in case.roles else None
        steps = np.diff(edges.times[edges.level == 1]) if edges is not None else np.empty(0)
        clock = 1 / case.seconds(int(np.median(steps))) if len(steps) > 8 else float(USUAL_CLOCK)
    return next((rise for most, rise in LONGEST_RISE if clock <= most * 1.02), LONGEST_RISE[-1][1]), clock


def _levels(name: str, own: Edge, needs: Needs, slow: bool) -> Iterator[Claim]:
    """A high that is not high enough, and a low that is not low. How sure a level is, noise tells."""
    slack = max(0.05, 2 * own.noise)
    if own.high < needs.high - slack and not slow:
        shown = {"high": f"{own.high:.2f} V", "needed": f"{needs.high:.2f} V"}
        values = {**shown, "supply": f"{needs.supply:.3g} V"}
        yield Claim("wiring.level-mismatch", "", name, needs.high - own.high, {**shown, "low": f"{own.low:.2f} V"}, values)
    if own.low > needs.low + slack:
        shown = {"low": f"{own.low:.2f} V", "most": f"{needs.low:.2f} V"}
        yield Claim("wiring.level-mismatch", "low", name, own.low - needs.low, {**shown, "high": f"{own.high:.2f} V"}, shown)


def _fights(case: Case, name: str, own: Edge) -> Iterator[Claim]:
    """Levels between low and high that last."""
    swing, count = own.high - own.low, len(own.between)
    if count and swing > 0.4:
        yield Claim(
            "wiring.contention", "", name, count, {"low": f"{own.low:.2f} V", "high": f"{own.high:.2f} V"},
            {"places": f"{count} place{'s' if count > 1 else ''}", "middle": f"{own.low + swing / 2:.2f} V"},
            (case.seconds(int(own.between[0])), case.seconds(int(own.between[-1]))), count,
        )  # fmt: skip


def _noise(case: Case, name: str, own: Edge) -> Iterator[Claim]:
    """Noise that crosses the threshold."""
    swing, count = own.high - own.low, len(own.crossings)
    if count > 4 and own.noise > 0.04 * max(swing, 0.4):
        yield Claim(
            "capture.noisy-threshold", "", name, count, {"noise": f"{own.noise * 1000:.0f} mV", "swing": f"{swing:.2f} V"},
            {"noise": f"{own.noise * 1000:.0f} mV", "places": count, "band": f"{min(0.6 * swing, 8 * own.noise):.1f}V"},
            (case.seconds(int(own.crossings[0])), case.seconds(int(own.crossings[-1]))), count,
        )  # fmt: skip


def _slow(case: Case, name: str, own: Edge, longest: float, clock: float, need: float) -> Iterator[Claim]:
    """The pull-up of an open-drain line, by how fast it rises and how far it gets."""
    swing = own.high - own.low
    if not np.isfinite(own.rise) or own.noise > 0.05 * swing:
        return  # through so much noise no slope can be told
    if own.residual > max(4 * own.noise, 0.05 * swing):
        return  # whatever these edges are, a resistor that charges a capacitance makes others
    if own.rise < SAMPLES * case.trace.resolution() * float(case.trace.tick):
        return  # what is as short as a sample was not seen
    pull_up, capacitance = float(parse(case.bus.driver.pull_up, "Ohm")), float(parse(case.bus.driver.capacitance, "F"))
    tau = own.rise / RISE
    # Without a resistor only leakage and the inputs' own pull-ups are left: it takes most of a clock to rise, or never gets there.
    missing = own.rise > 0.8 / clock or (own.rise > 0.3 / clock and own.high < need)
    if own.rise - 3 * own.rise_error <= 1.15 * longest and not missing:
        return
    rise, allowed = show(own.rise, "s", 3), show(longest, "s")
    evidence = {
        "rise time 30 % to 70 %": f"{rise} within {show(3 * own.rise_error, 's', 2)}", "allowed": allowed,
        "fall time": show(own.fall, "s", 3) if np.isfinite(own.fall) else "not measured",
        "would be": f"a pull-up of {show(tau / capacitance, 'Ohm', 2)} at {show(capacitance, 'F')}, or {show(tau / pull_up, 'F', 2)} at {show(pull_up, 'Ohm')}",
        "source": "I2C-bus specification, tr",
    }  # fmt: skip
    values = {"rise": rise, "allowed": allowed, **_wanted(case, longest)}
    yield Claim("wiring.missing-pullup" if missing else "wiring.weak-pullup", "", name, own.rise, evidence, values)


def _wanted(case: Case, longest: float) -> dict[str, str]:
    return {"wanted": show(0.7 * longest / RISE / float(parse(case.bus.driver.capacitance, "F")), "Ohm", 2)}


RULES = [Rule("wiring", electric)]
