"""The single tests of a condition: what each key asks of transfers, commands and lines, as columns."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from fractions import Fraction
from functools import cached_property
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..bus.i2c_transactions import refused
from ..bus.words import ENDED, RESTART, STOP
from ..errors import HushedError, nearest
from ..trace import Edges, Trace
from ..units import parse as parse_quantity
from .numbered import numbered
from .reading import Reading
from .spans import Spans

__all__ = ["KEYED", "MEASURED", "ON_LINES", "PLAIN", "SIGNS", "Condition", "Subject", "on_field", "others"]

SIGNS: dict[str, Callable[[Any, Any], Any]] = {
    "=": lambda a, b: a == b, "!=": lambda a, b: a != b, "<": lambda a, b: a < b, ">": lambda a, b: a > b,
    "<=": lambda a, b: a <= b, ">=": lambda a, b: a >= b,
}  # fmt: skip


CHIPS = ("cs1", "cs2", "cs3")  # selects of a parallel bus, which words carry with them


class Place(Protocol):
    """Where in a condition's text a test stands."""

    def wrong(self, what: str) -> HushedError:
        """An error with the place."""


class Subject:
    """What conditions are tested on: a trace, and, only if a test asks for it, what was said on its buses."""

    def __init__(self, trace: Trace, listen: Callable[[], Reading]) -> None:
        self.trace, self._listen = trace, listen

    @cached_property
    def reading(self) -> Reading:
        """The decoded capture."""
        return self._listen()


Condition = Callable[[Subject], Spans]


def others(made: Condition, key: str) -> Condition:
    """What is of the same kind but not so: other transfers, other commands."""
    everything = _every_command if key in ("command", "device") else _transfers(lambda channel: np.ones(len(channel.table), bool))

    def other(subject: Subject) -> Spans:
        those, every = made(subject), everything(subject)
        known = set(zip(those.start.tolist(), those.end.tolist(), strict=True))
        keep = np.array([pair not in known for pair in zip(every.start.tolist(), every.end.tolist(), strict=True)], bool)
        return Spans(every.start[keep], every.end[keep]) if len(keep) else every

    return other


# ---- tests on transfers ----------------------------------------------------------------------------------------------


def _transfers(which: Callable[[Channel], NDArray[np.bool_]]) -> Condition:
    """The transfers of all channels that `which` picks."""

    def found(subject: Subject) -> Spans:
        starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
        for channel in subject.reading.channels:
            keep = which(channel)
            starts.append(channel.table.start[keep])
            ends.append(channel.table.end[keep])
        return Spans.of(np.concatenate(starts), np.concatenate(ends))

    return found


def _marks(kinds: tuple[int, ...], at_end: bool) -> Condition:
    """The moments of START, repeated START or STOP; on other buses, of select and deselect."""

    def found(subject: Subject) -> Spans:
        times = [np.empty(0, np.int64)]
        for channel in subject.reading.channels:
            kind = channel.table.ended if at_end else channel.table.began
            times.append((channel.table.end if at_end else channel.table.start)[np.isin(kind, kinds)])
        when = np.concatenate(times)
        return Spans.of(when, when)

    return found


def _refused(channel: Channel) -> NDArray[np.bool_]:
    out = np.zeros(len(channel.table), bool)
    if channel.who is None:
        return out
    counts = np.concatenate([[0], np.cumsum(refused(channel.words, channel.table, channel.who))])
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


def _number(reader: Place, text: str) -> int:
    try:
        return int(text, 0)
    except ValueError:
        raise reader.wrong(f"'{text}' is no number") from None


def _address(reader: Place, value: str) -> Condition:
    number = _number(reader, value)
    return _transfers(
        lambda channel: channel.who.address == number if channel.who is not None else np.zeros(len(channel.table), bool)
    )


