"""Framings, on the way in: what the words on a bus say to a part, as the columns that its commands are read from. The twin of `wrap`.

One row of `RECEIVERS` a framing, with the keys of `WRAPS`. A receiver takes the channels of the bus that its part hangs on, in pieces of any size,
and gives what is for the part: one payload for each chip behind its glass. What it has to remember between pieces it keeps.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES
from ..bus.channel import Channel
from ..bus.nibbles import Nibbles
from ..bus.words import END, START, STOP, Transactions, Words
from .describe import Panel
from .framing import Framing, Payload, continued, control_byte, first_byte, plain
from .receive_bits import Bitwise, Synced
from .receiver import Receiver, Seat, owners
from .scanned import shape_of, to_bytes
from .wrap import MEMORY

__all__ = ["RECEIVERS", "pictures"]


class Called(Receiver):
    """Parts with an address: what transactions bring behind it."""

    framed: Framing = staticmethod(plain)

    def hears(self, own: Channel) -> bool:
        return own.who is not None

    def payloads(self, own: Channel) -> list[Payload]:
        who = own.who
        assert who is not None
        chosen = np.flatnonzero((who.address == self.seat.address) & ~who.read & who.answered)
        return [self.framed(own.words, own.table, who.first, chosen)]


class ControlByte(Called):
    """Behind control bytes."""

    framed = staticmethod(control_byte)


class FirstByte(Called):
    """A command that opens the transaction, and its data."""

    framed = staticmethod(first_byte)


class Continued(Called):
    """Commands that say whether another one follows, and data behind the last."""

    framed = staticmethod(continued)


class Selected(Receiver):
    """Words while a select is active; a line or the top bit of nine tells data from commands."""

    def payloads(self, own: Channel) -> list[Payload]:
        words = own.words
        if self.bits == 9:
            data = words.value >> 8 & 1 == 1
        else:
            data = np.zeros(len(words), bool) if own.dc is None else own.dc == 1
        value = (words.value & 0xFF).astype(np.uint8)
        return [Payload(value, data, words.effect, words.start, words.end, owners(own.table))]


class Handed(Receiver):
    """Everything is data: an update of a chain."""

    def payloads(self, own: Channel) -> list[Payload]:
        words = own.words
        value = (words.value & 0xFF).astype(np.uint8)
        return [Payload(value, np.ones(len(words), bool), words.effect, words.start, words.end, owners(own.table))]


class Opened(Receiver):
    """A command that opens the transfer, and its data."""

    def payloads(self, own: Channel) -> list[Payload]:
        return [first_byte(own.words, own.table, own.table.first, np.arange(len(own.table)))]


class Paired(Receiver):
    """Words of register and value that are taken over when the select ends; the last one of a load stays in the part nearest to the driver."""

    def payloads(self, own: Channel) -> list[Payload]:
        words, table = own.words, own.table
        owner = owners(table)
        behind = table.last[owner] - 1 - np.arange(len(owner))
        whole = table.ended[owner] != END
        return [
            self._of_chip(words, table, owner, whole & (behind == self.seat.position + chip)) for chip in range(self.seat.chips)
        ]

    @staticmethod
    def _of_chip(words: Words, table: Transactions, owner: NDArray[np.int64], mine: NDArray[np.bool_]) -> Payload:
        value = np.stack([words.value[mine] >> 8 & 0xFF, words.value[mine] & 0xFF], axis=1).reshape(-1)
        twice = np.repeat(np.flatnonzero(mine), 2)
        latched = np.repeat(table.end[owner[mine]], 2)
        none = np.zeros(len(value), bool)
        return Payload(value.astype(np.uint8), none, latched, words.start[twice], words.end[twice], owner[twice])


class Opcoded(Receiver):
    """Behind an opcode that holds the part's address (MCP23S17 datasheet, "SPI Operations"): 0100 A2 A1 A0 and 0 to write."""

    def payloads(self, own: Channel) -> list[Payload]:
        words, table = own.words, own.table
        owner = owners(table)
        position = np.arange(len(owner)) - table.first[owner]
        opcode = words.value[table.first[owner]]
        mine = (opcode >> 1 == 0x20 | (self.seat.address or 0)) & (opcode & 1 == 0) & (position > 0)
        value = words.value[mine].astype(np.uint8)
        return [Payload(value, np.zeros(len(value), bool), words.effect[mine], words.start[mine], words.end[mine], owner[mine])]


