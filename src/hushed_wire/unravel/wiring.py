"""Which lines of a capture are a bus, and which bus: every reading that the traffic allows, each to be judged by what it makes sense of."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from ..bus.base import BUSES
from ..bus.changes import excerpt
from ..bus.role_names import named
from ..bus.roles import best_i2c
from ..bus.spi_roles import SpiFit, best_spi
from ..bus.strobe_roles import ParallelFit, best_parallel
from ..rig.guess_settings import shaped
from ..rig.schema import Bus
from ..trace import Trace

__all__ = ["Wiring", "wirings"]

LOOKED_AT = 1_000_000  # changes: a capture may begin in the middle of a long picture, in which the select stays
NAMED = 2.0  # how likely what the names say is: whoever gave them knew
HALF = 4  # data lines of a bus that brings words by halves
STEADY = 0.05  # spread of the periods of what runs by itself
IDLE = 0.7  # share of changes of a line of the bus at most that no pulse follows
BESIDE = 32  # edges of the clock while a select is not active from which on it is none: two bytes


@dataclass(frozen=True)
class Wiring:
    """A hypothesis. bus: with its roles. likely: 0 to 1, by the wires alone. because: what speaks for it, by role. against: what would tell it
    apart from the others."""

    bus: Bus
    likely: float
    because: dict[str, str]
    against: str = ""


def wirings(trace: Trace) -> list[Wiring]:
    """Every reading, likely ones first."""
    part = excerpt(trace, LOOKED_AT)
    found = [*_by_names(trace), *_two_wires(trace, part), *_clocked(trace, part), *_strobed(trace, part)]
    return sorted(found, key=lambda own: -own.likely)


def reset_of(trace: Trace, taken: set[int], first: int) -> int:
    """The line that goes low once or twice ahead of the first word (a tick) and rests high then; -1 where none does."""
    for line in range(len(trace.names)):
        if line in taken:
            continue
        edges = trace.edges(line)
        early = edges.times[1:] < first
        if 1 <= len(edges.times) - 1 <= 4 and early.all() and int(edges.level[-1]) == 1 and 0 in edges.level[:-1].tolist():
            return line
    return -1


def _with_reset(trace: Trace, bus: Bus, because: dict[str, str]) -> None:
    taken = {trace.index(line) for line in bus.lines.values()}
    clocks = [role for role in BUSES[bus.kind].clocks if role in bus.lines] or list(bus.lines)
    edges = [trace.edges(trace.index(bus.lines[role])).times[1:2] for role in clocks]
    first = min((int(times[0]) for times in edges if len(times)), default=trace.start)
    line = reset_of(trace, taken, first)
    if line >= 0 and "reset" in BUSES[bus.kind].roles:
        bus.lines["reset"] = trace.names[line]
        because["reset"] = "low ahead of the first word, high ever after"


def _by_names(trace: Trace) -> Iterator[Wiring]:
    found = named(trace.names)
    if found is None or BUSES[found[0]].scanned:
        return
    kind, roles = found
    bus = Bus("bus", kind, lines={role: trace.names[line] for role, line in roles.items()})
    if not BUSES[kind].addressed:
        shaped(trace, bus, {}, {})
    yield Wiring(bus, NAMED, dict.fromkeys(bus.lines, "by its name"), "the names that somebody gave the lines")


def _two_wires(trace: Trace, part: Trace) -> Iterator[Wiring]:
    fit = best_i2c(part)
    if fit is None or not fit.answered:
        return
    bus = Bus("bus", "i2c", lines={"scl": trace.names[fit.scl], "sda": trace.names[fit.sda]})
    said = {
        "scl": "nine clocks a byte; data rest while it is high",
        "sda": f"moves while the clock is low, but for START and STOP; {fit.answered} calls were acknowledged",
    }
    yield Wiring(bus, float(fit.score) * min(1.0, fit.answered / 3), said, "an acknowledge: somebody pulls the ninth bit low")


def _clocked(trace: Trace, part: Trace) -> Iterator[Wiring]:
    fit = best_spi(part)
    if fit is None:
        return
    for cs, dc, why in _selects(part, fit):
        roles = {"sck": fit.sck, "mosi": fit.mosi} | ({"cs": cs} if cs >= 0 else {}) | ({"dc": dc} if dc >= 0 else {})
        bus = Bus("bus", "spi", lines={role: trace.names[line] for role, line in roles.items()})
        shaped(trace, bus, {}, {}, fit if cs == fit.cs else None)
        if cs == fit.cs:  # seen over more of the capture
            bus.mode, bus.bits = fit.mode, 0 if fit.bits == 8 else fit.bits  # type: ignore[assignment]
        said = {
            "sck": "its pulses come in whole words and are all alike",
            "mosi": f"at rest where the clock samples, in mode {bus.mode}",
            "cs": "one level around each train of clocks",
            "dc": why,
        }
        because = {role: said[role] for role in bus.lines}
        _with_reset(trace, bus, because)
        yield Wiring(
            bus, fit.score, because, "clocks while the select is at its other level: then it is D/C, and the select is tied"
        )


def _selects(part: Trace, fit: SpiFit) -> Iterator[tuple[int, int, str]]:
    """What is taken for the select may be D/C of a display whose select is tied: then clocks come at both of its levels."""
    clocks = part.edges(fit.sck).times[1:]
    level = part.level_at(fit.cs, clocks) if fit.cs >= 0 else np.zeros(len(clocks), np.uint8)
    beside = int(np.count_nonzero(level != fit.active)) if fit.cs >= 0 else 0
    if fit.dc < 0 and fit.cs >= 0 and beside > BESIDE:
        yield -1, fit.cs, "moves between words only, and clocks come at both of its levels"
    else:
        yield fit.cs, fit.dc, "moves between words only, while the select stays"


def _strobed(trace: Trace, part: Trace) -> Iterator[Wiring]:
    fit = best_parallel(part)
    if fit is not None and len(fit.strobes) > 1:
        fit = _without_clocks(part, fit)
    if fit is None or len(fit.strobes) != 1:
        return
    for order, rs, rw, likely in _orders(part, fit):
        role = "wr" if fit.rests else "e"
        roles = {f"d{bit + 8 - len(order)}": line for bit, line in enumerate(order)} | {"rs": rs, role: fit.strobes[0]}
        if rw >= 0 and role == "e":
            roles["rw"] = rw
        if fit.select >= 0:
            roles["cs"] = fit.select
        bus = Bus("bus", "parallel", lines={name: trace.names[line] for name, line in roles.items()})
        shaped(trace, bus, {}, {})
        said = dict.fromkeys(bus.lines, "latched by the strobe; side by side with its neighbours")
        said |= {
            "rw": "high at pulses behind which the display answers: what comes then is no data",
            "rs": "moves seldom, and between words only",
            role: "pulses when all others rest",
            "cs": "encloses every pulse of the strobe",
        }
        because = {name: said[name] for name in bus.lines}
        _with_reset(trace, bus, because)
        yield Wiring(bus, likely, because, "a pointer that counts: read with D0 and D7 exchanged it jumps")


def _orders(part: Trace, fit: ParallelFit) -> Iterator[tuple[list[int], int, int, float]]:
    """Eight neighbours (or four) as data, either end first, RS, which is among those that move least, and R/W (-1 where none is left for it): what moves
    between pulses besides."""
    moves = {line: len(part.edges(line).times) - 1 for line in fit.latched}
    still = [line for line in range(len(part.names)) if len(part.edges(line).times) == 1]  # a data line may never have moved
    beside = sorted({*fit.latched, *still})
    taken = {*fit.strobes, fit.select}
    for rs in sorted(fit.latched, key=lambda line: moves[line])[:3]:
        rest = [line for line in beside if line != rs and line not in taken]
        moved = [line for line in fit.latched if line != rs]
        runs = [rest[first : first + 8] for first in range(len(rest) - 7)]
        if len(moved) <= HALF + 1:  # half as many, and perhaps R/W
            runs += [
                own for first in range(len(moved) - HALF + 1) if (own := moved[first : first + HALF])[-1] - own[0] == HALF - 1
            ]
        for data in runs:
            whole = data[-1] - data[0] == len(data) - 1
            likely = (0.9 if whole else 0.6) - 0.1 * sorted(moves.values()).index(moves[rs])
            left = [line for line in moved if line not in data and _for_words(part, fit, line)]
            rw = left[0] if len(left) == 1 else -1
            yield data, rs, rw, likely
            yield data[::-1], rs, rw, likely - 0.01


def _for_words(part: Trace, fit: ParallelFit, line: int) -> bool:
    """Whether a line moves for the sake of words: a pulse comes behind nearly each change of it, and none of them falls into a pulse."""
    strobe = part.edges(fit.strobes[0])
    at = np.searchsorted(strobe.times[1:], part.edges(line).times[1:])
    resting = strobe.level[at] == fit.rests
    idle = float(np.mean(np.diff(at) == 0)) if len(at) > 1 else 0.0
    return bool(resting.all()) and idle < IDLE


def _without_clocks(part: Trace, fit: ParallelFit) -> ParallelFit:
    """The strobes without those that pulse at a steady rate whatever comes, and what the first of them latches."""
    first = fit.strobes[0]
    steady = [line for line in fit.strobes[1:] if _steady(part, line)]
    if not steady:
        return fit
    edges = part.edges(first)
    closes = edges.times[1:][edges.level[1:] == fit.rests]
    latched = []
    for line in fit.latched:
        seen = part.level_at(line, closes - 1)
        if (seen != seen[0]).any():
            latched.append(line)
    return ParallelFit([line for line in fit.strobes if line not in steady], fit.rests, fit.select, latched)


def _steady(part: Trace, line: int) -> bool:
    periods = np.diff(part.edges(line).times[1::2])
    return len(periods) > 3 and float(np.std(periods)) < STEADY * float(np.mean(periods))