def _select(reader: Place, value: str) -> Condition:
    """A select of SPI parts channels; those of a parallel bus are told with each word."""

    def which(channel: Channel) -> NDArray[np.bool_]:
        if channel.chips is None or value not in CHIPS:
            return np.full(len(channel.table), channel.select == value)
        out: NDArray[np.bool_] = channel.chips[channel.table.first] >> CHIPS.index(value) & 1 == 1
        return out

    def names(channel: Channel) -> list[str]:
        return (
            [channel.select]
            if channel.chips is None
            else [chip for k, chip in enumerate(CHIPS) if (channel.chips >> k & 1).any()]
        )

    return _one_of(_transfers(which), "select", value, names)


def _bus(reader: Place, value: str) -> Condition:
    return _one_of(
        _transfers(lambda channel: np.full(len(channel.table), channel.bus == value)), "bus", value, lambda channel: [channel.bus]
    )


def _one_of(made: Condition, what: str, value: str, names: Callable[[Channel], list[str]]) -> Condition:
    """The same, where there is one of that name; else HushedError says which there are."""

    def found(subject: Subject) -> Spans:
        known = sorted({name for channel in subject.reading.channels for name in names(channel) if name})
        if value not in known:
            raise HushedError(
                f"there is no {what} '{value}'", where="CONDITION", remedy=nearest(value, known) if known else "there is none"
            )
        return made(subject)

    return found


def _bytes(reader: Place, value: str) -> Condition:
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


def _length(reader: Place, argument: str, sign: str, value: str) -> Condition:
    number = _number(reader, value)
    return _transfers(
        lambda channel: SIGNS[sign](
            channel.table.last - (channel.who.first if channel.who is not None else channel.table.first), number
        )
    )


def _ticks(subject: Subject, value: str) -> float:
    return float(Fraction(parse_quantity(value, "s", "CONDITION")) / subject.trace.tick)


def _gap(reader: Place, argument: str, sign: str, value: str) -> Condition:
    """Rests between transfers of a channel."""
    parse_quantity(value, "s", "CONDITION")

    def found(subject: Subject) -> Spans:
        starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
        for channel in subject.reading.channels:
            before, after = channel.table.end[:-1], channel.table.start[1:]
            keep = SIGNS[sign](after - before, _ticks(subject, value)) & (after > before)
            starts.append(before[keep])
            ends.append(after[keep])
        return Spans.of(np.concatenate(starts), np.concatenate(ends))

    return found


# ---- tests on commands -----------------------------------------------------------------------------------------------


def _commands(subject: Subject, which: Callable[[Any, Any, int], bool], only: str = "") -> Spans:
    """Commands that `which` (device, commands, index) picks; loops over commands, not over words."""
    starts, ends = [], []
    for device in subject.reading.devices:
        if only and device.device.name != only:
            continue
        for own in device.chips or [device.commands]:
            for index in range(len(own)):
                if which(device, own, index):
                    starts.append(int(own.payload.start[own.first[index]]))
                    ends.append(own.time_of(index))
    return Spans.of(np.array(starts, np.int64), np.array(ends, np.int64))


def _every_command(subject: Subject) -> Spans:
    return _commands(subject, lambda device, own, index: True)


def _known(subject: Subject, name: str) -> None:
    parts = {device.part.name: device.part for device in subject.reading.devices}
    names = {command.name for part in parts.values() for command in part.command} | {"data", "unknown", "truncated"}
    if name not in names:
        where = ", ".join(parts) or "no part that was recognised"
        raise HushedError(f"there is no command '{name}' ({where})", where="CONDITION", remedy=nearest(name, names))


def _command(reader: Place, value: str) -> Condition:
    def found(subject: Subject) -> Spans:
        _known(subject, value)
        return _commands(subject, lambda device, own, index: own.name_of(index) == value)

    return found


def _device(reader: Place, value: str) -> Condition:
    def found(subject: Subject) -> Spans:
        names = [device.device.name for device in subject.reading.devices]
        if value not in names:
            raise HushedError(
                f"there is no device '{value}'",
                where="CONDITION",
                remedy=nearest(value, names) if names else "no display was recognised",
            )
        return _commands(subject, lambda device, own, index: True, value)

    return found


