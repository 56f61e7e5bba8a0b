"""Scanned LEDs: rows and columns driven in turn, digits by segments, and panels whose rows come in groups behind a shift register (of those in
colours, what is special is in `colour_scan`).

Strategy: a scanned display moves no words. Stretches in which no line changes are dwells; how long each LED was on within one scan
is its brightness. `decode` cuts a trace into dwells and these into frames, which begin where the first row lights anew, and adds up;
`encode` plays pictures as a driver scans them. A line whose level is not known lights nothing.
"""

from __future__ import annotations

from dataclasses import dataclass
from fractions import Fraction
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..trace import Trace
from ..trace.model import Samples, Times, as_changes, joined
from . import colour_scan
from .changes import Change, trace_of
from .channel import Channel, ChannelDecoder, Wanted, Wired
from .moves import TICK, Move, Pace
from .row_groups import address_lines, turns
from .scan import Scan
from .scan_roles import ADDRESS, Lamps, axes, coloured, grouped
from .words import Transactions, Words

__all__ = [
    "Beat",
    "Lamps",
    "MatrixChannel",
    "Scan",
    "axes",
    "decode",
    "decoders",
    "encode",
    "samples_a_second",
    "seconds_of",
    "wires",
]


def decoders(wired: Wired, wanted: list[Wanted]) -> list[ChannelDecoder]:
    """A channel for each display that the lines light, or one by itself."""
    return [MatrixChannel(wired, each.lamps or Lamps()) for each in wanted or [Wanted()]]


class MatrixChannel:
    """The scan of a display: brightness is added up over whole frames, so it is told at the end. It has no words; a panel makes pictures of it."""

    def __init__(self, wired: Wired, lamps: Lamps) -> None:
        self.wired, self.lamps = wired, lamps
        self.blocks: list[Trace] = []

    def feed(self, block: Trace | Samples) -> Channel:
        """Nothing yet; of a block only the lines that matter are kept."""
        own = as_changes(block)
        lines = list(self.wired.roles.values())
        self.blocks.append(own.select(lines, tuple(own.names[line] for line in lines)))
        return self._told(None)

    def finish(self) -> Channel:
        """The scan."""
        roles = {role: number for number, role in enumerate(self.wired.roles)}
        blocks, self.blocks = self.blocks, []
        return self._told(decode(joined(blocks), roles, self.lamps) if blocks else None)

    @property
    def held(self) -> int | None:
        """Everything is kept until the end."""
        return self.blocks[0].start if self.blocks else None

    def _told(self, scan: Scan | None) -> Channel:
        none, no, kinds = np.empty(0, np.int64), np.empty(0, bool), np.empty(0, np.uint8)
        words = Words(kinds, none, none, none, no, no)
        return Channel(self.wired.name, "matrix", "", words, Transactions(none, none, none, none, kinds, kinds, kinds), scan=scan)


def decode(trace: Trace, roles: dict[str, int], lamps: Lamps) -> Scan:
    """The scan of a whole trace."""
    load = None
    if coloured(roles):
        start, rows, bits, count, load = colour_scan.dwells(trace, roles, lamps)
    elif grouped(roles):
        start, rows, bits, count = _grouped(trace, roles, lamps)
    else:
        start, rows, bits, count = _crossed(trace, roles, lamps)
    end = np.append(start[1:], trace.end)
    cuts, cycles = _frames(start, rows)
    if load is not None and cycles:
        cuts = colour_scan.frames_of_loads(cuts, (end - start).astype(float), rows)
    frames, last = start[cuts], int(cuts[-1])
    if not cycles or len(cuts) < 2:
        frames, last, first = np.append(frames, trace.end), len(start), cuts * 0
    else:
        usual = int(np.median(np.diff(frames)))
        if trace.end - frames[-1] >= usual * 9 // 10:  # the scan that was on when the capture ended was a whole one
            frames = np.append(frames, min(int(frames[-1]) + usual, trace.end))
            last = int(np.searchsorted(start, frames[-1]))
            cuts = np.append(cuts, last)
        first = cuts[:-1] - cuts[0]
    inside = slice(int(cuts[0]), last)
    span = np.diff(frames).astype(np.float32)
    if load is not None:
        took = (np.minimum(end, frames[-1]) - start)[inside].astype(float)
        light, on, colours = _coloured(bits, rows[inside], load[inside], took, first, np.diff(frames), count, lamps.columns)
        return Scan(start, end, rows, frames, light, on, cycles, bits, lamps, load, colours)
    took = (np.minimum(end, frames[-1]) - start)[inside].astype(np.float32)  # the last one may end in mid-dwell
    light = np.zeros((len(first), count, bits.shape[1]), np.float32)
    on = np.zeros((len(first), count), np.float32)
    for row in range(count):
        mine = took * ((rows[inside] >> np.uint64(row)) & np.uint64(1)).astype(np.float32)
        light[:, row] = np.add.reduceat(bits[inside] * mine[:, None], first, axis=0) / span[:, None]
        on[:, row] = np.add.reduceat(mine, first) / span
    return Scan(start, end, rows, frames, _on_glass(light, lamps) if lamps.block else light, on, cycles, bits, lamps)


