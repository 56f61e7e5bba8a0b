"""Conditions on a capture: read from text, and where they hold, as spans of time.

    condition = term { "or" term }      term = factor { "and" factor }      factor = [ "not" ] ( test | "(" condition ")" )

A test yields spans (both ends included): of a transfer, a command, a level, or one moment for an edge. `and` is where spans overlap, `or`
all of them, `not` the rest of the capture. Columns throughout: a million edges are searched as fast as ten.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass
from fractions import Fraction
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.words import ENDED, RESTART, STOP
from ..errors import HushedError, nearest
from ..trace import Trace
from ..units import parse as parse_quantity
from .channel import Channel
from .hear import Hearing

__all__ = ["Spans", "holds", "parse_condition"]

TOKEN = re.compile(r"""\s*(?:(?P<quoted>"[^"]*"|'[^']*')|(?P<mark>[()])|(?P<sign><=|>=|!=|=|<|>)|(?P<word>[^\s()<>=!"']+))""")
SIGNS: dict[str, Callable[[Any, Any], Any]] = {
    "=": lambda a, b: a == b, "!=": lambda a, b: a != b, "<": lambda a, b: a < b, ">": lambda a, b: a > b,
    "<=": lambda a, b: a <= b, ">=": lambda a, b: a >= b,
}  # fmt: skip


@dataclass(eq=False)
class Spans:
    """start, end: (n,) ticks, ascending by start, both included."""

    start: NDArray[np.int64]
    end: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.start)

    @classmethod
    def of(cls, start: NDArray[Any], end: NDArray[Any]) -> Spans:
        """In order of their starts."""
        order = np.lexsort((end, start))
        return cls(start[order].astype(np.int64), end[order].astype(np.int64))

    def joined(self) -> Spans:
        """Without overlaps."""
        if not len(self):
            return self
        reach = np.maximum.accumulate(self.end)
        fresh = np.append(True, self.start[1:] > reach[:-1])
        last = np.append(np.flatnonzero(fresh)[1:] - 1, len(self) - 1)
        return Spans(self.start[fresh], reach[last])

    def both(self, other: Spans) -> Spans:
        """Where spans of both overlap."""
        mine, theirs = (self, other.joined()) if len(self) >= len(other) else (other, self.joined())
        low = np.searchsorted(theirs.end, mine.start, side="left")
        count = np.maximum(np.searchsorted(theirs.start, mine.end, side="right") - low, 0)
        owner = np.repeat(np.arange(len(mine)), count)
        at = low[owner] + np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        return Spans.of(np.maximum(mine.start[owner], theirs.start[at]), np.minimum(mine.end[owner], theirs.end[at]))

    def either(self, other: Spans) -> Spans:
        """All spans of both, those that are the same once."""
        start, end = np.concatenate([self.start, other.start]), np.concatenate([self.end, other.end])
        if not len(start):
            return self
        pairs = np.unique(np.stack([start, end], axis=1), axis=0)
        return Spans(pairs[:, 0], pairs[:, 1])

    def rest(self, start: int, end: int) -> Spans:
        """The rest of a stretch of time."""
        own = self.joined()
        opens = np.concatenate([[start], own.end + 1])
        closes = np.concatenate([own.start - 1, [end]])
        keep = opens <= closes
        return Spans(opens[keep], closes[keep])


class Told:
    """What conditions are tested on: a trace, and, only if a test asks for it, what was said on its buses."""

    def __init__(self, trace: Trace, listen: Callable[[], Hearing]) -> None:
        self.trace, self._listen = trace, listen

    @cached_property
    def hearing(self) -> Hearing:
        """The decoded capture."""
        return self._listen()


Condition = Callable[[Told], Spans]


def holds(condition: Condition, trace: Trace, listen: Callable[[], Hearing]) -> Spans:
    """Where a condition holds. listen: decodes the capture; it is called only where the condition needs it."""
    return condition(Told(trace, listen))


# ---- reading ---------------------------------------------------------------------------------------------------------


def parse_condition(text: str) -> Condition:
    """A condition from its text; raises HushedError naming the place."""
    reader = _Reader(text)
    out = reader.condition()
    if reader.kind:
        raise reader.wrong(f"'{reader.word}' is too much")
    return out


