"""The description engine: payload to commands, by a part's table.

The payload's runs of command and of data words are found as columns; `split` takes them apart. A command whose
parameters come in a later transaction is put together, since the controller does so too.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .describe import Command, Part, Value
from .framing import Payload
from .split import DATA, TRUNCATED, UNKNOWN, Run, Splitter

__all__ = ["DATA", "LONGEST", "TRUNCATED", "UNKNOWN", "Commands", "Reader", "commands"]

LONGEST = 4096  # data words that are told as one


@dataclass(eq=False)
class Commands:
    """kind: (n,) index into part.command, or UNKNOWN, DATA, TRUNCATED. first, count: (n,) range of the payload."""

    part: Part
    payload: Payload
    kind: NDArray[np.int16]
    first: NDArray[np.int64]
    count: NDArray[np.int64]

    def __len__(self) -> int:
        return len(self.kind)

    def bytes_of(self, index: int) -> bytes:
        """The words of one command."""
        first = int(self.first[index])
        return self.payload.value[first : first + int(self.count[index])].tobytes()

    def time_of(self, index: int) -> int:
        """The tick at which a command takes effect: that of its last word."""
        return int(self.payload.time[int(self.first[index]) + int(self.count[index]) - 1])

    def name_of(self, index: int) -> str:
        """Name as shown: the command's, or data, unknown, truncated."""
        kind = int(self.kind[index])
        return NAMES[kind] if kind < 0 else self.part.command[kind].name

    def fields_of(self, index: int) -> tuple[dict[str, Value], str]:
        """Fields of one command and a note on what is undocumented."""
        kind = int(self.kind[index])
        if kind >= 0:
            return self.part.command[kind].decode(self.bytes_of(index))
        if kind == DATA:
            return {"count": int(self.count[index])}, ""
        return {}, "no command of this part starts so" if kind == UNKNOWN else "its parameters never came"

    @property
    def names(self) -> set[str]:
        """The distinct commands of the part among them."""
        return {self.part.command[kind].name for kind in np.unique(self.kind[self.kind >= 0]).tolist()}

    @property
    def strange(self) -> NDArray[np.bool_]:
        """(n,) which are no commands of the part, by their first word or by bits that are fixed in the words behind it."""
        out: NDArray[np.bool_] = self.kind == UNKNOWN
        for kind in np.unique(self.kind[self.kind >= 0]).tolist():
            for word, (mask, expected) in enumerate(self.part.command[kind].fixed[1:], 1):
                own = np.flatnonzero((self.kind == kind) & (self.count > word)) if mask else ()
                if len(own):
                    out[own] |= (self.payload.value[self.first[own] + word] & mask) != expected
        return out

    @property
    def random(self) -> bool:
        """Whether nobody can have meant it: drivers use few of a part's codes, again and again, and bytes that nobody chose are every code."""
        codes = self.payload.value[self.first[self.kind != DATA]]
        count = len(codes)
        return count >= MEANT and len(np.unique(codes)) > 0.9 * 256 * (1 - np.exp(-count / 256))

    @property
    def foreign(self) -> bool:
        """Whether enough is there to say that the part makes nothing of it: nobody chose it, or most of it is no command of the part."""
        return self.random or (len(self) >= MEANT and float(np.mean(self.strange)) > HARDLY)

    @classmethod
    def join(cls, part: Part, pieces: list[tuple[Commands, bool]]) -> Commands:
        """Pieces that a `Reader` gave, in order, as one: with each, whether its first command goes on with data told before."""
        own = [(piece, going_on) for piece, going_on in pieces if len(piece)]
        if len(own) == 1:
            return own[0][0]
        if not own:
            return _taken(part, _nothing(), Splitter(part))
        sizes = np.cumsum([0, *(len(piece.payload) for piece, _ in own[:-1])]).tolist()
        kind = np.concatenate([piece.kind for piece, _ in own])
        first = np.concatenate([piece.first + ahead for (piece, _), ahead in zip(own, sizes, strict=True)])
        count = np.concatenate([piece.count for piece, _ in own])
        begins = np.cumsum([0, *(len(piece) for piece, _ in own[:-1])])
        again = begins[[going_on for _, going_on in own]]
        if len(again):
            keep = np.ones(len(kind), bool)
            keep[again] = False
            owner = np.cumsum(keep) - 1
            total = np.zeros(int(owner[-1]) + 1, np.int64)
            np.add.at(total, owner, count)
            kind, first, count = kind[keep], first[keep], total
        return cls(part, Payload.join([piece.payload for piece, _ in own]), kind, first, count)

    def listed(self) -> Iterator[tuple[int, Command | None, bytes]]:
        """index, command (None for the special kinds) and bytes of each, in order."""
        for index in range(len(self)):
            kind = int(self.kind[index])
            yield index, self.part.command[kind] if kind >= 0 else None, self.bytes_of(index)


