"""Framings, on the way in: what the words on a bus say to a part, as the columns that its commands are read from. The twin of `wrap`.

One row of `RECEIVERS` a framing, with the keys of `WRAPS`. A receiver takes the channels of the bus that its part hangs on, in pieces of any size,
and gives what is for the part: one payload for each chip behind its glass. What it has to remember between pieces it keeps.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES
from ..bus.channel import Channel
from ..bus.nibbles import Nibbles, Switch
from ..bus.words import CUT, END, START, STOP, Transactions, Words
from .describe import Panel
from .framing import Framing, Payload, continued, control_byte, first_byte, plain
from .scanned import shape_of, to_bytes
from .wrap import COMMANDS, MEMORY, PLACE, READS, SYNC, WRAPS, WRITES

__all__ = ["RECEIVERS", "Receiver", "Seat", "broken_off", "pictures"]


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


def _owners(table: Transactions) -> NDArray[np.int64]:
    """(n,) the transaction of each word."""
    return np.repeat(np.arange(len(table)), table.last - table.first)


class Selected(Receiver):
    """Words while a select is active; a line or the top bit of nine tells data from commands."""

    def payloads(self, own: Channel) -> list[Payload]:
        words = own.words
        if self.bits == 9:
            data = words.value >> 8 & 1 == 1
        else:
            data = np.zeros(len(words), bool) if own.dc is None else own.dc == 1
        value = (words.value & 0xFF).astype(np.uint8)
        return [Payload(value, data, words.effect, words.start, words.end, _owners(own.table))]


class Handed(Receiver):
    """Everything is data: an update of a chain."""

    def payloads(self, own: Channel) -> list[Payload]:
        words = own.words
        value = (words.value & 0xFF).astype(np.uint8)
        return [Payload(value, np.ones(len(words), bool), words.effect, words.start, words.end, _owners(own.table))]


class Synced(Receiver):
    """Behind a sync byte that tells data from commands, in halves of four bits and four zeros (ST7920 datasheet, "Serial interface").

    A byte whose halves come in two pieces of a transfer is put together; what was read is left out.
    """

    def __init__(self, seat: Seat) -> None:
        super().__init__(seat)
        self.sync = 0  # of the transfer that goes on, 0 where none does
        self.half: Words | None = None

    def payloads(self, own: Channel) -> list[Payload]:
        words, owner = own.words, _owners(own.table)
        going_on = len(own.table) > 0 and int(own.table.began[0]) == CUT
        if self.half is not None and going_on:
            words, owner = Words.join([self.half, words]), np.append(np.zeros(1, np.int64), owner)
        value = words.value.astype(np.int64)
        place = np.arange(len(value))
        is_sync = value & 0xF9 == SYNC
        opens = np.append(True, owner[1:] != owner[:-1])[: len(value)]
        last = np.maximum.accumulate(np.where(is_sync, place, -1)) if len(value) else place
        begun = np.maximum.accumulate(np.where(opens, place, 0)) if len(value) else place
        known = last >= begun
        carried = self.sync if going_on else 0
        sync = np.where(known, value[np.maximum(last, 0)] if len(value) else 0, np.where(owner == 0, carried, 0))
        since = np.where(known, place - last - 1, place - begun)
        even = ~is_sync & (since % 2 == 0) & (sync > 0) & (sync & 4 == 0)
        pairs = even[:-1] & ~is_sync[1:] & (owner[1:] == owner[:-1])
        first = np.flatnonzero(pairs)
        cut = len(own.table) > 0 and int(own.table.ended[-1]) == END
        self.sync = int(sync[-1]) if cut and len(sync) else 0
        self.half = words.take(slice(len(words) - 1, None)) if cut and len(even) and even[-1] else None
        both = (value[first] & 0xF0 | value[first + 1] >> 4).astype(np.uint8)
        behind = words.take(first + 1)
        return [Payload(both, sync[first] & 2 > 0, behind.effect, words.start[first], behind.end, owner[first])]


class Bitwise(Receiver):
    """Single bits: of each transfer three say what follows, commands of nine bits or an address of six and data by four (HT1621 datasheet, "Command
    format"). Of a transfer that goes on with the next piece what makes nothing whole yet is kept."""

    def __init__(self, seat: Seat) -> None:
        super().__init__(seat)
        self.held: Words | None = None
        self.at = 0  # which bit of its transfer the first that is held, or comes next, is
        self.mode = -1

    def payloads(self, own: Channel) -> list[Payload]:
        words, owner = own.words, _owners(own.table)
        going_on = len(own.table) > 0 and int(own.table.began[0]) == CUT
        if self.held is not None and going_on:
            words, owner = Words.join([self.held, words]), np.append(np.zeros(len(self.held), np.int64), owner)
        if not going_on:
            self.at, self.mode = 0, -1
        count, first = np.bincount(owner, minlength=len(own.table)), np.searchsorted(owner, np.arange(len(own.table)))
        bit, ahead = (words.value & 1).astype(np.int64), np.zeros(len(count), np.int64)
        ahead[:1] = self.at
        mode = np.full(len(count), -1, np.int64)
        whole = np.flatnonzero((count >= 3) & (ahead == 0))
        mode[whole] = bit[first[whole]] << 2 | bit[first[whole] + 1] << 1 | bit[first[whole] + 2]
        if self.at and len(mode):
            mode[0] = self.mode
        place = np.arange(len(owner)) - first[owner] + ahead[owner]
        left = ahead[owner] + count[owner] - place  # bits of its transfer from each on
        of, since = mode[owner], place - 3
        command = (of == COMMANDS) & (since >= 0) & (since % 9 == 0) & (left >= 9)
        address = (of == WRITES) & (since == 0) & (left >= 6)
        data = (of == WRITES) & (since >= 6) & ((since - 6) % 4 == 0) & (left >= 4)
        size = np.select([command, address, data], [9, 6, 4])
        start = np.flatnonzero(size)
        bits = np.where(command, 8, size)[start]  # a command's ninth tells nothing
        value = np.zeros(len(start), np.int64)
        for number in range(8):
            here = number < bits
            value[here] = value[here] << 1 | bit[start[here] + number]
        beyond = address[start] & (value >= 0x20)
        value = np.where(address[start], np.where(beyond, 0xF8, PLACE | value), value)
        self._keep(own, words, ahead, count, mode)
        last = words.take(start + size[start] - 1)
        return [Payload(value.astype(np.uint8), data[start], last.effect, words.start[start], last.end, owner[start])]

    def _keep(
        self, own: Channel, words: Words, ahead: NDArray[np.int64], count: NDArray[np.int64], mode: NDArray[np.int64]
    ) -> None:
        """What the next piece needs of a transfer that goes on."""
        self.held = None
        if not len(count) or int(own.table.ended[-1]) != END:
            self.at, self.mode = 0, -1
            return
        total, self.mode = int(ahead[-1] + count[-1]), int(mode[-1])
        if self.mode == COMMANDS:
            rest = (total - 3) % 9
        elif self.mode == WRITES:
            rest = total - 3 if total < 9 else (total - 9) % 4
        else:
            rest = total if total < 3 else 0
        self.at = total - rest
        self.held = words.take(slice(len(words) - rest, None)) if rest else None


def broken_off(own: Channel) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
    """Of transfers bit by bit: (m,) bits that make nothing whole at the end of each, and how many would."""
    table, bit = own.table, np.append(own.words.value & 1, [0, 0, 0]).astype(np.int64)
    count = table.last - table.first
    mode = bit[table.first] << 2 | bit[table.first + 1] << 1 | bit[table.first + 2]
    placed = (mode == WRITES) | (mode == READS)
    spare = np.select(
        [count < 3, mode == COMMANDS, placed & (count < 9), placed], [count, (count - 3) % 9, count - 3, (count - 9) % 4], count
    )
    return spare, np.where(placed & (count >= 9), 4, 9)


class Opened(Receiver):
    """A command that opens the transfer, and its data."""

    def payloads(self, own: Channel) -> list[Payload]:
        return [first_byte(own.words, own.table, own.table.first, np.arange(len(own.table)))]


class Paired(Receiver):
    """Words of register and value that are taken over when the select ends; the last one of a load stays in the part nearest to the driver."""

    def payloads(self, own: Channel) -> list[Payload]:
        words, table = own.words, own.table
        owner = _owners(table)
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
        owner = _owners(table)
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
        return [self.wide.told(own.words, data, _owners(own.table))]


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
            at, owner = np.repeat(np.arange(len(words)), count), np.repeat(_owners(table), count)
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
                words.value.astype(np.uint8), np.ones(len(words), bool), words.effect, words.start, words.start, _owners(table)
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