def on_field(key: str, sign: str, value: str) -> Condition:
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
        if sign not in ("=", "!="):
            what = f"is a number, and '{value}' is none" if isinstance(now, int) else "has names, which have no size"
            raise HushedError(f"'{key}' {what}", where="CONDITION", remedy=f"write a number, or {key}=NAME")
        return bool(SIGNS[sign](str(now), value))

    def found(subject: Subject) -> Spans:
        _known(subject, name)
        return _commands(subject, fits)

    return found


# ---- tests on lines --------------------------------------------------------------------------------------------------


def _edges_in_pieces(trace: Trace, line: str) -> Iterator[Edges]:
    """The changes of a line, some at a time; each piece begins with the last change of the one before."""
    number = trace.index(line)
    times, level = np.empty(0, np.int64), np.empty(0, np.uint8)
    for piece in trace.pieces():
        own = piece.edges(number)
        fresh = slice(1 if len(level) and own.level[0] == level[-1] else 0, None)
        times = np.concatenate([times[-1:], own.times[fresh]])
        level = np.concatenate([level[-1:], own.level[fresh]])
        yield Edges(times, level, own.end)


def _edges(level: int | None) -> Callable[[Place, str], Condition]:
    def made(reader: Place, value: str) -> Condition:
        def found(subject: Subject) -> Spans:
            when = [np.empty(0, np.int64)]
            for edges in _edges_in_pieces(subject.trace, value):
                keep = (
                    np.ones(len(edges.times) - 1, bool)
                    if level is None
                    else (edges.level[1:] == level) & (edges.level[:-1] == 1 - level)
                )
                when.append(edges.times[1:][keep])
            moments = np.concatenate(when)
            return Spans(moments, moments)

        return found

    return made


def _level(level: int) -> Callable[[Place, str, str, str], Condition]:
    def made(reader: Place, argument: str, sign: str, value: str) -> Condition:
        if not argument:
            raise reader.wrong(f"which line? write {'high' if level else 'low'}(LINE){sign}{value}")
        parse_quantity(value, "s", "CONDITION")

        def found(subject: Subject) -> Spans:
            starts, ends = [np.empty(0, np.int64)], [np.empty(0, np.int64)]
            ticks, first = _ticks(subject, value), True
            for edges in _edges_in_pieces(subject.trace, argument):
                # Where the capture cuts it, nobody knows how long it lasted: the first of all, and the last of all.
                opens, closes = edges.times[:-1], edges.times[1:]
                keep = (edges.level[:-1] == level) & SIGNS[sign](closes - opens, ticks)
                keep[:1] &= not first
                first = first and not len(opens)
                starts.append(opens[keep])
                ends.append(closes[keep])
            return Spans(np.concatenate(starts), np.concatenate(ends))

        return found

    return made


PLAIN: dict[str, Condition] = {
    "start": _marks((1, 4), at_end=False), "restart": _marks((RESTART,), at_end=False), "stop": _marks((STOP,), at_end=True),
    "refused": _transfers(_refused), "read": _transfers(_read), "write": _transfers(lambda channel: ~_read(channel)), "cut": _transfers(_cut),
}  # fmt: skip


def _transfer(reader: Place, value: str) -> Condition:
    """A transfer by its number, or several: 3, or 3-7."""
    low, dash, high = value.partition("-")
    first, last = _number(reader, low), _number(reader, high if dash else low)
    if not 1 <= first <= last:
        raise reader.wrong(f"'{value}' is no number of a transfer, nor a range of them like 3-7")

    def found(subject: Subject) -> Spans:
        starts, ends = numbered(subject.reading)
        part = slice(first - 1, last)
        return Spans.of(starts[part], ends[part])

    return found


KEYED: dict[str, Callable[[Place, str], Condition]] = {
    "address": _address, "select": _select, "bus": _bus, "bytes": _bytes, "command": _command, "device": _device,
    "transfer": _transfer, "rise": _edges(1), "fall": _edges(0), "edge": _edges(None),
}  # fmt: skip
ON_LINES = ("rise", "fall", "edge")  # of which the value is a line
MEASURED: dict[str, Callable[[Place, str, str, str], Condition]] = {
    "length": _length,
    "gap": _gap,
    "high": _level(1),
    "low": _level(0),
}