class _Reader:
    def __init__(self, text: str) -> None:
        self.text, self.at = text, 0
        self.kind = self.word = ""
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
        out = self.term()
        while self.kind == "word" and self.word == "or":
            self.step()
            out = _or(out, self.term())
        return out

    def term(self) -> Condition:
        """Factors with `and` between."""
        out = self.factor()
        while self.kind == "word" and self.word == "and":
            self.step()
            out = _and(out, self.factor())
        return out

    def factor(self) -> Condition:
        """A test, a condition in brackets, or the opposite of either."""
        if self.kind == "word" and self.word == "not":
            self.step()
            return _not(self.factor())
        if self.word == "(" and self.kind == "mark":
            self.step()
            out = self.condition()
            if self.word != ")":
                raise self.wrong("a bracket is open")
            self.step()
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


def _and(a: Condition, b: Condition) -> Condition:
    return lambda told: a(told).both(b(told))


def _or(a: Condition, b: Condition) -> Condition:
    return lambda told: a(told).either(b(told))


def _not(a: Condition) -> Condition:
    return lambda told: a(told).rest(told.trace.start, told.trace.end)


def _test(reader: _Reader, key: str, argument: str, sign: str, value: str) -> Condition:
    """One test."""
    if key in PLAIN and not sign:
        return PLAIN[key]
    if key in KEYED and sign in ("=", "!="):
        made = KEYED[key](reader, value)
        return made if sign == "=" else _within(made, key)
    if key in MEASURED and sign in SIGNS:
        return MEASURED[key](reader, argument, sign, value)
    if "." in key and sign:
        return _field(key, sign, value)
    if key in (*PLAIN, *KEYED, *MEASURED):
        how = "stands alone" if key in PLAIN else "takes = or !=" if key in KEYED else "takes <, >, = and a value"
        raise reader.wrong(f"'{key}' {how}")
    raise HushedError(
        f"'{key}' is no test", where="CONDITION", remedy=nearest(key, [*PLAIN, *KEYED, *MEASURED]) + "; see docs/find.md"
    )


def _within(made: Condition, key: str) -> Condition:
    """What is of the same kind but not so: other transfers, other commands."""
    everything = _every_command if key in ("command", "device") else _transfers(lambda channel: np.ones(len(channel.table), bool))

    def other(told: Told) -> Spans:
        those, every = made(told), everything(told)
        known = set(zip(those.start.tolist(), those.end.tolist(), strict=True))
        keep = np.array([pair not in known for pair in zip(every.start.tolist(), every.end.tolist(), strict=True)], bool)
        return Spans(every.start[keep], every.end[keep]) if len(keep) else every

    return other


# ---- tests on transfers ----------------------------------------------------------------------------------------------


def _transfers(which: Callable[[Channel], NDArray[np.bool_]]) -> Condition:
    """The transfers of all channels that `which` picks."""

    def found(told: Told) -> Spans:
        starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
        for channel in told.hearing.channels:
            keep = which(channel)
            starts.append(channel.table.start[keep])
            ends.append(channel.table.end[keep])
        return Spans.of(np.concatenate(starts), np.concatenate(ends))

    return found


def _marks(kinds: tuple[int, ...], at_end: bool) -> Condition:
    """The moments of START, repeated START or STOP; on other buses, of select and deselect."""

    def found(told: Told) -> Spans:
        times = [np.empty(0, np.int64)]
        for channel in told.hearing.channels:
            kind = channel.table.ended if at_end else channel.table.began
            times.append((channel.table.end if at_end else channel.table.start)[np.isin(kind, kinds)])
        when = np.concatenate(times)
        return Spans.of(when, when)

    return found


def _refused(channel: Channel) -> NDArray[np.bool_]:
    out = np.zeros(len(channel.table), bool)
    if channel.who is None:
        return out
    refused = ~channel.words.ack
    ends = channel.table.last[channel.who.read & channel.who.answered] - 1  # a driver ends a read so on purpose
    refused[ends] = False
    counts = np.concatenate([[0], np.cumsum(refused)])
    return np.asarray(counts[channel.table.last] > counts[channel.table.first])