class Latched(Receiver):
    """Words that an edge latches, for each chip that is selected with them."""

    closes = False

    def __init__(self, seat: Seat) -> None:
        super().__init__(seat)
        self.halves = [Nibbles(seat.switch) for _ in range(seat.chips)] if self.bits == 4 and seat.switch is not None else []

    def hears(self, own: Channel) -> bool:
        return own.read is not None

    def payloads(self, own: Channel) -> list[Payload]:
        return [self._of_chip(own, chip) for chip in range(self.seat.chips)]

    def _of_chip(self, own: Channel, chip: int) -> Payload:
        assert own.read is not None
        mine = ~own.read & ~own.words.unclear
        if own.chips is not None:
            mine &= (own.chips == 0) | (own.chips >> chip & 1 == 1)
        words = own.words.take(mine)
        data = np.ones(len(words), bool) if own.dc is None else own.dc[mine] == 1
        if self.halves:
            # Eight lines may be wired to a part that is spoken to by halves: these are on the upper four.
            words = replace(words, value=words.value << 4) if own.bits == 4 else words
            words, data = self.halves[chip].feed(words, data)
        return self._told(words, data)

    def rest(self) -> list[Payload]:
        late = [halves.rest() for halves in self.halves]
        return [self._told(*each) for each in late if each is not None] if all(each is not None for each in late) else []

    def _told(self, words: Words, data: NDArray[np.bool_]) -> Payload:
        value = (words.value & 0xFF).astype(np.uint8)
        return Payload(value, data, words.effect, words.start, words.end, np.zeros(len(value), np.int64))


class Wide:
    """Words of sixteen bits as bytes: commands and parameters are the lower half of one, pixels both. What came ahead of all commands are pixels."""

    def __init__(self) -> None:
        self.last = MEMORY[0]  # the command that was sent last

    def told(self, words: Words, data: NDArray[np.bool_], owner: NDArray[np.int64]) -> Payload:
        """The bytes of words; data: (n,) whether each is; owner: (n,) its transaction."""
        place = np.arange(len(words))
        at = np.maximum.accumulate(np.where(data, -1, place)) if len(words) else place
        command = np.where(at >= 0, words.value[np.maximum(at, 0)] & 0xFF if len(words) else 0, self.last)
        pixel = data & np.isin(command, MEMORY)
        index = np.repeat(place, 1 + pixel)
        high = pixel[index] & np.append(True, index[1:] != index[:-1])[: len(index)]
        value = np.where(high, words.value[index] >> 8, words.value[index]) & 0xFF
        self.last = int(command[-1]) if len(words) else self.last
        behind = words.take(index)
        return Payload(value.astype(np.uint8), data[index], behind.effect, behind.start, behind.end, owner[index])


class WideLatched(Latched):
    """The same of sixteen lines."""

    def __init__(self, seat: Seat) -> None:
        super().__init__(seat)
        self.wide = Wide()

    def _told(self, words: Words, data: NDArray[np.bool_]) -> Payload:
        return self.wide.told(words, data, np.zeros(len(words), np.int64))


class WideSelected(Selected):
    """The same through registers that make sixteen lines of a serial word."""

    def __init__(self, seat: Seat) -> None:
        super().__init__(seat)
        self.wide = Wide()

    def payloads(self, own: Channel) -> list[Payload]:
        data = np.zeros(len(own.words), bool) if own.dc is None else own.dc == 1
        return [self.wide.told(own.words, data, owners(own.table))]


