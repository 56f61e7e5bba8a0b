"""A part of what a capture says, with all that was said ahead of it known: a decoder that passes on only what lies in a span."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ..bus.channel import Channel
from ..trace import Trace
from ..trace.model import Samples
from .decoder import Decoded, RigDecoder, Told

__all__ = ["Within"]


class Within:
    """Takes the place of a decoder. start, end: ticks; transfers that begin between them, and commands that end there, are passed on."""

    def __init__(self, decoder: RigDecoder, start: int, end: int) -> None:
        self.decoder, self.start, self.end = decoder, start, end
        self.absent = decoder.absent

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
        return Decoded([self._channel(own) for own in whole.channels], [self._told(one) for one in whole.commands], whole.driven)

    def _channel(self, own: Channel) -> Channel:
        inside = np.flatnonzero((own.table.start >= self.start) & (own.table.start <= self.end))
        more: dict[str, Any] = {} if own.who is None else {"who": own.who.take(inside)}
        return replace(own, table=own.table.take(inside), **more)

    def _told(self, one: Told) -> Told:
        own = one.commands
        begin, done = own.payload.start[own.first], own.payload.end[own.first + own.count - 1]
        keep = (done >= self.start) & (begin <= self.end)
        going_on = one.going_on and bool(keep[:1].all())
        kept = np.flatnonzero(keep)
        words = slice(int(own.first[kept[0]]), int(own.first[kept[-1]] + own.count[kept[-1]])) if len(kept) else slice(0, 0)
        part = replace(
            own, payload=own.payload.take(words), kind=own.kind[kept], first=own.first[kept] - words.start, count=own.count[kept]
        )
        return Told(one.device, one.chip, one.chips, part, going_on)
