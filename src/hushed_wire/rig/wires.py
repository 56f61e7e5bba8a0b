"""Moves to wires: the exact trace of what a driver moves on a bus, in the parts' minimum times with a margin, and the lines beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from fractions import Fraction
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES
from ..bus.channel import Wired
from ..bus.moves import TICK, Move, Pace
from ..part import Panel, Part
from ..part.scanned import from_bytes, shape_of
from ..sequence import Target
from ..trace import Trace
from ..trace.merge import merge
from ..trace.model import word_type
from ..units import parse
from .limits import limits_of
from .schema import Bus, lamps_of, settings_of

__all__ = ["encode_moves", "pace_of", "wired_for"]

IDLE_HIGH = ("reset", "backlight", "enable")  # lines beside a bus that rest high; others as they are first set


def pace_of(part: Part, bus: Bus, clock: Fraction | None = None, target: Target | None = None) -> Pace:
    """How fast a driver sends to a part. clock: that is asked for, in Hz. target: of scanned LEDs."""
    kind = BUSES[bus.kind]
    rig_clock = parse(bus.clock, "Hz") if bus.clock else None
    fastest = parse(part.limits[kind.clock_symbol], "Hz") if kind.clock_symbol in part.limits else None
    lamps = lamps_of(target, bus) if kind.scanned and target is not None else None
    pictures = partial(_picture, target.panel) if kind.scanned and target is not None else None
    return Pace(clock, rig_clock, fastest, limits_of(part, kind), lamps, pictures)


def _picture(panel: Panel, move: Move) -> NDArray[Any]:
    """The (rows, columns) of LEDs that a move's words light."""
    return from_bytes(move.words.astype(np.uint8), panel) if len(move.words) else np.zeros(shape_of(panel), bool)


def wired_for(bus: Bus, roles: dict[str, int]) -> Wired:
    """A bus on lines with these numbers."""
    return Wired(bus.name, roles, settings_of(bus), TICK)


def encode_moves(
    moves: list[Move],
    bus: Bus,
    part: Part,
    roles: dict[str, int],
    names: tuple[str, ...],
    lead: int = 0,
    tail: int = 0,
    clock: Fraction | None = None,
    target: Target | None = None,
    direct: Sequence[str] = (),
) -> Trace:
    """The exact trace of moves on a bus without addresses. roles: role to line number. Lines beside the bus move as `levels` say."""
    kind = BUSES[bus.kind]
    beside = [] if kind.scanned else [role for role in roles if role in (*IDLE_HIGH, *direct)]
    own = {role: line for role, line in roles.items() if role not in (*beside, "busy")}
    trace, start = kind.load().wires(moves, wired_for(bus, own), pace_of(part, bus, clock, target), names, lead, tail)
    trace = _with_levels(trace, moves, start, roles, beside)
    if "busy" not in roles or part.busy is None:
        return trace
    ends = np.append(start[1:] - [move.gap for move in moves[1:]], trace.end - tail)
    return _with_busy(trace, roles["busy"], part.busy.active == "high", ends, np.array([move.busy for move in moves], np.int64))


REACTS = 1000  # ticks behind its word that a part takes to say that it is busy


def _with_busy(trace: Trace, line: int, high: bool, ends: NDArray[np.int64], lasts: NDArray[np.int64]) -> Trace:
    """The line on which a part says that it is busy, as a display that is there would move it. ends: (m,) ticks at which moves end."""
    own = lasts > REACTS
    moments = np.stack([ends[own] + REACTS, ends[own] + lasts[own]], axis=1).reshape(-1)
    levels = np.tile(np.array([high, not high], np.uint8), int(np.count_nonzero(own)))
    trace = replace(trace, end=max(trace.end, int(moments.max(initial=0)) + REACTS))
    said = Trace(("busy",), np.append(trace.start, moments), np.append(np.uint8(not high), levels), trace.end, trace.tick)
    both = merge(trace, said)
    order = [*range(len(trace.names))]
    order[line] = len(trace.names)
    return both.select(order, trace.names)


def _with_levels(trace: Trace, moves: list[Move], start: NDArray[np.int64], roles: dict[str, int], beside: list[str]) -> Trace:
    """The lines beside the bus, as the moves set them; a reset that is never touched stays high, a backlight on."""
    if not beside:
        return trace
    kind = word_type(len(trace.names))
    first = {role: level for move in reversed(moves) for role, level in move.levels if role not in IDLE_HIGH}
    at, masks = [0], [sum(1 << roles[role] for role in beside if first.get(role, True))]
    for move, when in zip(moves, start.tolist(), strict=True):
        if move.levels:
            mask = masks[-1]
            for role, level in move.levels:
                mask = mask & ~(1 << roles[role]) | level << roles[role]
            at.append(when)
            masks.append(mask)
    moments = np.array(at, np.int64)
    place = np.searchsorted(trace.times, moments)
    missing = (place == len(trace.times)) | (trace.times[np.minimum(place, len(trace.times) - 1)] != moments)
    times = np.insert(trace.times, place[missing], moments[missing])
    levels = np.insert(trace.levels, place[missing], trace.levels[np.maximum(place[missing] - 1, 0)]).astype(kind)
    owner = np.searchsorted(moments, times, side="right") - 1
    levels |= np.array(masks, kind)[owner]
    keep = np.append(True, levels[1:] != levels[:-1]) & np.append(np.diff(times) > 0, True)
    return Trace(trace.names, times[keep], levels[keep], trace.end, trace.tick)
