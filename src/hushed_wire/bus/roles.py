"""Which line plays which role: by the lines' names, and by trying the traffic under each assignment.

The score of an assignment is the share of clocked bits that fall into whole words of transactions that begin with a START and
end with a STOP or repeated START. Right wiring scores near 1, any other near 0, and nothing scores where nothing is clocked.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from itertools import permutations

import numpy as np

from ..trace import Trace
from . import i2c
from .changes import excerpt
from .words import BEGAN, CUT, RESTART, START, STOP, transactions

__all__ = ["Fit", "best_i2c", "fit_i2c", "named_i2c"]

CHANCE = 20  # words that pairs of other buses' lines do not reach
NAMES = {
    "scl": re.compile(r"(^|[^a-z])(scl|i2c[ _-]?clk|twck)\d*($|[^a-z])", re.IGNORECASE),
    "sda": re.compile(r"(^|[^a-z])(sda|i2c[ _-]?dat|i2c[ _-]?data|twd)\d*($|[^a-z])", re.IGNORECASE),
}


@dataclass(frozen=True)
class Fit:
    """How well two lines work as SCL and SDA. score: 0 to 1. words, answered: whole words, and addresses acknowledged."""

    scl: int
    sda: int
    score: float
    words: int
    answered: int


def named_i2c(names: tuple[str, ...]) -> tuple[int, int] | None:
    """(SCL, SDA) by name, None unless exactly one line matches each."""
    found = {role: [k for k, name in enumerate(names) if pattern.search(name)] for role, pattern in NAMES.items()}
    if len(found["scl"]) == 1 and len(found["sda"]) == 1:
        return found["scl"][0], found["sda"][0]
    return None


def fit_i2c(trace: Trace, scl: int, sda: int) -> Fit:
    """How well the capture decodes with these lines."""
    decoded = i2c.decode(trace, scl, sda)
    if not len(decoded.marks):
        return Fit(scl, sda, 0.0, 0, 0)
    table = transactions(decoded.marks)
    count = table.last - table.first
    began = np.isin(table.began, [START, RESTART, CUT])
    ended = np.isin(table.ended, [STOP, RESTART])
    sound = began & ended & (table.spare == 0) & (count > 0)
    # Empty and broken transactions are what wrong lines make in plenty: each weighs as much as a word.
    bits = 9 * int(count.sum()) + int(table.spare.sum()) + decoded.stray + 9 * int(np.count_nonzero(~sound))
    good = 9 * int(count[sound].sum())
    last = table.ended[-1:]
    if len(last) and last[0] not in (STOP, RESTART) and table.began[-1] in BEGAN:  # the capture may end anywhere
        good += 9 * int(count[-1])
        bits -= int(table.spare[-1]) + 9
    answered = int(np.count_nonzero(decoded.words.ack[table.first[sound & (table.began != CUT)]]))
    return Fit(scl, sda, good / bits if bits > 0 else 0.0, int(count.sum()), answered)


def best_i2c(trace: Trace, most: int = 12) -> Fit | None:
    """The best pair of lines among those that move, None when no pair makes sense. `most`: lines tried at the most."""
    part = excerpt(trace)
    moves = [(len(part.edges(line).times) - 1, line) for line in range(len(trace.names))]
    active = [line for count, line in sorted(moves, reverse=True) if count >= 2][:most]
    fits = [fit_i2c(part, scl, sda) for scl, sda in permutations(active, 2)]
    best = max(fits, key=lambda fit: (fit.score * min(1, fit.words), fit.answered, fit.words), default=None)
    if best is None or best.score <= 0.5 or not best.words:
        return None
    # Among many lines some pair makes a few whole words by chance, but nobody answers there.
    by_chance = len(active) > 2 and not best.answered and best.words < CHANCE
    return None if by_chance else best