def _read(channel: Channel) -> NDArray[np.bool_]:
    if channel.who is not None:
        out: NDArray[np.bool_] = channel.who.read
        return out
    if channel.read is None or not len(channel.read):
        return np.zeros(len(channel.table), bool)
    first: NDArray[np.bool_] = channel.read[np.minimum(channel.table.first, len(channel.read) - 1)]
    return first & (channel.table.last > channel.table.first)


def _cut(channel: Channel) -> NDArray[np.bool_]:
    broken = [kind for kind, name in ENDED.items() if name == "cut"]
    return (channel.table.spare > 0) | np.isin(channel.table.ended, broken)


def _number(reader: _Reader, text: str) -> int:
    try:
        return int(text, 0)
    except ValueError:
        raise reader.wrong(f"'{text}' is no number") from None


def _address(reader: _Reader, value: str) -> Condition:
    number = _number(reader, value)
    return _transfers(
        lambda channel: channel.who.address == number if channel.who is not None else np.zeros(len(channel.table), bool)
    )


def _select(reader: _Reader, value: str) -> Condition:
    return _transfers(lambda channel: np.full(len(channel.table), channel.select == value))


def _bus(reader: _Reader, value: str) -> Condition:
    return _transfers(lambda channel: np.full(len(channel.table), channel.bus == value))


def _bytes(reader: _Reader, value: str) -> Condition:
    """Words in this order, anywhere in a transfer; the address of I2C is not one of them."""
    digits = value.replace("0x", "").replace(",", " ").split()
    if not digits or not all(re.fullmatch(r"[0-9A-Fa-f]{1,8}", word) for word in digits):
        raise reader.wrong(f"'{value}' is no list of hex numbers")
    wanted = np.array([int(word, 16) for word in digits], np.int64)

    def which(channel: Channel) -> NDArray[np.bool_]:
        words, count = channel.words.value.astype(np.int64), len(wanted)
        out = np.zeros(len(channel.table), bool)
        if len(words) < count:
            return out
        hit = np.ones(len(words) - count + 1, bool)
        for k, word in enumerate(wanted.tolist()):
            hit &= words[k : len(words) - count + 1 + k] == word
        first = channel.who.first if channel.who is not None else channel.table.first
        at = np.flatnonzero(hit)
        owner = np.searchsorted(channel.table.first, at, side="right") - 1
        inside = (owner >= 0) & (at >= first[np.maximum(owner, 0)]) & (at + count <= channel.table.last[np.maximum(owner, 0)])
        out[owner[inside]] = True
        return out

    return _transfers(which)


def _length(reader: _Reader, argument: str, sign: str, value: str) -> Condition:
    number = _number(reader, value)
    return _transfers(
        lambda channel: SIGNS[sign](
            channel.table.last - (channel.who.first if channel.who is not None else channel.table.first), number
        )
    )


def _ticks(told: Told, value: str) -> float:
    return float(Fraction(parse_quantity(value, "s", "CONDITION")) / told.trace.tick)


def _gap(reader: _Reader, argument: str, sign: str, value: str) -> Condition:
    """Rests between transfers of a channel."""
    parse_quantity(value, "s", "CONDITION")

    def found(told: Told) -> Spans:
        starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
        for channel in told.hearing.channels:
            before, after = channel.table.end[:-1], channel.table.start[1:]
            keep = SIGNS[sign](after - before, _ticks(told, value)) & (after > before)
            starts.append(before[keep])
            ends.append(after[keep])
        return Spans.of(np.concatenate(starts), np.concatenate(ends))

    return found


# ---- tests on commands -----------------------------------------------------------------------------------------------


def _commands(told: Told, which: Callable[[Any, Any, int], bool], only: str = "") -> Spans:
    """Commands that `which` (device, commands, index) picks; loops over commands, not over words."""
    starts, ends = [], []
    for device in told.hearing.devices:
        if only and device.device.name != only:
            continue
        for own in device.chips or [device.commands]:
            for index in range(len(own)):
                if which(device, own, index):
                    starts.append(int(own.payload.start[own.first[index]]))
                    ends.append(own.time_of(index))
    return Spans.of(np.array(starts, np.int64), np.array(ends, np.int64))