MEANT = 400  # commands from which on it shows whether somebody chose them
HARDLY = 0.5  # the share of strange ones beyond which a part makes nothing of them
NAMES = {UNKNOWN: "unknown", DATA: "data", TRUNCATED: "truncated"}


def commands(part: Part, payload: Payload) -> Commands:
    """The commands that a part makes of its payload."""
    splitter = Splitter(part)
    splitter.feed(payload.value.tobytes(), _runs(payload))
    return _taken(part, payload, splitter)


def _runs(payload: Payload) -> list[Run]:
    """Runs end where command and data change; a data run also at the end of its transaction."""
    if not len(payload):
        return []
    edge = payload.data[1:] != payload.data[:-1]
    edge |= payload.data[1:] & (payload.transaction[1:] != payload.transaction[:-1])
    starts = np.concatenate([[0], np.flatnonzero(edge) + 1])
    ends = np.append(starts[1:], len(payload))
    return list(zip(payload.data[starts].tolist(), starts.tolist(), ends.tolist(), strict=True))


def _taken(part: Part, payload: Payload, splitter: Splitter) -> Commands:
    kinds, firsts, counts = splitter.taken()
    return Commands(part, payload, np.array(kinds, np.int16), np.array(firsts, np.int64), np.array(counts, np.int64))


class Reader:
    """The same piece by piece: `feed` and `finish` give the commands that are complete.

    What waits for its parameters is kept, and of data up to `LONGEST` words: longer runs come in pieces of so many.
    """

    def __init__(self, part: Part) -> None:
        self.part = part
        self.splitter = Splitter(part)
        self.held: Payload | None = None
        self.going_on: int | None = None  # the transaction of the data that went out last, where they may go on

    def feed(self, payload: Payload, closed: bool = False) -> tuple[Commands, bool]:
        """The commands, and whether the first of them goes on with data that were told before.

        closed: the payload ends with its transaction.
        """
        every = payload if self.held is None else Payload.join([self.held, payload])
        done = self._complete(every, closed)
        self.held = every.take(slice(done, None))
        return self._out(every.take(slice(0, done)))

    def finish(self) -> tuple[Commands, bool]:
        """The rest, whole or not."""
        rest = self.held if self.held is not None else _nothing()
        self.held = None
        return self._out(rest)

    def _out(self, payload: Payload) -> tuple[Commands, bool]:
        if not len(payload):
            return _taken(self.part, payload, self.splitter), False
        going_on = bool(payload.data[0]) and int(payload.transaction[0]) == self.going_on
        self.splitter.feed(payload.value.tobytes(), _runs(payload))
        out = _taken(self.part, payload, self.splitter)
        self.going_on = int(payload.transaction[-1]) if int(out.kind[-1]) == DATA else None
        return out, going_on

    def _complete(self, payload: Payload, closed: bool) -> int:
        """How many words no later word can change the meaning of."""
        runs = _runs(payload)
        if not runs:
            return 0
        is_data, first, last = runs[-1]
        raw = payload.value.tobytes()
        if not is_data:
            return last - self.splitter.waiting(raw[first:last])
        needs = 0
        if self.part.parameters == "data" and len(runs) > 1 and not runs[-2][0]:
            needs = self.splitter.needs(raw[first - 1])
        if last - first < needs:
            return first - 1  # the command stays, with what came of its parameters
        # Data are over with their transaction; else they go out in whole pieces.
        return last if closed else first + needs + (last - first - needs) // LONGEST * LONGEST


def _nothing() -> Payload:
    none = np.empty(0, np.int64)
    return Payload(np.empty(0, np.uint8), np.empty(0, bool), none, none, none, none)
