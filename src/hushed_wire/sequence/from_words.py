"""What a bus carried, as a sequence of words without their meaning: transfers as they were, rests that matter, edges of reset.

For displays that nobody recognises: rehearsed or sent, the same words go over the wires in the same transfers.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES
from ..bus.channel import Channel
from ..trace import Trace
from ..units import show

__all__ = ["REST", "Event", "beside", "events_of", "from_words", "rest_text", "statement", "written"]

REST = 0.5e-3  # seconds from which on a rest is written down
SWITCHED = ("reset", "enable", "backlight")  # roles of lines that a sequence sets
REPEATED = 4  # equal bytes side by side from which on they are counted


@dataclass(frozen=True)
class Event:
    """One transfer, or a part of one that never ends, or an edge. start, end: ticks. text: as a statement. address: on I2C, whom it calls."""

    start: int
    end: int
    text: str
    address: int | None = None
    chips: int = 0  # mask of those that are selected by lines of their own, 0 for all


def from_words(channels: Sequence[Channel], tick: float, names: dict[int, str], edges: Sequence[Event] = ()) -> list[str]:
    """The lines. channels: of one bus. tick: seconds a tick. names: on I2C, what the device at each address is called. edges: of the lines
    beside the bus."""
    return written([*edges, *(event for own in channels for event in events_of(own, tick))], tick, names)


def beside(trace: Trace, lines: Mapping[str, str]) -> list[Event]:
    """The edges of the lines beside a bus. lines: role to line."""
    out: list[Event] = []
    for role in SWITCHED:
        if lines.get(role) not in trace.names:
            continue
        edges = trace.edges(trace.names.index(lines[role]))
        for when, level in zip(edges.times[1:].tolist(), edges.level[1:].tolist(), strict=True):
            if level < 2:
                out.append(Event(when, when, f"{role} {'high' if level else 'low'}"))
    return out


def written(found: Sequence[Event], tick: float, names: dict[int, str]) -> list[str]:
    """Events in the order of their starts, with the rests between them."""
    out: list[str] = []
    before: int | None = None
    device, chips = next(iter(names.values()), ""), 0
    for event in sorted(found, key=lambda event: event.start):
        rest = 0.0 if before is None else (event.start - before) * tick
        if rest >= REST:
            out.append(f"wait {rest_text(rest)}")
        before = event.end
        if event.address is not None:
            if event.address not in names:
                continue
            if names[event.address] != device:
                device = names[event.address]
                out.append(f"device {device}")
        if event.chips != chips:
            chips = event.chips
            out.append(f"select {chips.bit_length()}" if chips.bit_count() == 1 else "select all")
        out.append(event.text)
    return out


def events_of(own: Channel, tick: float) -> Iterator[Event]:
    """The transfers of a channel as statements; what was read, and what nobody acknowledged, is a remark."""
    table, words, who = own.table, own.words, own.who
    if own.bits == 16:  # two bytes each
        own = _as_bytes(own)
        table, words = own.table, own.words
    ends_itself = BUSES[own.kind].addressed or bool(own.select)
    for number in range(len(table)):
        first, last = int(table.first[number]), int(table.last[number])
        start, end = int(table.start[number]), int(table.end[number])
        if who is not None:
            first, address = int(who.first[number]), int(who.address[number])
            if bool(who.read[number]) or not bool(who.answered[number]):
                how = "was read" if bool(who.answered[number]) else "did not answer"
                yield Event(start, end, f"# {address:#04x} {how}", address)
            elif last > first:
                yield Event(start, end, statement(words.value[first:last], None), address)
            continue
        mine = np.arange(first, last)
        if own.read is not None:
            mine = mine[~own.read[first:last]]
        if not len(mine):
            continue
        dc = None if own.dc is None else own.dc[mine]
        if own.bits == 9:
            dc = (words.value[mine] >> 8 & 1).astype(np.uint8)
        if ends_itself:
            yield Event(start, end, statement(words.value[mine], dc))
            continue
        # Nothing tells where a transfer ends: rests do, and where commands begin.
        cut = (words.start[mine[1:]] - words.end[mine[:-1]]) * tick >= REST
        chips = np.zeros(len(mine), np.uint8) if own.chips is None else own.chips[mine]
        cut |= chips[1:] != chips[:-1]
        if dc is not None:
            cut |= dc[1:] != dc[:-1]
        for part in np.split(np.arange(len(mine)), np.flatnonzero(cut) + 1):
            at = mine[part]
            said = statement(words.value[at], None if dc is None else dc[part])
            yield Event(int(words.start[at[0]]), int(words.end[at[-1]]), said, chips=int(chips[part[0]]))


def _as_bytes(own: Channel) -> Channel:
    """Words of sixteen bits as the bytes that they are made of."""
    words = own.words.take(np.repeat(np.arange(len(own.words)), 2))
    halves = np.where(np.arange(len(words)) % 2, words.value & 0xFF, words.value >> 8 & 0xFF)
    table = replace(own.table, first=2 * own.table.first, last=2 * own.table.last)
    return replace(own, words=replace(words, value=halves), table=table, bits=8, dc=None, answers=None)


def statement(values: NDArray[np.int64], dc: NDArray[np.uint8] | None) -> str:
    """Words of one transfer; what is data is marked."""
    raw = (values & 0xFF).astype(np.uint8)
    if dc is None or not dc.any():
        return f"bytes {_listed(raw)}"
    if dc.all():
        return f"data {_listed(raw)}"
    out, at = ["words"], 0
    for upto in [*(np.flatnonzero(np.diff(dc.astype(np.int8))) + 1).tolist(), len(raw)]:
        out += [*(["data" if dc[at] else "command"] if at or dc[at] else []), _listed(raw[at:upto])]
        at = upto
    return " ".join(out)


def _listed(raw: NDArray[np.uint8]) -> str:
    """Bytes side by side, equal ones counted."""
    begins = np.flatnonzero(np.append(True, raw[1:] != raw[:-1]))
    out: list[str] = []
    for first, count in zip(begins.tolist(), np.diff(np.append(begins, len(raw))).tolist(), strict=True):
        byte = f"0x{int(raw[first]):02X}"
        out += [f"{byte}*{count}"] if count >= REPEATED else [byte] * count
    return " ".join(out)


def rest_text(seconds: float) -> str:
    """A rest as a sequence writes it."""
    return show(float(f"{seconds:.3g}"), "s").replace(" ", "").replace("µ", "u")
