"""What all ways in have in common: where a part sits, and how what is for it is taken from channels that come in pieces."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..bus.nibbles import Switch
from ..bus.words import CUT, Transactions
from .describe import Panel
from .framing import Payload
from .wrap import WRAPS

__all__ = ["Receiver", "Seat", "owners"]


@dataclass(frozen=True)
class Seat:
    """Where a part sits. framing: how it is spoken to. address: on I2C and of parts with an address in their opcode. select: the role of its
    select, "" for none. position: in a chain, 0 nearest to the driver. chips: behind one glass. count: registers of a chain. panel: of LEDs.
    switch: of a part that is spoken to by halves.
    """

    framing: str
    address: int | None = None
    select: str = ""
    position: int = 0
    chips: int = 1
    count: int = 1
    panel: Panel | None = None
    switch: Switch | None = None


class Receiver:
    """What of a channel is for a part. closes: data are over with their transaction."""

    closes = True

    def __init__(self, seat: Seat) -> None:
        self.seat = seat
        self.bits = WRAPS[seat.framing].bits
        self.next = 0  # transactions are counted through all pieces

    def take(self, own: Channel) -> list[Payload] | None:
        """A payload for each chip; None where the channel is not its own."""
        if not self.hears(own):
            return None
        # A transaction that goes on with the piece before it keeps its number.
        ahead = self.next - (1 if self.next and len(own.table) and int(own.table.began[0]) == CUT else 0)
        self.next = ahead + len(own.table)
        return [replace(payload, transaction=payload.transaction + ahead) for payload in self.payloads(own)]

    def hears(self, own: Channel) -> bool:
        """Whether a channel is its own."""
        return own.select == self.seat.select and own.bits == self.bits

    def payloads(self, own: Channel) -> list[Payload]:
        """What a channel of its own brings."""
        raise NotImplementedError

    def rest(self) -> list[Payload]:
        """A payload for each chip of what waited for more until the capture ended; none where nothing waits."""
        return []


def owners(table: Transactions) -> NDArray[np.int64]:
    """(n,) the transaction of each word."""
    return np.repeat(np.arange(len(table)), table.last - table.first)
