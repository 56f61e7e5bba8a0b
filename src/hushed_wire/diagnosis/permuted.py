"""Data lines in any order: too many orders to try, so a likely one is worked out from how often each line is high, and bettered pair by pair.

In a bring-up and in text each bit has a share of ones of its own (bit 7 of text is hardly ever set, bit 5 mostly). The assignment that
brings observed and expected shares closest together is solved for; from there, and from the lines as they are wired, the best exchange of two
lines is taken again and again while that makes more sense of the capture.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import combinations
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from ..bus import parallel
from ..errors import HushedError
from ..sequence import Target, expand
from ..sequence.parse import parse_text
from ..sequence.start import start_text
from ..trace import Trace

__all__ = ["best_order", "cheapest"]

TEXT = b"ABCDEFGHIJKLMNOPRSTUVWXYZ 0123456789 0123456789 .:-  "
ENOUGH = 0.97
MOST_STEPS = 7

Worth = Callable[[dict[str, int]], float]


def best_order(
    trace: Trace, roles: dict[str, int], target: Target, select_active: int, worth: Worth
) -> tuple[float, dict[str, int]]:
    """The order of the data lines that makes most sense: its worth, and the line of each role. worth: of an order, from 0 to 1."""
    bits = sorted((role for role in roles if role[0] == "d" and role[1:].isdecimal()), key=lambda role: int(role[1:]))
    known: dict[tuple[int, ...], float] = {}

    def value(lines: list[int]) -> float:
        key = tuple(lines)
        if key not in known:
            known[key] = worth(dict(zip(bits, lines, strict=True)))
        return known[key]

    begin = [roles[role] for role in bits]
    best: tuple[float, list[int]] = (value(begin), begin)
    for solved in (False, True):  # as wired first, as that moves the fewest lines
        if solved and best[0] >= ENOUGH:
            break
        lines = _by_shares(trace, roles, bits, target, select_active) if solved else begin
        now = value(lines)
        for _ in range(MOST_STEPS):
            if now >= ENOUGH:
                break
            tried = []
            for a, b in combinations(range(len(bits)), 2):
                other = list(lines)
                other[a], other[b] = other[b], other[a]
                tried.append((value(other), other))
            top = max(tried, key=lambda entry: entry[0])
            if top[0] <= now + 1e-6:
                break
            now, lines = top
        if now > best[0] + 1e-6:
            best = now, lines
    return best[0], dict(zip(bits, best[1], strict=True))


def _by_shares(trace: Trace, roles: dict[str, int], bits: list[str], target: Target, select_active: int) -> list[int]:
    """The lines in the order that their shares of ones are likeliest for."""
    found = parallel.decode(trace, roles, select_active)
    commands, data = _expected(target)
    cost = np.zeros((len(bits), len(bits)))
    places = [int(role[1:]) for role in bits]
    for is_data, expected in ((0, commands), (1, data)):
        words = found.words.value[(found.data == is_data) & ~found.read]
        if len(words) < 4 or not len(expected):
            continue
        seen = np.array([np.mean(words >> place & 1) for place in places])
        wanted = np.array([np.mean(expected >> bit & 1) for bit in places])
        cost += np.abs(seen[None, :] - wanted[:, None]) * (2 if is_data else 1)
    lines = [roles[role] for role in bits]
    return [lines[k] for k in cheapest(cost)]


def cheapest(cost: NDArray[np.float64]) -> list[int]:
    """The column for each row of a square matrix of at most 16 rows, each column once, whose costs add up to the least.

    The first rows take a set of as many columns; the least of each set follows from those that lack one column of it (Held and Karp 1962)."""
    size = len(cost)
    sets = np.arange(1 << size)
    rows = sum(sets >> bit & 1 for bit in range(size))  # that have columns
    least, last = np.full(1 << size, np.inf), np.zeros(1 << size, np.int64)
    least[0] = 0.0
    for row in range(size):
        own = sets[rows == row + 1]
        for column in range(size):
            having = own[own >> column & 1 == 1]
            total = least[having ^ (1 << column)] + cost[row, column]
            better = total < least[having]
            least[having[better]], last[having[better]] = total[better], column
    out, left = [0] * size, (1 << size) - 1
    for row in reversed(range(size)):
        out[row] = int(last[left])
        left ^= 1 << out[row]
    return out


def _expected(target: Target) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Bytes of a usual bring-up, and of usual data: text on character displays, nothing where a picture may be anything."""
    try:
        steps = expand(parse_text(start_text(target), "bring-up"), [target], Path())
    except HushedError:
        steps = []
    raw = b"".join(send.raw for step in steps for send in step.sends if not send.data)
    text = TEXT if target.part.memory.kind == "character" else b""
    return np.frombuffer(raw, np.uint8).astype(np.int64), np.frombuffer(text, np.uint8).astype(np.int64)
