"""Moves to wires: the exact trace of what a driver moves on a bus, in the parts' minimum times with a margin."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..bus import matrix, parallel, shift, spi
from ..errors import HushedError
from ..part import Part
from ..sequence import Target
from ..trace import Trace
from ..trace.model import word_type
from ..units import parse
from .move import MARGIN, TICK, Move
from .schema import Bus, lamps_of

__all__ = ["beat_of", "clock_of", "encode_moves", "pulse_of"]

IDLE_HIGH = ("reset", "backlight", "enable")  # lines beside a bus that rest high; others as they are first set
REFRESH = Fraction(100)  # frames a second of scanned LEDs, where nothing else is said
USUAL = {"spi": Fraction(1_000_000), "shift": Fraction(1_000_000)}


def _limit(part: Part, *names: str) -> Fraction:
    """The longest of some minimum times of a part, in seconds."""
    return max([parse(part.limits[name], "s") for name in names if name in part.limits] or [Fraction(0)])


def pulse_of(part: Part, bus: Bus, clock: Fraction | None = None) -> parallel.Pulse:
    """The cycle of a parallel bus: its part's minimum times with a margin, or the rig's clock where that is slower."""
    setup = max(_limit(part, "tAS", "tASU", "tDSW", "tDSU") * MARGIN, 50 * TICK)
    width = max(_limit(part, "PWEH", "tWH") * MARGIN, 100 * TICK)
    cycle = max(_limit(part, "tcycE", "tC") * MARGIN, setup + 2 * width)
    rate = clock or (parse(bus.clock, "Hz") if bus.clock else None)
    if rate:
        cycle = max(cycle, 1 / rate) if not clock else 1 / rate
        if setup + width > cycle:
            setup, width = cycle / 5, cycle * 2 / 5
    active = 1 if bus.select == "high" else 0
    ticks = [max(1, int(value / TICK)) for value in (setup, width, cycle - setup - width)]
    return parallel.Pulse(ticks[0], ticks[1], ticks[2], active)


def clock_of(part: Part, bus: Bus, clock: Fraction | None = None) -> Fraction:
    """The clock of a serial bus: as asked for, as the rig says, or what the part allows with a margin, at most a usual rate."""
    if clock or bus.clock:
        return clock or parse(bus.clock, "Hz")
    most = parse(part.limits["spi_clock"], "Hz") / MARGIN if "spi_clock" in part.limits else USUAL["spi"]
    return min(most, USUAL.get(bus.kind, most))


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
    """The exact trace of moves on a bus that is not I2C. roles: role to line number. Lines beside the bus move as `levels` say."""
    if bus.kind == "matrix":
        assert target is not None
        return _scanned(moves, bus, target, roles, names, lead, tail, clock)
    beside = [role for role in roles if role in (*IDLE_HIGH, *direct)]
    own = {role: line for role, line in roles.items() if role not in beside}
    sizes = np.array([len(move.words) for move in moves], np.int64)
    gaps = np.array([move.gap for move in moves], np.int64)
    if bus.kind == "parallel":
        pulse = pulse_of(part, bus, clock)
        pauses = [int(move.pauses.sum()) for move in moves]
        took = sizes * pulse.cycle + np.array(pauses, np.int64)
    else:
        half = max(1, int(1 / clock_of(part, bus, clock) / TICK / 2))
        lengths = {move.bits for move in moves if len(move.words)} or {8}
        bits = max(lengths)
        if len(lengths) > 1:  # several devices: words of whole bytes are the same on the wires as their bytes
            if any(each % 8 for each in lengths):
                raise HushedError("words of nine bits and of whole bytes on one bus", remedy="rehearse one device at a time")
            moves, bits = [_in_bytes(move) for move in moves], 8
            sizes = np.array([len(move.words) for move in moves], np.int64)
        if bus.kind == "spi":
            shape = spi.Shape(bits, half, 2 * half, half, bus.mode, bus.order == "msb", 1 if bus.select == "high" else 0)
            took = np.where(sizes > 0, spi.durations(sizes, shape), 0)
        else:
            chain = shift.Chain(bits, half, bus.order == "msb")
            took = sizes * shift.duration(chain)
    start = lead + np.cumsum(gaps) + np.concatenate([[0], np.cumsum(took)[:-1]]) if len(moves) else np.empty(0, np.int64)
    end = (int(start[-1] + took[-1]) if len(moves) else lead) + tail
    busy = sizes > 0
    words = np.concatenate([np.empty(0, np.uint32), *(move.words for move in moves)])
    data = np.concatenate([np.empty(0, bool), *(move.data for move in moves)])
    if bus.kind == "parallel":
        each = np.concatenate([np.empty(0, np.int64), *(_within(move, pulse.cycle) for move in moves)])
        at = np.repeat(start, sizes) + each
        chips = np.repeat(np.array([move.chips for move in moves], np.uint8), sizes)
        trace = parallel.encode(words, data, chips, at, pulse, own, names, TICK, end)
    elif bus.kind == "spi":
        select = [move.select for move in moves if len(move.words)]
        trace = spi.encode(words, sizes[busy], start[busy], shape, own, names, TICK, end, data, select)
    else:
        number = np.concatenate([np.empty(0, np.int64), *(np.arange(len(move.words)) for move in moves)])
        trace = shift.encode(
            words.astype(np.uint64), np.repeat(start, sizes) + number * shift.duration(chain), chain, own, names, TICK, end
        )
    return _with_levels(trace, moves, start, roles, beside)


def beat_of(bus: Bus, clock: Fraction | None = None) -> matrix.Beat:
    """The scan of a display: the rig's clock is its refresh rate."""
    rate = clock or (parse(bus.clock, "Hz") if bus.clock else REFRESH)
    if not 1 <= rate <= 20_000:
        raise HushedError(f"a refresh rate of {float(rate):g} Hz", where="--clock", remedy="of scanned LEDs it is 1 Hz to 20 kHz")
    period = int(1 / rate / TICK)
    return matrix.Beat(period, max(1, min(period // 400, 20_000)), max(1, min(period // 4000, 500)))


def _scanned(
    moves: list[Move],
    bus: Bus,
    target: Target,
    roles: dict[str, int],
    names: tuple[str, ...],
    lead: int,
    tail: int,
    clock: Fraction | None,
) -> Trace:
    """Pictures as a driver scans them."""
    from ..part.scanned import from_bytes

    beat = beat_of(bus, clock)
    shown = [move for move in moves if len(move.words)]
    scans = np.array([max(1, -(-move.lasts // beat.period)) for move in shown], np.int64)
    gaps, at, start = [move.gap for move in shown], lead, []
    for gap, count in zip(gaps, scans.tolist(), strict=True):
        start.append(at + gap)
        at += gap + count * beat.period
    pictures = np.array([from_bytes(move.words.astype(np.uint8), target.panel) for move in shown])
    if not len(shown):
        pictures = np.zeros((0, target.panel.height, target.panel.width), bool)
    lamps = lamps_of(target, bus)
    return matrix.encode(pictures, np.array(start, np.int64), scans, lamps, beat, roles, names, TICK, at + tail)


def _in_bytes(move: Move) -> Move:
    """A move of longer words as one of bytes, the high one first."""
    each = move.bits // 8
    if each == 1:
        return move
    raw = move.words.astype(">u4").view(np.uint8).reshape(-1, 4)[:, 4 - each :].reshape(-1).astype(np.uint32)
    pauses = np.repeat(move.pauses, each)
    return Move(
        move.device, raw, np.repeat(move.data, each), move.gap, pauses, 8, move.chips, move.select, move.address, move.levels
    )


def _within(move: Move, cycle: int) -> NDArray[np.int64]:
    """Ticks from the start of a move to each of its words."""
    before = np.cumsum(move.pauses) - move.pauses
    return np.arange(len(move.words)) * cycle + before


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
