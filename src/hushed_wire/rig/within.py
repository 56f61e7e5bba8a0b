"""A part of what a capture says, with all that was said ahead of it known, and no transfer broken off at its edge."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..part import Commands
from ..trace import Trace
from ..trace.model import Samples, Times
from .decoder import Decoded, RigDecoder, Told
from .numbered import as_counted, shown_places

__all__ = ["Within"]


class Within:
    """Takes the place of a decoder: passes on transfers, and commands, of a span of ticks."""

    def __init__(self, decoder: RigDecoder, start: int, end: int, begins_to: int | None = None) -> None:
        """start, end: what lies between them, or reaches into it. begins_to: instead, transfers that begin from `start` up to this tick."""
        self.decoder, self.start, self.end, self.begins_to = decoder, start, end, begins_to
        self.absent = decoder.absent
        self.shown = shown_places(decoder.rig)
        self._starts: list[Times] = []  # of all transfers that are counted, told or not
        self._told: dict[str, tuple[int, int]] = {}  # by place, from the first of those that are told to the end of the last
        self._on = {device.name: device.on for device in decoder.rig.device}

    def number(self, start: int) -> int:
        """The number of the transfer that begins at a tick."""
        if len(self._starts) > 1:
            self._starts = [np.sort(np.concatenate(self._starts))]
        return int(np.searchsorted(self._starts[0], start)) + 1 if self._starts else 1

    def feed(self, block: Trace | Samples) -> Decoded:
        """What is complete with a block, of that span."""
        return self._part(self.decoder.feed(block))

    def finish(self) -> Decoded:
        """The rest."""
        return self._part(self.decoder.finish())

    @property
    def waiting(self) -> int | None:
        """As of the decoder itself."""
        return self.decoder.waiting

    def _part(self, whole: Decoded) -> Decoded:
        self._starts += [own.table.start for own in as_counted(whole.channels, self.shown)]
        channels = [self._channel(own) for own in whole.channels]
        parts = [self._commands(one) for one in whole.commands]
        return Decoded(
            channels,
            [own for own, _ in parts if len(own.commands)],
            whole.driven,
            ahead=[own for _, own in parts if len(own.commands)],
        )

    def _channel(self, own: Channel) -> Channel:
        table = own.table
        if self.begins_to is None:
            inside = np.flatnonzero((table.end >= self.start) & (table.start <= self.end))
        else:
            inside = np.flatnonzero((table.start >= self.start) & (table.start <= self.begins_to))
        if not len(inside):
            return own.silent()
        low, high = self._told.get(own.bus, (int(table.start[inside[0]]), 0))
        self._told[own.bus] = min(low, int(table.start[inside[0]])), max(high, int(table.end[inside].max()))
        more: dict[str, Any] = {} if own.who is None else {"who": own.who.take(inside)}
        return replace(own, table=own.table.take(inside), **more)

    def _commands(self, one: Told) -> tuple[Told, Told]:
        """What belongs to the transfers that are told, and what came ahead of them."""
        own = one.commands
        low, high = self._told.get(self._on.get(one.device, ""), (self.start, self.end))
        ends = own.payload.end[own.first + own.count - 1]
        keep = (ends >= low) & (own.payload.start[own.first] <= high)
        return (
            replace(one, commands=_taken(own, keep), going_on=one.going_on and bool(keep[:1].all())),
            replace(one, commands=_taken(own, ends < low), going_on=False),
        )


def _taken(own: Commands, keep: NDArray[np.bool_]) -> Commands:
    """Some of a column of commands."""
    kept = np.flatnonzero(keep)
    words = slice(int(own.first[kept[0]]), int(own.first[kept[-1]] + own.count[kept[-1]])) if len(kept) else slice(0, 0)
    return replace(
        own, payload=own.payload.take(words), kind=own.kind[kept], first=own.first[kept] - words.start, count=own.count[kept]
    )
