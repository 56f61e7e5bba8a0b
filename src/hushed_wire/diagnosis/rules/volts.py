"""Captures in volts: levels against what the parts take, slow edges, fights between drivers, noise."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from ...bus.i2c import USUAL_CLOCK
from ...finding import Finding
from ...part import load
from ...units import parse, show
from ..case import Case
from ..rule import Rule
from ..volts import RISE, Edge, climbing, line_volts

__all__ = ["RULES"]

LONGEST_RISE = ((100e3, 1000e-9), (400e3, 300e-9), (1e6, 120e-9))  # I2C-bus specification, tr by mode


def electric(case: Case) -> Iterator[Finding]:
    """What the volts of a bus's lines tell."""
    waves, trace, bus = case.shared.waves, case.trace, case.bus
    if waves is None:
        return
    supply = float(parse(bus.driver.supply, "V"))
    given = not case.plan.assumed
    clock = float(parse(bus.clock, "Hz")) if bus.clock else float(USUAL_CLOCK)
    longest = next((rise for most, rise in LONGEST_RISE if clock <= most * 1.02), LONGEST_RISE[-1][1])
    vih = max((_vih(device.part) * supply for device in case.rig.device), default=0.7 * supply)
    for role, name in bus.lines.items():
        if name not in waves.names:
            continue
        line = waves.names.index(name)
        own = line_volts(waves, trace, line)
        moves = len(trace.edges(line).times) - 1
        pulled = role in case.kind.pulled_up
        yield from _fights(case, name, own)
        if pulled and (share := climbing(waves, trace, bus.lines.get(case.kind.clocks[0], ""), line)):
            yield _missing(case, name, "climbing", longest, {"supply": f"{supply:g} V"}, share=f"{share:.0%}")
        elif pulled and moves > 8:
            yield from _slow(case, name, own, longest, clock, vih if given else 0.7 * max(own.top, 1e-9))
        if given and moves > 2 and own.high < vih - 0.05 and not (pulled and own.rise > 2 * longest):
            start, end = case.span
            yield case.found(
                "wiring.level-mismatch", lines=[name], start=start, end=end,
                evidence={"high": f"{own.high:.2f} V", "needed": f"{vih:.2f} V", "low": f"{own.low:.2f} V"}, name=name, high=f"{own.high:.2f} V",
                needed=f"{vih:.2f} V", supply=f"{supply:g} V",
            )  # fmt: skip
        yield from _noise(case, name, own)


def _vih(part: str) -> float:
    """The share of the supply that a part takes for high."""
    levels = load(part).levels
    return levels.vih if levels is not None and levels.vih < 1 else 0.7


def _fights(case: Case, name: str, own: Edge) -> Iterator[Finding]:
    """Levels between low and high that last."""
    swing, count = own.high - own.low, len(own.between)
    if count and swing > 0.4:
        yield case.found(
            "wiring.contention", lines=[name], start=case.seconds(int(own.between[0])), end=case.seconds(int(own.between[-1])), count=count,
            evidence={"low": f"{own.low:.2f} V", "high": f"{own.high:.2f} V"}, name=name, places=f"{count} place{'s' if count > 1 else ''}",
            middle=f"{own.low + swing / 2:.2f} V",
        )  # fmt: skip


def _noise(case: Case, name: str, own: Edge) -> Iterator[Finding]:
    """Noise that crosses the threshold."""
    swing, count = own.high - own.low, len(own.crossings)
    if count > 4 and own.noise > 0.04 * max(swing, 0.4):
        yield case.found(
            "capture.noisy-threshold", lines=[name], start=case.seconds(int(own.crossings[0])), end=case.seconds(int(own.crossings[-1])), count=count,
            evidence={"noise": f"{own.noise * 1000:.0f} mV", "swing": f"{swing:.2f} V"}, name=name, noise=f"{own.noise * 1000:.0f} mV", places=count,
            band=f"{min(0.6 * swing, 8 * own.noise):.1f}V",
        )  # fmt: skip


def _slow(case: Case, name: str, own: Edge, longest: float, clock: float, vih: float) -> Iterator[Finding]:
    """The pull-up of an open-drain line, by how fast it rises and how far it gets."""
    swing = own.high - own.low
    if not np.isfinite(own.rise) or own.noise > 0.05 * swing:
        return  # through so much noise no slope can be told
    if own.residual > max(4 * own.noise, 0.05 * swing):
        return  # whatever these edges are, a resistor that charges a capacitance makes others
    pull_up, capacitance = float(parse(case.bus.driver.pull_up, "Ohm")), float(parse(case.bus.driver.capacitance, "F"))
    tau = own.rise / RISE
    resistor, load_ = tau / capacitance, tau / pull_up
    # Without a resistor only leakage and the inputs' own pull-ups are left: it takes most of a clock to rise, or never gets there.
    missing = own.rise > 0.8 / clock or (own.rise > 0.3 / clock and own.high < vih)
    if own.rise - 3 * own.rise_error <= 1.15 * longest and not missing:
        return
    rise, allowed = show(own.rise, "s"), show(longest, "s")
    evidence = {
        "rise time 30 % to 70 %": f"{rise} within {show(3 * own.rise_error, 's')}", "allowed": allowed,
        "fall time": show(own.fall, "s") if np.isfinite(own.fall) else "not measured",
        "would be": f"a pull-up of {show(resistor, 'Ohm')} at {show(capacitance, 'F')}, or {show(load_, 'F')} at {show(pull_up, 'Ohm')}",
        "source": "I2C-bus specification, tr",
    }  # fmt: skip
    if missing:
        yield _missing(case, name, "", longest, evidence, rise=rise, allowed=allowed)
        return
    start, end = case.span
    yield case.found(
        "wiring.weak-pullup", lines=[name], start=start, end=end, evidence=evidence, name=name, rise=rise, allowed=allowed, wanted=_wanted(case, longest)
    )  # fmt: skip


def _wanted(case: Case, longest: float) -> str:
    return show(0.7 * longest / RISE / float(parse(case.bus.driver.capacitance, "F")), "Ohm")


def _missing(case: Case, name: str, said: str, longest: float, evidence: dict[str, str], **values: Any) -> Finding:
    start, end = case.span
    return case.found(
        "wiring.missing-pullup", said, lines=[name], start=start, end=end, evidence=evidence, name=name, wanted=_wanted(case, longest), **values
    )  # fmt: skip


RULES = [Rule("wiring", electric)]