def _coloured(
    held: NDArray[np.uint8],
    rows: NDArray[np.uint64],
    load: NDArray[np.int64],
    took: NDArray[np.float64],
    first: NDArray[np.int64],
    span: Times,
    groups: int,
    columns: int,
) -> tuple[NDArray[np.float32], NDArray[np.float32], NDArray[np.uint8]]:
    """Light, time lit and colours of a panel's frames, as `Scan` has them.

    held: the bits of each load. rows, load, took: (n,) group, load and ticks of the dwells inside the frames, which begin with `first`. span: ticks of
    each frame.
    """
    weights = colour_scan.weights(rows, took, load)
    light = np.zeros((len(first), 2, groups, columns, 3))
    most, on = np.zeros((len(first), groups)), np.zeros((len(first), groups))
    for group in range(groups):
        mine = (rows >> np.uint64(group)) & np.uint64(1) == 1
        light[:, :, group] = colour_scan.light_of(held, load, weights * mine, first, columns)
        most[:, group] = np.add.reduceat(weights * mine, first)
        on[:, group] = np.add.reduceat(took * mine, first)
    whole = light.reshape(len(first), 2 * groups, columns, 3)
    share = whole.max(axis=3) / np.maximum(np.tile(most, (1, 2)), 1)[:, :, None]
    on = on / span[:, None]
    shown = share * np.tile(on, (1, 2))[:, :, None]
    return shown.astype(np.float32), on.astype(np.float32), colour_scan.values(whole, most)


def _level(trace: Trace, line: int, active: int) -> NDArray[np.bool_]:
    """(n,) where a line is known to have a level, for each entry of the trace."""
    kind = trace.levels.dtype.type
    high: NDArray[Any] = (trace.levels >> kind(line) & kind(1)) == active
    if trace.unknown is not None:
        high &= (trace.unknown >> kind(line) & kind(1)) == 0
    out: NDArray[np.bool_] = high
    return out


def _crossed(trace: Trace, roles: dict[str, int], lamps: Lamps) -> tuple[Times, NDArray[np.uint64], NDArray[np.uint8], int]:
    """Dwells of rows and columns that have a line each."""
    rows, columns = axes(roles)
    own = trace.select([*rows, *columns])
    mask = np.zeros(len(own), np.uint64)
    for number in range(len(rows)):
        mask |= _level(own, number, lamps.row).astype(np.uint64) << np.uint64(number)
    bits = np.stack([_level(own, len(rows) + k, lamps.column) for k in range(len(columns))], axis=1).astype(np.uint8)
    if "enable" in roles:  # as with drivers and registers: low lets the outputs drive
        mask[trace.level_at(roles["enable"], own.times) != 0] = 0
    return own.times, mask, bits, len(rows)


