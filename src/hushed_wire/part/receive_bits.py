"""The ways in of serial parts whose bytes do not stand whole in a transfer: halves behind a sync byte, and commands bit by bit."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..bus.channel import Channel
from ..bus.words import CUT, END, Words
from .framing import Payload
from .receiver import Receiver, Seat, owners
from .wrap import COMMANDS, PLACE, READS, SYNC, WRITES

__all__ = ["Bitwise", "Synced", "broken_off"]


class Synced(Receiver):
    """Behind a sync byte that tells data from commands, in halves of four bits and four zeros (ST7920 datasheet, "Serial interface").

    A byte whose halves come in two pieces of a transfer is put together; what was read is left out.
    """

    def __init__(self, seat: Seat) -> None:
        super().__init__(seat)
        self.sync = 0  # of the transfer that goes on, 0 where none does
        self.half: Words | None = None

    def payloads(self, own: Channel) -> list[Payload]:
        words, owner = own.words, owners(own.table)
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
        self.at = 1  # which bit of its transfer the first that is held, or comes next, is: what a capture begins within is none of the first
        self.mode = -1

    def payloads(self, own: Channel) -> list[Payload]:
        words, owner = own.words, owners(own.table)
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
            rest = total if total < 3 and not ahead[-1] else 0
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