def _every_command(told: Told) -> Spans:
    return _commands(told, lambda device, own, index: True)


def _known(told: Told, name: str) -> None:
    parts = {device.part.name: device.part for device in told.hearing.devices}
    names = {command.name for part in parts.values() for command in part.command} | {"data", "unknown", "truncated"}
    if name not in names:
        where = ", ".join(parts) or "no part that was recognised"
        raise HushedError(f"there is no command '{name}' ({where})", where="CONDITION", remedy=nearest(name, names))


def _command(reader: _Reader, value: str) -> Condition:
    def found(told: Told) -> Spans:
        _known(told, value)
        return _commands(told, lambda device, own, index: own.name_of(index) == value)

    return found


def _device(reader: _Reader, value: str) -> Condition:
    def found(told: Told) -> Spans:
        names = [device.device.name for device in told.hearing.devices]
        if value not in names:
            raise HushedError(
                f"there is no device '{value}'",
                where="CONDITION",
                remedy=nearest(value, names) if names else "no display was recognised",
            )
        return _commands(told, lambda device, own, index: True, value)

    return found


def _field(key: str, sign: str, value: str) -> Condition:
    """COMMAND.FIELD against a value: numbers by size, names by likeness."""
    name, _, wanted = key.partition(".")
    try:
        number: int | None = int(value, 0)
    except ValueError:
        number = None

    def fits(device: Any, own: Any, index: int) -> bool:
        if own.name_of(index) != name:
            return False
        fields, _ = own.fields_of(index)
        if wanted not in fields:
            raise HushedError(
                f"'{name}' has no field '{wanted}'",
                where="CONDITION",
                remedy=nearest(wanted, fields) if fields else "it has none",
            )
        now = fields[wanted]
        if isinstance(now, int) and number is not None:
            return bool(SIGNS[sign](now, number))
        return bool(SIGNS[sign](str(now), value)) if sign in ("=", "!=") else False

    def found(told: Told) -> Spans:
        _known(told, name)
        return _commands(told, fits)

    return found


# ---- tests on lines --------------------------------------------------------------------------------------------------


def _edges(level: int | None) -> Callable[[_Reader, str], Condition]:
    def made(reader: _Reader, value: str) -> Condition:
        def found(told: Told) -> Spans:
            edges = told.trace.edges(told.trace.index(value))
            keep = (
                np.ones(len(edges.times) - 1, bool)
                if level is None
                else (edges.level[1:] == level) & (edges.level[:-1] == 1 - level)
            )
            when = edges.times[1:][keep]
            return Spans(when, when)

        return found

    return made


def _level(level: int) -> Callable[[_Reader, str, str, str], Condition]:
    def made(reader: _Reader, argument: str, sign: str, value: str) -> Condition:
        if not argument:
            raise reader.wrong(f"which line? write {'high' if level else 'low'}(LINE){sign}{value}")
        parse_quantity(value, "s", "CONDITION")

        def found(told: Told) -> Spans:
            edges = told.trace.edges(told.trace.index(argument))
            lasts = edges.durations()
            keep = (edges.level == level) & SIGNS[sign](lasts, _ticks(told, value))
            keep[:1] = keep[-1:] = False  # where the capture cuts it, nobody knows how long it lasted
            return Spans(edges.times[keep], edges.times[keep] + lasts[keep])

        return found

    return made


PLAIN: dict[str, Condition] = {
    "start": _marks((1, 4), at_end=False), "restart": _marks((RESTART,), at_end=False), "stop": _marks((STOP,), at_end=True),
    "refused": _transfers(_refused), "read": _transfers(_read), "write": _transfers(lambda channel: ~_read(channel)), "cut": _transfers(_cut),
}  # fmt: skip
KEYED: dict[str, Callable[[_Reader, str], Condition]] = {
    "address": _address, "select": _select, "bus": _bus, "bytes": _bytes, "command": _command, "device": _device,
    "rise": _edges(1), "fall": _edges(0), "edge": _edges(None),
}  # fmt: skip
MEASURED: dict[str, Callable[[_Reader, str, str, str], Condition]] = {
    "length": _length,
    "gap": _gap,
    "high": _level(1),
    "low": _level(0),
}