class Loaded(Receiver):
    """Registers of a chain: what they hold when they take it over, the last register's byte first."""

    def hears(self, own: Channel) -> bool:
        return self._by_select(own) if BUSES[own.kind].transfers else own.read is not None or own.bits == 8 * self.seat.count

    def _by_select(self, own: Channel) -> bool:
        return own.select == self.seat.select and own.bits == 8

    def payloads(self, own: Channel) -> list[Payload]:
        words, table, count = own.words, own.table, self.seat.count
        if BUSES[own.kind].transfers:  # the latch is the select: they take over what came when that ends
            which = np.flatnonzero((table.last - table.first >= count) & (table.ended != END))
            at = (table.last[which, None] - count + np.arange(count)).reshape(-1)
            value, owner = words.value[at].astype(np.uint8), np.repeat(which, count)
            time = table.end[owner]
        else:
            places = 8 * np.arange(count - 1, -1, -1, dtype=np.uint64)
            at, owner = np.repeat(np.arange(len(words)), count), np.repeat(owners(table), count)
            value = (words.value.astype(np.uint64)[:, None] >> places & np.uint64(0xFF)).astype(np.uint8).reshape(-1)
            time = words.effect[at]
        return [Payload(value, np.zeros(len(value), bool), time, words.start[at], words.end[at], owner)]


class Lit(Receiver):
    """Scanned LEDs: whatever was shown for one frame or more counts as one picture."""

    def hears(self, own: Channel) -> bool:
        return own.scan is not None

    def payloads(self, own: Channel) -> list[Payload]:
        words, table = own.words, own.table
        return [
            Payload(
                words.value.astype(np.uint8), np.ones(len(words), bool), words.effect, words.start, words.start, owners(table)
            )
        ]


def pictures(own: Channel, panel: Panel) -> Channel:
    """A channel of scanned LEDs with the pictures that a panel showed as its words, one transaction each."""
    scan = own.scan
    if scan is None:
        return own
    lit: NDArray[Any] = scan.lit() if scan.colours is None else scan.colours
    rows, columns = shape_of(panel)
    lit = lit[:, :rows, :columns]
    lit = np.pad(lit, ((0, 0), (0, rows - lit.shape[1]), (0, columns - lit.shape[2]), *[(0, 0)] * (lit.ndim - 3)))
    first = np.flatnonzero(np.append(True, (lit[1:] != lit[:-1]).any(axis=tuple(range(1, lit.ndim)))))
    raw = [to_bytes(lit[frame], panel).astype(np.uint8) for frame in first.tolist()]
    size = len(raw[0]) if raw else 1
    value = np.concatenate([np.empty(0, np.uint8), *raw])
    start = np.repeat(scan.frames[first], size)
    end = np.repeat(scan.frames[np.append(first[1:], len(lit))] - 1, size)  # with its last tick, ahead of the next one
    words = Words(value, start, end, start, np.ones(len(value), bool), np.zeros(len(value), bool))
    each, kinds = np.arange(len(first)) * size, np.ones(len(first), np.uint8)
    table = Transactions(each, each + size, start[each], end[each], kinds * START, kinds * STOP, kinds * 0)
    return replace(own, words=words, table=table)


RECEIVERS: dict[str, Callable[[Seat], Receiver]] = {
    "i2c-control-byte": ControlByte,
    "i2c-first-byte": FirstByte,
    "i2c-register": Called,
    "i2c-plain": Called,
    "i2c-continued": Continued,
    "dc-line": Selected,
    "nine-bit": Selected,
    "register-pairs": Paired,
    "spi-opcode": Opcoded,
    "spi-first-byte": Opened,
    "spi-sync-byte": Synced,
    "spi-bits": Bitwise,
    "led-frames": Handed,
    "pulse-chain": Handed,
    "two-wire-first-byte": Opened,
    "rs-line": Latched,
    "nibbles": Latched,
    "half-words": Latched,
    "dc-parallel": Latched,
    "wide-dc-parallel": WideLatched,
    "wide-dc-line": WideSelected,
    "load": Loaded,
    "scan": Lit,
}
