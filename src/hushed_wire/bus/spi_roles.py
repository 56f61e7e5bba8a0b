"""Which lines are an SPI bus, by the traffic: a clock whose pulses come in whole words while a select is active, data that rest at
one of its edges, and perhaps a line that changes between words only (D/C).
"""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product

import numpy as np
from numpy.typing import NDArray

from ..trace import Trace
from .carries import pulses_alike, spans_selected
from .changes import edges_to

__all__ = ["SpiFit", "best_spi", "mode_of", "word_bits"]

Times = NDArray[np.int64]
IDLE = 0.7  # share of the changes of a D/C line at most that no word follows; one of two where drivers leave it high
LEAST = 4  # transfers that have to fit, where they are short
LONG = 128  # clocks: so many in fewer transfers do, too


@dataclass(frozen=True)
class SpiFit:
    """How well lines work as SPI. score: 0 to 1. active: level that selects. bits: of a word. dc: -1 where no line is one."""

    sck: int
    mosi: int
    cs: int
    dc: int
    mode: int
    bits: int
    active: int
    score: float


def word_bits(counts: Times) -> tuple[int, float]:
    """Bits of a word that most transfers are whole multiples of, and the share of them that are."""
    counts = counts[counts > 0]
    if not len(counts):
        return 8, 0.0
    shares = {bits: float(np.mean(counts % bits == 0)) for bits in (16, 8, 9)}
    if np.all(counts == 16):
        return 16, 1.0
    best = max((8, 9), key=lambda bits: shares[bits])
    return best, shares[best]


def mode_of(trace: Trace, sck: int, mosi: int, spans: tuple[Times, Times]) -> tuple[int, float]:
    """The SPI mode, and how clearly the data tell it: the share of data changes that stay clear of the sampling edge."""
    opens, closes = spans
    idle = trace.level_at(sck, opens)
    high = int(np.mean(idle == 1) > 0.5) if len(opens) else 0
    clock = trace.edges(sck)
    data = trace.edges(mosi).times[1:]
    inside = _inside(data, opens, closes)
    when = data[inside]
    at = np.searchsorted(clock.times, when, side="right") - 1
    # Data that are put out with an edge may be sampled just ahead of it: then that edge counts, not the one before.
    following = np.minimum(at + 1, len(clock.times) - 1)
    half = float(np.median(np.diff(clock.times))) if len(clock.times) > 2 else 0.0
    soon = clock.times[following] - when
    at = np.where((soon > 0) & (soon <= half / 4) & (soon < when - clock.times[np.maximum(at, 0)]), following, at)
    after = clock.level[np.maximum(at, 0)]  # the level since the clock edge ahead of each change of data
    first = clock.times[np.maximum(at, 0)] < opens[np.searchsorted(opens, data[inside], side="right") - 1]
    after = after[~first]  # the first bit is put out with the select, ahead of any clock edge
    rising = int(np.count_nonzero(after == 1))
    falling = int(np.count_nonzero(after == 0))
    sampled_rising = falling >= rising
    share = max(rising, falling) / max(1, rising + falling)
    return 2 * high + int(sampled_rising == bool(high)), share


def _inside(times: Times, opens: Times, closes: Times) -> NDArray[np.bool_]:
    """Which moments lie in one of the spans."""
    if not len(opens):
        return np.zeros(len(times), bool)
    at = np.searchsorted(opens, times, side="right") - 1
    inside: NDArray[np.bool_] = (at >= 0) & (times <= closes[np.maximum(at, 0)])
    return inside


def best_spi(trace: Trace, most: int = 10) -> SpiFit | None:
    """The best lines among those that move, None where none make sense."""
    moves = sorted(((len(trace.edges(line).times) - 1, line) for line in range(len(trace.names))), reverse=True)
    active = [line for count, line in moves if count >= 2][:most]
    moving = [line for count, line in moves if count]  # a D/C line may change once
    rises = {line: edges_to(trace, line, 1) for line in active}
    best: SpiFit | None = None
    for cs, level in product(active, (0, 1)):
        opens, closes = spans_selected(trace, cs, level)
        if not len(opens):
            continue
        for sck in active:
            if sck == cs or len(rises[sck]) < 8 * len(opens) // 2:
                continue
            if len(opens) < LEAST and (len(rises[sck]) < LONG or pulses_alike(trace, sck) < 0.9):
                continue  # few transfers tell enough where they are long, and their clock is steady
            counts = np.searchsorted(rises[sck], closes, side="right") - np.searchsorted(rises[sck], opens)
            bits, share = word_bits(counts)
            # Of the last transfer the end may be missing, so it is the select's level that tells which clocks are outside.
            outside = float(np.mean(trace.level_at(cs, rises[sck]) != level))
            score = share * (1 - outside) * float(np.mean(counts > 0))
            if score < 0.9 or (best is not None and score < best.score):
                continue
            fit = _with_data(
                trace, cs, sck, level, bits, score, [line for line in moving if line not in (cs, sck)], (opens, closes)
            )
            if fit is not None and (best is None or fit.score > best.score):
                best = fit
    return best


def _with_data(
    trace: Trace, cs: int, sck: int, level: int, bits: int, score: float, others: list[int], spans: tuple[Times, Times]
) -> SpiFit | None:
    """Data and D/C lines beside a clock and a select."""
    opens, closes = spans
    found: tuple[float, int, int] | None = None
    for line in others:
        times: Times = trace.edges(line).times[1:]
        moves_inside = int(np.count_nonzero(_inside(times, opens, closes)))
        if moves_inside < 8:
            continue
        mode, clear = mode_of(trace, sck, line, spans)
        weight = clear * moves_inside
        if clear >= 0.9 and (found is None or weight > found[0]):
            found = weight, line, mode
    if found is None:
        return None
    _, mosi, mode = found
    sampling = edges_to(trace, sck, 1 if mode in (0, 3) else 0)
    # A transfer that the capture breaks off tells as well what moves within words.
    begun = edges_to(trace, cs, level)
    ended = np.append(closes, [trace.end] * (len(begun) - len(closes)))
    first = np.searchsorted(sampling, begun)
    dc, best_idle = -1, IDLE
    for line in others if bits != 9 else ():  # the ninth bit is what such a line would tell
        times = trace.edges(line).times[1:]
        if line == mosi or not 1 <= len(times) <= len(sampling) // bits + 2 * len(opens):
            continue
        within: Times = times[_inside(times, begun, ended)]
        owner = np.searchsorted(begun, within, side="right") - 1
        bit = (np.searchsorted(sampling, within, side="right") - first[owner]) % bits
        seen = trace.level_at(line, sampling - 1)
        if np.any(bit) or not (seen == 0).any() or not (seen == 1).any():
            continue  # it changes between words only
        # A driver moves it for the sake of words; what changes again and again without any moves by itself.
        idle = float(np.mean(np.diff(np.searchsorted(sampling, times)) == 0)) if len(times) > 1 else 0.0
        if idle < best_idle:
            dc, best_idle = line, idle
    return SpiFit(sck, mosi, cs, dc, mode, bits, level, score)
