"""How well a bus's lines do what lines of its kind do, whatever they carry: as wired, or with two of them in each other's place.

Rules on wires ask here first. Where nothing on the lines is this kind of bus, another device's traffic is in the capture, and no line of it is
to blame.
"""

from __future__ import annotations

from itertools import combinations

import numpy as np

from ..bus.base import SELECTS
from ..bus.carries import FEWEST, clocked, pulses_alike, pulses_cut_off, spans_latched, spans_selected, strobed
from ..bus.changes import edges_to, excerpt, typical
from ..part import catalog_names, load
from ..part.wrap import BUS_OF, WRAPS
from ..trace import Trace
from ..trace.model import Times
from .case import Case

__all__ = ["CARRIED", "addressed_by_data", "bearing", "borne", "exchanged_by_shape"]

CARRIED = 0.6  # from here on the lines carry this kind of bus
HALF_CARRIED = 0.75  # below it a good part of the words is in pieces, or lies outside the frames
BESIDE_DATA = 0.75  # what a clock without any pause counts, where data move beside it
STEADY = 0.3  # of the usual time from pulse to pulse
CLEARLY = 0.85  # how well an exchange has to fit that shape alone tells
LATCHES = ("latch", "e")  # what takes over the bits of a register; behind one without a latch, the display's own E


def bearing(
    case: Case, roles: dict[str, int] | None = None, piece: Trace | None = None, framed: bool = True, active: int | None = None
) -> float:
    """From 0 to 1, with the roles as wired or others. framed: whether selects and latches count, or pauses alone. active: the level that selects."""
    kind = case.kind
    roles = case.roles if roles is None else roles
    piece = case.piece if piece is None else piece
    if kind.started:
        return max(case.as_wired.score, case.exchanged.score)
    clock = next((role for role in case.clocks if len(piece.edges(roles[role]).times) > 1), "")
    if not clock:
        return 1.0 if kind.scanned and "clock" not in roles else 0.0
    if kind.one_wire:
        return pulses_alike(piece, roles[clock], 2) * _steady(edges_to(piece, roles[clock], 1))
    if kind.each_rests:
        rests = int(clock in ("wr", "rd"))
        others = [
            line for role, line in roles.items() if role != clock and role not in ("e2", "rd", "wr", "reset", "backlight", "busy")
        ]
        return strobed(piece, roles[clock], rests, others)
    spans = _spans(case, roles, piece, active) if framed else None
    known = _word_lengths(case)
    # Without pauses or frames, data that move beside a clock are what speaks for words.
    data = roles[case.serial] if case.serial in roles and len(piece.edges(roles[case.serial]).times) > 8 else None
    level = int(case.bus.select == "high") if active is None else active
    selects = [roles[role] for role in SELECTS if role in roles] if spans is not None and case.kind.transfers else []
    cut_off = sum(pulses_cut_off(piece, roles[clock], line, level) for line in selects)
    score = max(clocked(piece, roles[clock], spans, bits, 0.5 if data is None else BESIDE_DATA, cut_off) for bits in known)
    if spans is None and data is not None:
        score *= 2 * _settled(piece, roles[clock], data) - 1  # an encoder's second line changes with each edge of the first
    return score


def _steady(rises: Times) -> float:
    """The share of pulses that come about as long behind one another as usual: where pulses are bits, each bit lasts as long, a 0 or a 1."""
    if len(rises) < FEWEST:
        return 0.0
    steps = np.diff(rises)
    return float(np.mean(np.abs(steps - typical(steps)) < STEADY * typical(steps)))


def _word_lengths(case: Case) -> list[int]:
    """How long words may be: as the rig or the traffic says, of what the parts take."""
    nine = case.bus.bits == 9 or any(channel.bits == 9 for channel in case.channels)
    known = [8, 9] if case.plan.assumed and "mode" in case.kind.settings else [9 if nine else 8]
    able = {WRAPS[name].bits for reading in case.direct for name in reading.part.framings if BUS_OF[name] == case.kind.name}
    return [1] if able == {1} else [bits for bits in known if bits in able] or known


def _spans(case: Case, roles: dict[str, int], piece: Trace, active: int | None) -> tuple[Times, Times] | None:
    """The spans that words lie in: those of all selects, in order, or from latch to latch; None where there is neither."""
    selects = [role for role in SELECTS if role in roles] if case.kind.transfers else []
    if selects:
        level = int(case.bus.select == "high") if active is None else active
        pairs = [spans_selected(piece, roles[role], level) for role in selects]
        opens, closes = (np.concatenate([pair[side] for pair in pairs]) for side in (0, 1))
        order = np.argsort(opens, kind="stable")
        return opens[order], closes[order]
    latch = next((role for role in LATCHES if role in roles), "")
    return spans_latched(piece, roles[latch]) if latch else None


