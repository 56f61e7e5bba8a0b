"""Digits of seven segments whose wiring nobody knows: registers that are written again and again, and the order of segments under which
what they get are digits.

There are 40,320 ways to wire eight outputs to seven segments and a point; under nearly all of them some value is no character.
"""

from __future__ import annotations

from collections import Counter
from functools import lru_cache
from itertools import pairwise, permutations

import numpy as np
from numpy.typing import NDArray

from ..part.segments import SHAPES
from .machine import Machine, Pointer
from .talk import Step

__all__ = ["NAMES", "digits", "orders", "worth"]

BELIEVED = 0.6  # share of values that are characters from which on registers are digits
MOST = 16  # of them
DIGITS_LEAST = 3  # times a register of digits is written at least in each capture
NAMES = ("a", "b", "c", "d", "e", "f", "g", "dp")
CODES = ("g", "f", "e", "d", "c", "b", "a", "dp")  # how a part that decodes drives its segments, which nobody sees from outside
FAMILIAR = {**dict.fromkeys("0123456789", 1.0), " ": 1.0, "-": 0.8, **dict.fromkeys("AbCdEFHLPru°_", 0.3)}


Writes = list[tuple[int, int]]  # (address, value), in order


def digits(captures: list[list[Step]], pairs: bool) -> list[Machine]:
    """Registers side by side that are written most often, as digits. pairs: words of register and value; else bytes behind an address."""
    writes = list(map(_writes, captures))
    run = _busiest(writes)
    values = Counter(value for own in writes for address, value in own if address in run)
    if not 1 <= len(run) <= MOST or len(values) < 3:
        return []
    numbers = all(value & 0x7F <= 15 for value in values)  # the part makes the shapes
    ways = worth(values)
    best = 0.95 if numbers else float(ways.max())
    if best < BELIEVED:
        return []
    tied = np.flatnonzero(ways >= best - 1e-9)
    wiring = CODES if numbers else tuple(NAMES[name] for name in orders()[tied[0]])
    good = {value for value in range(256) if (value & 0x7F <= 15 if numbers else _worths()[_lit(value, wiring)] > 0)}
    run = _with_neighbours(run, writes, good)
    if len(run) > MOST:
        return []
    where = f"{len(values)} values at {run[0]:02X}h to {run[-1]:02X}h are"
    ways_text = "one way" if len(tied) == 1 else f"{len(tied)} ways"
    because = f"{where} numbers: the part decodes them" if numbers else f"{where} digits under {ways_text} to wire eight segments"
    machine = Machine("digit", best, len(run), 1, because, {"digit": Pointer(run[0], 4, tuple(range(len(run))))}, decodes=numbers)
    machine.wiring, machine.tied = wiring, 1 if numbers else len(tied)
    machine.backwards = _restless(run, {address: _changes(writes, address) for address in run}) < 0
    counting = any(len(step.args) > 1 for steps in captures for step in steps)
    machine.write = run[0] if counting or not pairs else -1
    return [machine]


def _writes(steps: list[Step]) -> Writes:
    """What goes to which register."""
    out: Writes = []
    for step in steps:
        if len(step.code) == 1:
            out += [(step.code[0] + number, value) for number, value in enumerate(step.args)]
        elif len(step.code) == 2 and not step.args:
            out.append((step.code[0], step.code[1]))
    return out


def _busiest(writes: list[Writes]) -> list[int]:
    """Neighbours among the registers that are written again and again, those with the most writes."""
    counts = Counter(address for own in writes for address, _ in own)
    most = max(counts.values(), default=0)
    often = sorted(address for address, count in counts.items() if count >= max(DIGITS_LEAST * len(writes), most / 4))
    runs = np.split(np.array(often), np.flatnonzero(np.diff(often) != 1) + 1) if often else []
    best = max(runs, key=lambda own: sum(counts[address] for address in own.tolist()), default=None)
    out: list[int] = [] if best is None else best.tolist()
    return out


def _with_neighbours(run: list[int], writes: list[Writes], good: set[int]) -> list[int]:
    """Digits that never change are written once or twice: registers beside the others whose values are digits, too."""
    got: dict[int, set[int]] = {}
    for address, value in (each for own in writes for each in own):
        got.setdefault(address, set()).add(value)
    first, last = run[0], run[-1]
    while got.get(first - 1, {-1}) <= good:
        first -= 1
    while got.get(last + 1, {-1}) <= good:
        last += 1
    return list(range(first, last + 1))


def _lit(value: int, wiring: tuple[str, ...]) -> int:
    """The segments that a value lights, as bits in the order of `NAMES`."""
    return sum(1 << NAMES.index(name) for bit, name in enumerate(wiring) if value >> bit & 1)


def _changes(writes: list[Writes], address: int) -> int:
    """How often a digit changes."""
    out = 0
    for own in writes:
        got = [value for where, value in own if where == address]
        out += sum(a != b for a, b in pairwise(got))
    return out


def _restless(run: list[int], changes: dict[int, int]) -> float:
    """Whether later registers change more often (the digit on the right is the restless one), or less: below zero."""
    own = np.array([changes[address] for address in run], float)
    where = np.arange(len(run)) - (len(run) - 1) / 2
    return float((where * (own - own.mean())).sum())


@lru_cache(maxsize=1)
def orders() -> NDArray[np.int8]:
    """(40320, 8) the segment, by its number in `NAMES`, that each bit lights."""
    return np.array(list(permutations(range(8))), np.int8)


@lru_cache(maxsize=1)
def _worths() -> NDArray[np.float64]:
    """(256,) how much of a character each set of lit segments is, a point apart."""
    out = np.zeros(256)
    for char, weight in FAMILIAR.items():
        lit = sum(1 << NAMES.index(name) for name in SHAPES[char])
        out[lit] = out[lit | 0x80] = weight
    return out


def worth(values: Counter[int]) -> NDArray[np.float64]:
    """(40320,) for each wiring the share of values that are characters under it, those that come often a little more."""
    out, whole = np.zeros(len(orders())), 0.0
    for value, count in values.items():
        lit = np.zeros(len(orders()), np.int64)
        for bit in range(8):
            if value >> bit & 1:
                lit |= np.left_shift(1, orders()[:, bit].astype(np.int64))
        weight = 1 + 0.1 * np.log(count)
        point = 0.02 * (lit >> 7)  # of two ways that are as good, the one with fewer points
        out += weight * (_worths()[lit] - point)
        whole += weight
    return out / max(whole, 1e-9)
