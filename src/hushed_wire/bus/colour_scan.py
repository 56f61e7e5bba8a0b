"""Colour panels without a memory: six lines of data bring two rows at once, A to E say which, and how long each load of bits is lit is its weight.

Strategy: at each latch the registers take over the bits that were clocked in last, on all six lines; a dwell is a stretch in which neither load, address
nor enable changes. The light of an LED is the time for which its bit was lit within a frame, and its value that time in units of the shortest
load: so it does not matter in which order the bits of a value come, nor whether all of a row's come at once or all rows have their first
bit first. Source: how such panels are usually built (registers of 16 outputs, a decoder of rows); there is no standard behind the connector.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..trace import Trace
from ..trace.model import Times
from .changes import Change
from .row_groups import address_lines, turns
from .scan_roles import ADDRESS, COLOURS, Lamps

__all__ = ["beat", "dwells", "frames_of_loads", "light_of", "play", "values", "weights"]

PLANES = 8  # bits of a value that are played
SAME = 0.4  # of an octave: lengths of loads that are as near as that are meant to be the same
NEARLY = 0.35  # of an octave, within which one length is meant to be twice another
RARE = 0.01  # share of the loads below which a length is not meant
FEWEST = 3  # turns of a row that show how its loads repeat


def dwells(
    trace: Trace, roles: dict[str, int], lamps: Lamps
) -> tuple[Times, NDArray[np.uint64], NDArray[np.uint8], int, NDArray[np.int64]]:
    """Start of each dwell; mask of the row group that is lit; the bits of each load, packed as `_held` has them; how many groups there are; and which
    load each dwell is of, 0 ahead of the first."""
    own = turns(trace, roles, lamps, max(1, lamps.columns))
    count = 1 << len(address_lines(roles))
    return own.start, own.rows, _held(trace, roles, lamps, own.clocks, own.last), count, own.load


AT_ONCE = 1 << 14  # loads that are looked at together


def _held(trace: Trace, roles: dict[str, int], lamps: Lamps, clocks: Times, last: NDArray[np.int64]) -> NDArray[np.uint8]:
    """(loads + 1, bytes) what the registers hold, line by line, the first bit that went in on top; first what they hold ahead of all, which lights nothing.

    last: (loads,) how many clocks came by then.
    """
    width = max(1, lamps.columns)
    out = np.zeros((len(last) + 1, -(-len(COLOURS) * width // 8)), np.uint8)
    for first in range(0, len(last), AT_ONCE):
        own = last[first : first + AT_ONCE, None] - width + np.arange(width)
        bits = np.zeros((len(own), len(COLOURS), width), bool)
        for number, role in enumerate(COLOURS):
            if role in roles:
                bits[:, number] = (trace.level_at(roles[role], clocks[own.reshape(-1)] - 1) == lamps.column).reshape(own.shape)
        out[first + 1 : first + 1 + len(own)] = np.packbits(bits.reshape(len(own), -1), axis=1)
    return out


def frames_of_loads(cuts: NDArray[np.int64], took: NDArray[np.float64], rows: NDArray[np.uint64]) -> NDArray[np.int64]:
    """Where all rows have one bit of their values before any has the next, so many turns make a frame: those cuts with which frames begin.

    took: (n,) how long each dwell was. The first turn of a frame is the shortest.
    """
    if len(cuts) < 2 * FEWEST:
        return cuts
    first = rows[cuts[0]]
    lit = np.add.reduceat(np.where(rows == first, took, 0.0), cuts)[:-1]
    if lit.max() < 1.4 * lit.min():
        return cuts
    for period in range(2, min(17, len(lit) // 2 + 1)):
        if np.allclose(lit[period:], lit[:-period], rtol=0.1, atol=0.02 * lit.max()):
            return cuts[int(np.argmin(lit[:period])) :: period]
    return cuts


def light_of(
    held: NDArray[np.uint8], load: NDArray[np.int64], mine: NDArray[np.float64], first: NDArray[np.int64], columns: int
) -> NDArray[np.float64]:
    """(frames, 2, columns, 3) for how much the LEDs of a group's two rows were lit in each frame. held: the bits of each load; load,
    mine: (n,) which of them each dwell is of, and how much it lit; first: the dwells with which frames begin."""
    out = np.zeros((len(first), len(COLOURS) * columns))
    every = np.flatnonzero(mine)
    for some in (every[at : at + AT_ONCE] for at in range(0, len(every), AT_ONCE)):
        frame = np.searchsorted(first, some, side="right") - 1
        begins = np.flatnonzero(np.append(True, frame[1:] != frame[:-1]))
        bits = np.unpackbits(held[load[some]], axis=1, count=len(COLOURS) * columns)
        out[frame[begins]] += np.add.reduceat(bits * mine[some, None], begins, axis=0)
    return out.reshape(len(first), 2, 3, columns).transpose(0, 1, 3, 2)


def weights(rows: NDArray[np.uint64], took: NDArray[np.float64], load: NDArray[np.int64]) -> NDArray[np.float64]:
    """(n,) how much each lit dwell counts; those of a load add up to its weight, a whole number.

    Loads that are lit for about as long have one weight. Where each length is about twice the one below it, which is what drivers mean whose short
    loads come out a little long or short, weights are powers of two; else they are lengths in units of the shortest. What is rare, as a load is during
    which the driver was interrupted, weighs as much as what it is next to.
    """
    lit = np.where(rows != 0, took, 0.0)
    each = np.bincount(load, lit) if len(load) else np.zeros(0)
    if not each.any():
        return lit * 0
    size = np.log2(each[each > 0])
    order = np.argsort(size)
    step = np.append(0, np.cumsum(np.diff(size[order]) > SAME))
    count = np.bincount(step)
    middle = np.array([np.median(own) for own in np.split(size[order], np.cumsum(count)[:-1])])
    often = np.flatnonzero(count >= max(2, RARE * len(size)))
    often = often if len(often) else np.arange(len(middle))
    step = np.abs(middle[:, None] - middle[often]).argmin(axis=1)[step]
    middle = middle[often]
    twice = len(middle) > 1 and bool(np.all(np.abs(np.diff(middle) - 1) < NEARLY))
    meant = np.exp2(np.arange(len(middle))) if twice else np.maximum(1, np.round(np.exp2(middle - middle[0])))
    weight = np.zeros(len(each))
    weight[np.flatnonzero(each > 0)[order]] = meant[step]
    share = np.divide(weight, each, out=np.zeros_like(each), where=each > 0)
    return np.asarray(lit * share[load])


def values(light: NDArray[np.float64], most: NDArray[np.float64]) -> NDArray[np.uint8]:
    """(f, rows, columns, 3) values from 0 to 255 of LEDs that had so much (f, rows, columns, 3) of the `most` (f, groups) of their row."""
    of = np.tile(most, (1, light.shape[1] // most.shape[1]))[:, :, None, None]
    share = np.divide(light, of, out=np.zeros_like(light), where=of > 0)
    out: NDArray[np.uint8] = (share * 255 + 0.5).clip(0, 255).astype(np.uint8)
    return out


def play(
    pictures: NDArray[np.uint8], which: Times, row: Times, at: Times, dwell: int, groups: int, lamps: Lamps, roles: dict[str, int]
) -> list[Change]:
    """Changes of a driver that shifts the eight bits of a row's values one behind another, the lowest first, each lit twice as long as the one before.

    pictures: (k, rows, columns, 3). which, row, at: (n,) picture, row group and tick of each turn, dwell ticks long.
    """
    width = lamps.columns
    half, unit = beat(dwell, width)
    zero = np.zeros(1, np.int64)
    shift = 2 * width * half
    out: list[Change] = [(zero, line, 0) for line in roles.values()]
    dark = 1 - lamps.row
    if "enable" in roles:
        out.append((zero, roles["enable"], dark))
    begin = at
    for plane in range(PLANES):
        flat = (begin[:, None] + 2 * half * np.arange(width)).reshape(-1)
        for number, role in enumerate(COLOURS):
            if role in roles:
                upper, colour = row + groups * (number // 3), number % 3
                bit = pictures[which, upper, :, colour] >> plane & 1
                out.append((flat, roles[role], np.where(bit.reshape(-1), lamps.column, 1 - lamps.column)))
        out += [(flat + half, roles["clock"], 1), (flat + 2 * half, roles["clock"], 0)]
        ready = begin + shift + half
        for number, role in enumerate(ADDRESS):
            if role in roles:
                out.append((ready, roles[role], (row >> number & 1).astype(np.uint8)))
        out += [(ready + half, roles["latch"], 1), (ready + 2 * half, roles["latch"], 0)]
        if "enable" in roles:
            out += [(ready + 3 * half, roles["enable"], lamps.row), (ready + 3 * half + (unit << plane), roles["enable"], dark)]
        begin = ready + 4 * half + (unit << plane)
    return out


def beat(dwell: int, width: int) -> tuple[int, int]:
    """Ticks of half a clock, and for which the lowest bit is lit, of a row's turn of so many ticks; raises HushedError where it is too short."""
    half = max(1, min(500, dwell * 2 // 5 // (PLANES * (2 * width + 5))))
    unit = (dwell - PLANES * half * (2 * width + 5)) // ((1 << PLANES) - 1)
    if unit < 1:
        raise HushedError(
            "the rows of this panel have too little time for eight bits of each colour",
            where="--clock",
            remedy="take a lower refresh rate",
        )
    return half, unit