def borne(case: Case) -> bool:
    """Whether the lines carry this kind of bus, as wired or with its frames left out of account."""
    clock = next((role for role in case.clocks if case.moves(role)), "")
    if clock and case.moves(clock) < 2 * FEWEST:
        return True  # so few pulses have no shape that could be denied
    if "borne" not in case.kept:
        case.kept["borne"] = max(bearing(case), bearing(case, framed=False))
    return float(case.kept["borne"]) >= CARRIED


def exchanged_by_shape(case: Case) -> tuple[str, str, float, float] | None:
    """Two roles under whose exchange the lines have the shape of this bus, where they have not as wired; and both scores."""
    if "exchanged" not in case.kept:
        case.kept["exchanged"] = _exchanged(case)
    found: tuple[str, str, float, float] | None = case.kept["exchanged"]
    return found


def _exchanged(case: Case) -> tuple[str, str, float, float] | None:
    kind = case.kind
    if kind.started or kind.each_rests:
        return None
    frame = next((role for role in (*SELECTS[:2], *LATCHES) if role in case.roles), "")
    clock, data = next(iter(case.clocks), ""), case.serial
    if not clock or not frame:
        return None
    piece = case.piece
    active = 0 if "select" in case.plan.assumed else None  # what was guessed by the traffic takes its fault for granted
    now = bearing(case, case.roles, piece, active=active)
    own = [role for role in (clock, frame, data, kind.marks, "enable") if role and role in case.roles]
    tried = []
    for a, b in combinations(dict.fromkeys(own), 2):
        if clock not in (a, b) and frame not in (a, b):
            continue
        if not all(case.moves(role) for role in (a, b)):
            continue
        roles = {**case.roles, a: case.roles[b], b: case.roles[a]}
        kept = _settled(piece, roles[clock], roles[data]) if data else 1.0
        tried.append((bearing(case, roles, piece, active=active) * kept, a, b))
    tried.sort(reverse=True)
    now *= _settled(piece, case.roles[clock], case.roles[data]) if data else 1.0
    # Commands alone are whole words between the edges of a D/C line too: what fits without exception may be told against those.
    most = HALF_CARRIED if tried and tried[0][0] == 1.0 else CARRIED
    if not tried or tried[0][0] < CLEARLY or now > most or (len(tried) > 1 and tried[1][0] > tried[0][0] - 0.1):
        return None
    return tried[0][1], tried[0][2], now, tried[0][0]


def _settled(piece: Trace, clock: int, data: int) -> float:
    """The share of clocks in which data change on one side only: a clock in data's place changes twice for each of them. 0 where it changes more
    often than data can, which is for a bit, and back to rest behind it."""
    changes = piece.edges(data).times[1:]
    pulses = min(len(edges_to(piece, clock, level)) for level in (0, 1))
    if pulses < 8 or not len(changes):
        return 1.0
    if len(changes) > 2 * pulses + 8:
        return 0.0
    high = float(np.mean(piece.level_at(clock, changes) == 1))
    return max(high, 1 - high)


def addressed_by_data(case: Case, line: int) -> bool:
    """Whether a data line by itself, its clock being still, spells calls of an address that a device of the catalog can have.

    The length of a bit is that of the shortest stretches; the edges tell where bits begin. Most bursts have to begin with such a call.
    """
    able = {device.address for device in case.rig.devices_on(case.bus) if device.address is not None}
    able |= {address for part in map(load, catalog_names()) if part.i2c for address in part.i2c.addresses}
    edges = excerpt(case.piece, lines=[line]).edges(line)
    times, level = edges.times[1:], edges.level[1:]
    if len(times) < 8:
        return False
    steps = np.diff(times)
    bit = float(np.median(np.sort(steps)[: max(1, len(steps) // 4)]))
    cuts = np.flatnonzero((steps > 12 * bit) & (level[:-1] == 1)) + 1  # an idle line is high; zeros may lie low for longer
    spelt = []
    for first, last in zip([0, *cuts.tolist()], [*cuts.tolist(), len(times)], strict=True):
        if level[first] != 0 or last - first < 4:
            continue  # a START falls
        own, high = times[first : min(last, first + 14)], level[first : min(last, first + 14)]
        inner = own[1:]
        phase = float(np.median((inner - inner[0] + bit / 2) % bit)) - bit / 2
        begins = inner[0] + phase
        begins -= np.floor((begins - own[0] - 0.2 * bit) / bit) * bit  # the first bit begins soon after the START
        centres = begins + bit * (np.arange(8) + 0.5)
        seen = high[np.clip(np.searchsorted(own, centres, side="right") - 1, 0, len(own) - 1)]
        spelt.append(int("".join(str(int(value == 1)) for value in seen[:7]), 2) in able)
    return len(spelt) >= 1 and float(np.mean(spelt)) >= 0.5