def _grouped(trace: Trace, roles: dict[str, int], lamps: Lamps) -> tuple[Times, NDArray[np.uint64], NDArray[np.uint8], int]:
    """Dwells of a panel that has a register for its columns and takes its rows in groups."""
    count = 1 << len(address_lines(roles))
    width = max(1, lamps.rows * lamps.columns // count)
    own = turns(trace, roles, lamps, width)
    level = trace.level_at(roles["data"], own.clocks - 1)
    held = level[own.last[:, None] - width + np.arange(width)] if len(own.last) else np.empty((0, width), np.uint8)
    held = np.concatenate(
        [np.zeros((1, width), np.uint8), (held == lamps.column).astype(np.uint8)]
    )  # nothing is lit before the first
    return own.start, own.rows, held[own.load], count


def _on_glass(light: NDArray[np.float32], lamps: Lamps) -> NDArray[np.float32]:
    """Light by group and bit, (f, groups, bits), as light by row and column."""
    frames, groups, _ = light.shape
    place = _places(lamps, groups)
    out = np.zeros((frames, lamps.rows * lamps.columns), np.float32)
    out[:, place.reshape(-1)] = light.reshape(frames, -1)
    return out.reshape(frames, lamps.rows, lamps.columns)


def _places(lamps: Lamps, groups: int) -> NDArray[np.int64]:
    """(groups, bits) row x columns + column of every bit, in the order in which bits go in."""
    each = lamps.rows // groups
    turn = np.arange(each)[::-1] if lamps.up else np.arange(each)
    across = np.arange(lamps.columns).reshape(-1, lamps.block)
    if not lamps.left:
        across = across[:, ::-1]
    rows = np.arange(groups)[:, None, None, None] + groups * turn[None, None, :, None]
    place: NDArray[np.int64] = (rows * lamps.columns + across[None, :, None, :]).reshape(groups, -1)
    return place


def _frames(start: Times, rows: NDArray[np.uint64]) -> tuple[NDArray[np.int64], bool]:
    """Indices of the dwells with which frames begin, and whether the scan goes round."""
    lit = np.flatnonzero(rows)
    whole = np.zeros(1, np.int64)
    if not len(lit):
        return whole, False
    seen = rows[lit]
    found: list[NDArray[np.int64]] = []
    for row in range(int(seen.max()).bit_length()):
        mine = seen >> np.uint64(row) & np.uint64(1) == 1
        found.append(lit[np.flatnonzero(mine & ~np.append(False, mine[:-1]))])
    most = max(len(begins) for begins in found)
    return (next(begins for begins in found if len(begins) >= max(2, most / 2)), True) if most > 1 else (whole, False)


# ---- the way out ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class Beat:
    """Ticks of a scan. period: of one frame. gap: for which all is dark between two rows. half: of a clock, of grouped panels."""

    period: int
    gap: int
    half: int = 500


def encode(
    pictures: NDArray[Any],
    start: Times,
    scans: NDArray[np.int64],
    lamps: Lamps,
    beat: Beat,
    roles: dict[str, int],
    names: tuple[str, ...],
    tick: Fraction,
    end: int,
) -> Trace:
    """The trace of pictures, each scanned so many times; the twin of `decode`. pictures: (k, rows, columns), of colours (k, rows,
    columns, 3). start, scans: (k,)."""
    in_groups = grouped(roles)
    count = 1 << len(address_lines(roles)) if in_groups else len(axes(roles)[0])
    dwell = beat.period // count
    shown = np.repeat(np.arange(len(pictures)), scans)
    number = np.arange(len(shown)) - np.repeat(np.cumsum(scans) - scans, scans)
    slots = ((start[shown] + number * beat.period)[:, None] + np.arange(count) * dwell).reshape(-1)
    which, row = np.repeat(shown, count), np.tile(np.arange(count), len(shown))
    if coloured(roles):
        return trace_of(colour_scan.play(pictures, which, row, slots, dwell, count, lamps, roles), names, tick, end)
    play = _play_groups if in_groups else _play_lines
    return trace_of(play(pictures, which, row, slots, dwell, lamps, beat, roles), names, tick, end)


def _play_lines(
    pictures: NDArray[Any], which: Times, row: Times, at: Times, dwell: int, lamps: Lamps, beat: Beat, roles: dict[str, int]
) -> list[Change]:
    zero = np.zeros(1, np.int64)
    rows, columns = axes(roles)
    out: list[Change] = [(zero, line, 1 - lamps.row) for line in rows]
    out += [(zero, line, 1 - lamps.column) for line in columns]
    for number, line in enumerate(columns):
        out.append((at, line, np.where(pictures[which, row, number], lamps.column, 1 - lamps.column)))
    for number, line in enumerate(rows):
        mine = at[row == number]
        out += [(mine + beat.gap, line, lamps.row), (mine + dwell - beat.gap, line, 1 - lamps.row)]
    return out


def _play_groups(
    pictures: NDArray[Any], which: Times, row: Times, at: Times, dwell: int, lamps: Lamps, beat: Beat, roles: dict[str, int]
) -> list[Change]:
    zero = np.zeros(1, np.int64)
    groups = int(row.max()) + 1 if len(row) else 1
    bits = pictures.reshape(len(pictures), -1)[which[:, None], _places(lamps, groups)[row]]
    count = bits.shape[1]
    clock = at[:, None] + np.arange(count) * 2 * beat.half
    flat = clock.reshape(-1)
    level = np.where(bits.reshape(-1), lamps.column, 1 - lamps.column)
    ready = at + 2 * count * beat.half
    out: list[Change] = [(zero, line, 0) for line in roles.values()]
    out += [(flat, roles["data"], level), (flat + beat.half, roles["clock"], 1), (flat + 2 * beat.half, roles["clock"], 0)]
    for number, role in enumerate(ADDRESS):
        if role in roles:
            out.append((ready + 2 * beat.gap, roles[role], (row >> number & 1).astype(np.uint8)))
    out += [(ready + 2 * beat.gap, roles["latch"], 1), (ready + 3 * beat.gap, roles["latch"], 0)]
    if "enable" in roles:
        dark = 1 - lamps.row
        out += [(zero, roles["enable"], dark), (ready + beat.gap, roles["enable"], dark)]
        out.append((ready + 4 * beat.gap, roles["enable"], lamps.row))
        # Where a picture ends without another one behind it, the last group goes dark.
        last = np.flatnonzero(np.append(np.diff(at) > dwell, True)) if len(at) else np.empty(0, np.int64)
        out.append((ready[last] + dwell + beat.gap, roles["enable"], dark))
    return out


# ---- what a driver moves -----------------------------------------------------------------------------------------------------

REFRESH = Fraction(100)  # frames a second, where nothing else is said
SAMPLES_A_GAP = 6


def _beat(pace: Pace) -> Beat:
    """The scan of a display: the rig's clock is its refresh rate."""
    rate = pace.asked or pace.clock or REFRESH
    if not 1 <= rate <= 20_000:
        raise HushedError(f"a refresh rate of {float(rate):g} Hz", where="--clock", remedy="of scanned LEDs it is 1 Hz to 20 kHz")
    period = int(1 / rate / TICK)
    return Beat(period, max(1, min(period // 400, 20_000)), max(1, min(period // 4000, 500)))


def wires(moves: list[Move], wired: Wired, pace: Pace, names: tuple[str, ...], lead: int, tail: int) -> tuple[Trace, Times]:
    """Pictures as a driver scans them, and the tick at which each move begins."""
    assert pace.lamps is not None
    assert pace.pictures is not None
    beat = _beat(pace)
    start, at = [], lead
    scans = [max(1, -(-move.lasts // beat.period)) if len(move.words) else 0 for move in moves]
    for move, count in zip(moves, scans, strict=True):
        at += move.gap
        start.append(at)
        at += count * beat.period
    shown = [number for number, move in enumerate(moves) if len(move.words)]
    begin = np.array(start, np.int64)
    pictures = np.array([pace.pictures(moves[number]) for number in shown])
    if not shown:
        pictures = pace.pictures(Move(""))[None][:0]
    counts = np.array(scans, np.int64)[shown] if shown else np.empty(0, np.int64)
    return encode(
        pictures, begin[shown] if shown else begin[:0], counts, pace.lamps, beat, wired.roles, names, TICK, at + tail
    ), begin


def seconds_of(move: Move, wired: Wired, pace: Pace) -> float:
    """How long a move takes: a picture is scanned until the next one comes."""
    return float(move.lasts * TICK)


def samples_a_second(wired: Wired, pace: Pace) -> Fraction:
    """Enough for the shortest thing on the wires."""
    beat = _beat(pace)
    if coloured(wired.roles) and pace.lamps is not None:
        half, unit = colour_scan.beat(beat.period >> sum(role in wired.roles for role in ADDRESS), pace.lamps.columns)
        return SAMPLES_A_GAP / (min(half, unit) * TICK)
    return SAMPLES_A_GAP / (min(beat.gap, beat.half if "clock" in wired.roles else beat.gap) * TICK)
