"""Conditions on a capture: read from text, and where they hold, as spans of time.

    condition = term { "or" term }      term = factor { "and" factor }      factor = [ "not" ] ( test | "(" condition ")" )

A test yields spans (both ends included): of a transfer, a command, a level, or one moment for an edge. `and` is where spans overlap, `or`
all of them, `not` the rest of the capture. Columns throughout: a million edges are searched as fast as ten.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator
from dataclasses import dataclass, replace
from functools import reduce
from typing import NamedTuple

import numpy as np

from ..errors import HushedError, nearest
from ..trace import Trace, joined
from .condition_terms import KEYED, MEASURED, ON_LINES, PLAIN, SIGNS, Condition, Subject, on_field, others
from .reading import Reading
from .spans import Spans

__all__ = ["Counted", "Parsed", "counted", "holds", "parse_condition"]

AT_ONCE = 1 << 20  # changes that are looked at together
DEEPEST = 100  # brackets within one another
TOKEN = re.compile(r"""\s*(?:(?P<quoted>"[^"]*"|'[^']*')|(?P<mark>[()])|(?P<sign><=|>=|!=|=|<|>)|(?P<word>[^\s()<>=!"']+))""")


def holds(condition: Condition, trace: Trace, listen: Callable[[], Reading]) -> Spans:
    """Where a condition holds. listen: decodes the capture; it is called only where the condition needs it."""
    return condition(Subject(trace, listen))


@dataclass(frozen=True)
class Counted:
    """How often a condition holds, the first places by their beginnings, and the capture, of which no more than its length is there."""

    count: int
    first: Spans
    length: Trace


def counted(condition: Condition, blocks: Iterable[Trace], lines: Collection[int], most: int = 0) -> Counted:
    """How often a condition on lines alone, in which nothing is negated, holds in a capture of any length, block by block. most: places that are told.

    What ends while a line has not yet done what it is doing is counted with the blocks to come, which begin as far back as that needs.
    """
    count, done, start = 0, None, 0
    first = Spans(np.empty(0, np.int64), np.empty(0, np.int64))
    piece: Trace | None = None
    for piece, sure in _pieces(blocks, lines):
        spans = holds(condition, piece, _unheard)
        fresh = spans.end < sure if done is None else (spans.end < sure) & (spans.end >= done)
        start = piece.start if done is None else start
        count += int(np.count_nonzero(fresh))
        if most:
            own = np.flatnonzero(fresh)[:most] if np.all(spans.start[1:] >= spans.start[:-1]) else np.flatnonzero(fresh)
            both = Spans.of(np.concatenate([first.start, spans.start[own]]), np.concatenate([first.end, spans.end[own]]))
            first = Spans(both.start[:most], both.end[:most])
        done = sure
    if piece is None:
        raise HushedError("the capture holds nothing")
    return Counted(count, first, replace(piece.only(0), times=np.array([start])))


def _pieces(blocks: Iterable[Trace], lines: Collection[int]) -> Iterator[tuple[Trace, int]]:
    """Pieces of a capture, and ahead of which tick it is sure in each what its lines did; they overlap as far as what goes on began."""
    held: list[Trace] = []
    wanted = AT_ONCE
    for block in blocks:
        held.append(block)
        if sum(map(len, held)) < wanted:
            continue
        piece = joined(held)
        held = [piece]
        edges = [piece.edges(line).times for line in lines]
        sure = min(int(times[-1]) for times in edges)
        ahead = [times[: int(np.searchsorted(times, sure))] for times in edges]
        if not all(len(times) > 1 for times in ahead):
            wanted = 2 * len(piece)  # a line that has not moved: what it does may have begun with the piece
            continue
        back = min(int(times[-1]) for times in ahead)
        yield piece, sure
        held = [piece.window(int(piece.times[int(np.searchsorted(piece.times, back)) - 1]), piece.end)]
        wanted = max(AT_ONCE, 2 * len(held[0]))
    if held:
        piece = joined(held)
        yield piece, piece.end + 1


def _unheard() -> Reading:
    raise HushedError("the capture was read for its lines alone")


# ---- reading ---------------------------------------------------------------------------------------------------------


class Parsed(NamedTuple):
    """A condition, the lines that it asks for, whether it asks for what was said on them, and whether anything in it is negated."""

    condition: Condition
    lines: list[str]
    words: bool
    negated: bool


def parse_condition(text: str) -> Parsed:
    """A condition from its text; raises HushedError naming the place."""
    reader = _Reader(text)
    out = reader.condition()
    if reader.kind:
        raise reader.wrong(f"'{reader.word}' is too much")
    return Parsed(out, reader.lines, reader.words, reader.negated)


class _Reader:
    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.kind = self.word = ""
        self.depth = 0
        self.lines: list[str] = []
        self.words = self.negated = False
        self.step()

    def step(self) -> str:
        """Goes on by one token; returns the one that was read."""
        was = self.word
        if not self.text[self.at :].strip():
            self.kind = self.word = ""
            return was
        found = TOKEN.match(self.text, self.at)
        if found is None:
            raise self.wrong("it cannot be read on")
        self.kind, self.at = str(found.lastgroup), found.end()
        self.word = found[self.kind].strip("\"'") if self.kind == "quoted" else found[self.kind]
        return was

    def wrong(self, what: str) -> HushedError:
        """An error with its place."""
        remedy = "like: refused, address=0x3D and command=display, high(SCL)<1us; see docs/find.md"
        return HushedError(f"{what}, at position {self.at} of: {self.text}", where="CONDITION", remedy=remedy)

    def condition(self) -> Condition:
        """Terms with `or` between."""
        parts = [self.term()]
        while self.kind == "word" and self.word == "or":
            self.step()
            parts.append(self.term())
        return parts[0] if len(parts) == 1 else _or(parts)

    def term(self) -> Condition:
        """Factors with `and` between."""
        parts = [self.factor()]
        while self.kind == "word" and self.word == "and":
            self.step()
            parts.append(self.factor())
        return parts[0] if len(parts) == 1 else _and(parts)

    def opposite(self) -> Condition:
        """What follows a `not`."""
        self.negated = True
        self.step()
        return _not(self.factor())

    def bracket(self) -> Condition:
        """What stands in brackets."""
        self.step()
        out = self.condition()
        if self.word != ")":
            raise self.wrong("a bracket is open")
        self.step()
        return out

    def factor(self) -> Condition:
        """A test, a condition in brackets, or the opposite of either."""
        if (self.kind, self.word) in (("word", "not"), ("mark", "(")):
            self.depth += 1
            if self.depth > DEEPEST:
                raise self.wrong(f"more than {DEEPEST} brackets and nots within one another")
            out = self.opposite() if self.word == "not" else self.bracket()
            self.depth -= 1
            return out
        if self.kind != "word":
            raise self.wrong(f"'{self.word}' is no test" if self.word else "something is missing")
        key, argument = self.step(), ""
        if self.kind == "mark" and self.word == "(" and key in ("high", "low"):
            self.step()
            argument = self.step()
            if self.word != ")":
                raise self.wrong("a bracket is open")
            self.step()
        sign = value = ""
        if self.kind == "sign":
            sign = self.step()
            if self.kind not in ("word", "quoted"):
                raise self.wrong(f"{key}{sign} needs a value")
            value = self.step()
        return _test(self, key, argument, sign, value)


def _and(parts: list[Condition]) -> Condition:
    return lambda told: reduce(Spans.both, (part(told) for part in parts))


def _or(parts: list[Condition]) -> Condition:
    return lambda told: reduce(Spans.either, (part(told) for part in parts))


def _not(a: Condition) -> Condition:
    return lambda told: a(told).rest(told.trace.start, told.trace.end)


def _test(reader: _Reader, key: str, argument: str, sign: str, value: str) -> Condition:
    """One test."""
    of_lines = (key in ON_LINES and sign in ("=", "!=")) or bool(argument)
    reader.words = reader.words or not of_lines
    if key in PLAIN and not sign:
        return PLAIN[key]
    if key in KEYED and sign in ("=", "!="):
        reader.lines += [value] if key in ON_LINES else []
        reader.negated = reader.negated or sign == "!="
        made = KEYED[key](reader, value)
        return made if sign == "=" else others(made, key)
    if key in MEASURED and sign in SIGNS:
        reader.lines += [argument] if argument else []
        return MEASURED[key](reader, argument, sign, value)
    if "." in key and sign:
        return on_field(key, sign, value)
    if key in (*PLAIN, *KEYED, *MEASURED):
        how = "stands alone" if key in PLAIN else "takes = or !=" if key in KEYED else "takes <, >, = and a value"
        raise reader.wrong(f"'{key}' {how}")
    raise HushedError(
        f"'{key}' is no test", where="CONDITION", remedy=nearest(key, [*PLAIN, *KEYED, *MEASURED]) + "; see docs/find.md"
    )
