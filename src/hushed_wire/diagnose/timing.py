"""Rules on time: the clock against what the parts allow."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from ..finding import Finding
from ..units import parse, show
from .case import Case

__all__ = ["RULES"]

TOLERANCE = 1.02  # oscillators of drivers are off by this much without harm


def clock(case: Case) -> Iterator[Finding]:
    """The mean clock above a part's limit, by more than sampling can excuse."""
    measured = case.clock
    if measured is None:
        return
    periods = case.columns["fSCL"].value
    slack = case.trace.resolution() / float(np.median(periods)) / np.sqrt(len(periods))
    for reading in case.reading.devices:
        if "clock" not in reading.part.limits:
            continue
        limit = float(parse(reading.part.limits["clock"], "Hz"))
        if measured * (1 - slack) <= limit * TOLERANCE:
            case.rule_out(
                "timing.clock-too-fast", f"SCL runs at {show(measured, 'Hz')}, {reading.part.name} allows {show(limit, 'Hz')}"
            )
            continue
        times = {
            symbol: show(float(np.median(case.columns[symbol].value)) * float(case.trace.tick), "s")
            for symbol in ("tLOW", "tHIGH")
        }
        first, last = case.columns["fSCL"].when[[0, -1]]
        yield Finding(
            "timing.clock-too-fast",
            f"SCL runs at {show(measured, 'Hz')}; {reading.part.name} allows {show(limit, 'Hz')}. It may seem to work and fail when it is warm "
            "or the wires get longer",
            f"set the bus clock to {show(limit, 'Hz')} or less",
            device=reading.device.name,
            lines=case.names("scl"),
            start=case.seconds(int(first)),
            end=case.seconds(int(last)),
            count=len(periods),
            evidence={
                "measured": measured,
                "allowed": limit,
                "source": f"{reading.part.source}: {reading.part.limits.get('source', '')}",
                **times,
            },
            explains=["timing.pulse-short", "timing.setup-short", "timing.hold-short"],
        )


RULES = [clock]
