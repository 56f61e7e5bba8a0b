"""Transfers with what they say to the parts, row by row while a capture is read: what tables are made of, as text and as CSV.

A row is complete when no command can tell any more of it; a table that only shows the ends of a long capture keeps no more than these.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.base import select_of
from ..bus.channel import OVER_WORDS, Channel
from ..part import Commands
from ..part.catalogs import UNKNOWN
from ..part.describe import PLACING
from ..part.digit import DigitTexts
from ..rig.decoder import Decoded, Told
from ..rig.numbered import as_counted, shown_places
from ..rig.schema import Rig
from ..sequence.listing import as_hush
from ..units import counted

__all__ = ["Row", "Rows", "each_told", "meanings", "said"]

Place = tuple[str, str]  # bus, or bridge whose outputs are one, and role of the select


@dataclass(slots=True)
class Row:
    """One transfer. index: of the transaction in the channel. start, end: ticks. said: what it says to the parts; told: of each the tick at which
    it begins, its first words, and how many it has."""

    channel: Channel
    index: int
    start: int
    end: int
    said: list[str] = field(default_factory=list)
    told: list[tuple[int, bytes, int]] = field(default_factory=list)


def said(own: Commands, index: int, chip: str = "") -> str:
    """One command in words. chip: told ahead of it, where several chips are behind a glass."""
    name = own.name_of(index)
    fields, note = own.fields_of(index)
    text = counted(int(fields["count"]), "byte") + " of data" + _letters(own, index) if name == "data" else as_hush(name, fields)
    return chip + text + (f" ({note})" if note else "")


LETTERS = 40  # of a text that are shown


def _letters(own: Commands, index: int) -> str:
    """What data for a character display write, where most of it is letters and not the dots of characters of its own; these stand as ·."""
    if own.part.memory.kind != "character":
        return ""
    kinds = own.kind[max(0, index - LETTERS) : index]
    placed = [own.part.command[kind].effect for kind in kinds.tolist() if kind >= 0]
    where = next((effect for effect in reversed(placed) if effect in PLACING), "")
    raw = own.bytes_of(index)
    text = "".join(chr(code) if 0x20 <= code < 0x7E else "·" for code in raw)
    if where == "glyph" or text.count("·") > len(text) / 3:
        return ""
    return f': "{text[:LETTERS]}{"…" if len(text) > LETTERS else ""}"'


def _place_of(rig: Rig, device: str, shown: set[str]) -> Place | None:
    """Where what a device is told is shown: on what it hangs on, or the first on the way there that is."""
    own: Any = next(entry for entry in rig.device if entry.name == device)
    while True:
        bridge = rig.bridge_named(own.on)
        roles = {*bridge.drives, *bridge.direct} if bridge is not None else set(rig.bus_named(own.on).lines)
        if own.on in shown:
            return own.on, select_of(roles, own.select)
        if bridge is None:
            return None
        own = bridge


class Rows:
    """Rows of a capture piece by piece. most: of a table that shows only its ends, how many at the start and at the end; None: all."""

    def __init__(self, rig: Rig, outside: bool = False, most: tuple[int, int] | None = None, kept: int = 0) -> None:
        """kept: words of each command that are kept with its row."""
        self.most, self.kept = most, kept
        self.shown = shown_places(rig, outside)
        self.place_of = {device.name: _place_of(rig, device.name, self.shown) for device in rig.device}
        self.digits: dict[tuple[str, int], DigitTexts | None] = {}  # by device and chip
        self.targets = {device.name: rig.target(device) for device in rig.device}
        # Selects of a parallel bus are told with each word, so all that hangs there is one place.
        self.open: dict[Place, list[Row]] = {}
        self.head: list[Row] = []
        self.tail: list[Row] = []
        self.count = 0

    def take(self, piece: Decoded, waiting: int | None, picture: Callable[[Told, int], str] | None = None) -> list[Row]:
        """The rows that are complete with a piece, in order of their starts. waiting: the tick from which on commands may still come.
        picture: what a picture of scanned LEDs is called."""
        new: list[Row] = []
        for own in as_counted(piece.channels, self.shown):
            rows = self._rows(own)
            self.count += len(own.table)
            self.open.setdefault((own.bus, own.select), []).extend(rows)
            new += rows
        for told in piece.ahead:
            if (digits := self._digits(told)) is not None:
                digits.read(told.commands, np.empty(0, np.intp))
        for told in piece.commands:
            self._attach(told, picture)
        if self.most is not None:
            self._keep_ends(new)
            return []
        limit = waiting if waiting is not None else int(np.iinfo(np.int64).max)
        # What one bus has done waits for what another began ahead of it.
        first = min((row.start for rows in self.open.values() for row in rows if row.end >= limit), default=limit)
        done: list[Row] = []
        for place, rows in self.open.items():
            upto = next((number for number, row in enumerate(rows) if row.end >= limit or row.start >= first), len(rows))
            done += rows[:upto]
            self.open[place] = rows[upto:]
        return sorted(done, key=lambda row: row.start)

    def _rows(self, own: Channel) -> list[Row]:
        count = len(own.table)
        which: Any = range(count)
        if self.most is not None and count > sum(self.most):
            which = [*range(self.most[0]), *range(count - self.most[1], count)]
        if self.most is not None and len(self.head) == self.most[0]:
            which = range(max(0, count - self.most[1]), count)
        start, end = own.table.start, own.table.end
        if self.most is None:
            return [Row(own, number, int(start[number]), int(end[number])) for number in which]
        # What a row needs of the piece, so that a row that is kept keeps no more.
        return [Row(_alone(own, number), 0, int(start[number]), int(end[number])) for number in which]

    def _keep_ends(self, new: list[Row]) -> None:
        """The first rows of all, and the last."""
        assert self.most is not None
        every = sorted([*self.head, *self.tail, *new], key=lambda row: row.start)
        if len(every) > sum(self.most):
            self.head, self.tail = every[: self.most[0]], every[-self.most[1] :]
        else:
            self.head, self.tail = every[: self.most[0]], every[self.most[0] :]
        kept = {id(row) for row in (*self.head, *self.tail)}
        self.open = {place: [row for row in rows if id(row) in kept] for place, rows in self.open.items()}

    def _digits(self, told: Told) -> DigitTexts | None:
        """What follows what a driver of digits is told, None of other parts."""
        key = told.device, told.chip
        if key not in self.digits:
            target = self.targets[told.device]
            plain = target.part.memory.kind == "digit" and target.panel.form == "digits"
            self.digits[key] = DigitTexts(target.part, target.panel, told.chip) if plain else None
        return self.digits[key]

    def _attach(self, told: Told, picture: Callable[[Told, int], str] | None) -> None:
        """Each command to the row in which its last word fell."""
        own, digits = told.commands, self._digits(told)
        place = self.place_of.get(told.device)
        if place is None:
            return
        rows = self.open.get(place) or self.open.get((place[0], "")) or []
        if not rows:
            if digits is not None:
                digits.read(own, np.empty(0, np.intp))
            return
        starts = np.array([row.start for row in rows], np.int64)
        ends = np.array([row.end for row in rows], np.int64)
        when: NDArray[np.int64] = own.payload.end[own.first + own.count - 1]
        at = np.searchsorted(starts, when, side="right") - 1
        inside = (at >= 0) & (when <= ends[np.maximum(at, 0)])
        chip = f"chip {told.chip + 1}: " if told.chips > 1 else ""
        shown = np.flatnonzero(inside)
        texts = digits.read(own, shown) if digits is not None else {}
        if own.part.name == UNKNOWN:
            return  # its words are all that can be told
        for index in shown.tolist():
            text = picture(told, index) if picture is not None and own.part.memory.kind == "scanned" else said(own, index, chip)
            text += f': "{texts[index]}"' if index in texts else ""
            row, first, count = rows[int(at[index])], int(own.first[index]), int(own.count[index])
            row.said.append(text)
            row.told.append(
                (int(own.payload.start[first]), own.payload.value[first : first + min(count, self.kept)].tobytes(), count)
            )


def _alone(own: Channel, number: int) -> Channel:
    """One transfer of a channel, as a channel of its own."""
    table = own.table.take(slice(number, number + 1))
    first, last = int(table.first[0]), int(table.last[0])
    who = None if own.who is None else own.who.take(slice(number, number + 1))
    who = None if who is None else replace(who, first=who.first - first)
    words = own.words.take(slice(first, last))
    columns: dict[str, Any] = {
        name: None if getattr(own, name) is None else getattr(own, name)[first:last] for name in OVER_WORDS
    }
    return replace(
        own, words=words, table=replace(table, first=table.first - first, last=table.last - first), who=who, scan=None, **columns
    )


def meanings(row: Row, most: int = 6) -> str:
    """What a row says, cut where it is much; what several chips are told is said once."""
    said = _together(row.said)
    return "; ".join(said[:most]) + (f"; {len(said) - most} more" if len(said) > most else "")


def each_told(row: Row) -> list[tuple[int, bytes, int, str]]:
    """What a row says, command by command: when it begins, its first words, how many it has, and what it means; what several chips are told at
    once is said once."""
    texts = _together(row.said)
    if len(texts) == len(row.said):
        return [(*told, text) for told, text in zip(row.told, texts, strict=True)]
    first: dict[str, tuple[int, bytes, int]] = {}
    for told, text in zip(row.told, row.said, strict=True):
        first.setdefault(text.partition(": ")[2], told)
    return [(*first[text.partition(": ")[2]], text) for text in texts]


OF_CHIP = re.compile(r"chip (\d+): (.*)", re.DOTALL)
NOTHING = "no-op"


def _together(said: list[str]) -> list[str]:
    found = [OF_CHIP.fullmatch(text) for text in said]
    if len(said) < 2 or None in found:
        return said
    chips: dict[str, list[str]] = {}
    for match in found:
        assert match is not None
        chips.setdefault(match[2], []).append(match[1])
    if len(chips) > 1:
        chips.pop(NOTHING, None)  # what the others of a chain get while one is spoken to
    return [f"{'each chip' if len(of) == len(said) else 'chip ' + ', '.join(of)}: {text}" for text, of in chips.items()]
