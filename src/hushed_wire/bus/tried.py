"""Why lines that nobody named are no bus of any kind: for each kind what was looked for, and how near the best of the lines came."""

from __future__ import annotations

from itertools import permutations

from ..trace import Trace
from .base import BUSES
from .carries import FEWEST, pulses_alike
from .changes import edges_to, excerpt
from .roles import fit_i2c
from .spi_roles import best_spi
from .strobe_roles import best_parallel, best_shift

__all__ = ["tried"]

STEADY = 0.9  # share of a clock's pulses that are alike
MOST = 8  # lines that are tried, the busiest first
NAMED = "rows and columns, or digits and segments, are told by their names alone"


def tried(trace: Trace) -> dict[str, str]:
    """By kind of bus, as people call it: why it is none. A kind that it might be after all is left out."""
    part = excerpt(trace)
    moves = sorted(((len(part.edges(line).times) - 1, line) for line in range(len(part.names))), reverse=True)
    active = [line for count, line in moves if count >= 2][:MOST]
    out = {"i2c": _i2c(part, active)}
    clock = _clock(part, active)
    if best_spi(part) is None:
        out["spi"] = clock or "one line's pulses are alike, but no other encloses whole words of eight of them"
    if best_parallel(part) is None:
        out["parallel"] = "no line pulses while all others hold still"
    if best_shift(part) is None:
        out["shift"] = clock or "no line pulses once behind each eight clocks of another"
    out["matrix"] = NAMED
    return {f"as {BUSES[kind].title}": why for kind, why in out.items() if why}


def _i2c(part: Trace, active: list[int]) -> str:
    if len(active) < 2:
        return "fewer than two lines move"
    best = max((fit_i2c(part, *pair) for pair in permutations(active, 2)), key=lambda fit: fit.score)
    names = f"'{part.names[best.scl]}' and '{part.names[best.sda]}'"
    if best.score > 0.5:
        return f"{names} make words of nine bits by chance ({best.words}), and nobody acknowledges one"
    return f"no two lines make words of nine bits between START and STOP; {names} come nearest, with {best.score:.0%} of their clocks"


def _clock(part: Trace, active: list[int]) -> str:
    """Why no line is a clock; "" where one could be."""
    steady = {line: pulses_alike(part, line) for line in active if len(edges_to(part, line, 1)) >= FEWEST}
    if not steady:
        return f"no line has {FEWEST} pulses"
    line = max(steady, key=lambda line: steady[line])
    return (
        ""
        if steady[line] >= STEADY
        else f"no line is a clock: of the pulses of '{part.names[line]}' {steady[line]:.0%} are alike"
    )
