"""What decoders of every kind of bus yield: channels, which are words that go one way together with the transactions that they make.

Blocks of any size go into a `ChannelDecoder`; whole transactions come out, long ones in pieces of `LONGEST` words, so that memory holds one
block and what is open. `Said` puts pieces together again, so a capture that is read whole says the same.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any, Protocol, runtime_checkable

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Samples
from .changes import number_within
from .pieces import Pauses
from .words import BEGAN, CUT, END, START, STOP, Addresses, Held, Marks, Transactions, Words, transactions

if TYPE_CHECKING:
    from fractions import Fraction

    from ..trace import Trace
    from .base import Settings
    from .scan import Scan
    from .scan_roles import Lamps

__all__ = [
    "LONGEST",
    "PAUSE",
    "Channel",
    "ChannelDecoder",
    "OVER_WORDS",
    "Disturbances",
    "Heard",
    "OpenTransfers",
    "Runs",
    "Said",
    "Telling",
    "Wanted",
    "Wired",
    "in_pieces",
    "runs",
]

PAUSE = 64  # how many of the shortest step between words make a rest


OVER_WORDS = ("dc", "read", "answers", "chips")  # columns of a channel that have a row for each word


@dataclass(frozen=True)
class Wired:
    """A bus as it is wired to the lines of a trace. name: of the bus. roles: role to line number. tick: seconds."""

    name: str
    roles: dict[str, int]
    settings: Settings
    tick: Fraction


@dataclass(frozen=True)
class Wanted:
    """What hangs on a bus and how it is heard. select: role of its select, "" for the usual one. bits: of its words, 0 where nothing
    tells. count: registers of a chain, 0 where that is to be found. lamps: how a scanned display's lines light it."""

    select: str = ""
    bits: int = 0
    count: int = 0
    lamps: Lamps | None = None


@dataclass(frozen=True)
class Disturbances:
    """What a decoder passed over. spikes: pulses ignored on each clocked line. stray: clocks outside any transaction. together: samples in
    which clock and data changed at once."""

    spikes: tuple[int, int] = (0, 0)
    stray: int = 0
    together: int = 0


@dataclass(eq=False)
class Channel:
    """Words that go one way together: a bus, one select of it, or what a bridge's outputs make.

    bits: of a word. dc: (n,) level of D/C or RS, None without one. read: (n,). who: addresses, on I2C. select: its role, or "".
    answers: (n,) what MISO said in each word, where it is captured. chips: (n,) mask of the chips that are selected, 0 for all.
    passed_over: up to the end of this piece. scan: how scanned LEDs are driven. number: of the channel among those of its bus.
    """

    bus: str
    kind: str
    select: str
    words: Words
    table: Transactions
    bits: int = 8
    dc: NDArray[np.uint8] | None = None
    read: NDArray[np.bool_] | None = None
    who: Addresses | None = None
    answers: NDArray[np.uint32] | None = None
    chips: NDArray[np.uint8] | None = None
    passed_over: Disturbances = Disturbances()
    scan: Scan | None = None
    number: int = 0

    def silent(self) -> Channel:
        """The same channel with nothing said on it."""
        columns: dict[str, Any] = {
            name: None if (all_ := getattr(self, name)) is None else all_[:0].copy() for name in OVER_WORDS
        }
        who = None if self.who is None else self.who.none()
        return replace(self, words=self.words.none(), table=self.table.none(), who=who, **columns)

    @property
    def digits(self) -> int:
        """Hex digits of a word."""
        return max(1, -(-self.bits // 4))

    @property
    def cut_at_end(self) -> bool:
        """Whether the capture ends in the middle of its traffic."""
        return len(self.table) > 0 and int(self.table.ended[-1]) == END


class ChannelDecoder(Protocol):
    """One channel from blocks of a trace. Each call gives what became complete."""

    def feed(self, block: Trace | Samples) -> Channel:
        """What is complete with a block."""

    def finish(self) -> Channel:
        """The rest: a transaction that is still open is closed by a mark."""

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept until its transaction is over; None where there is none."""


class Said:
    """What a channel said, put together as it comes; transactions that were told in pieces are whole again."""

    def __init__(self) -> None:
        self.words, self.table, self.who = Held(), Held(), Held()
        self.last: Channel | None = None

    def take(self, own: Channel) -> None:
        """The next piece."""
        ahead = self.words.count
        self.words.add(**own.words.columns, **{name: getattr(own, name) for name in OVER_WORDS})
        self.table.add(**replace(own.table, first=own.table.first + ahead, last=own.table.last + ahead).columns)
        if own.who is not None:
            self.who.add(**replace(own.who, first=own.who.first + ahead).columns)
        self.last = own.silent()

    def whole(self) -> Channel:
        """All of it; nothing is taken any more."""
        assert self.last is not None
        columns = self.words.whole()
        over = {name: columns.pop(name, None) for name in OVER_WORDS}
        for name in ("start", "end"):  # words that an edge latches begin and end with it
            if np.array_equal(columns[name], columns["effect"]):
                columns[name] = columns["effect"]
        table = Transactions(**self.table.whole())
        who = None if self.last.who is None else Addresses(**self.who.whole())
        # A piece that goes on with the one before it: that ended for its length alone, or at the end of a block.
        going_on = np.append(False, (table.began[1:] == CUT) & (table.ended[:-1] == END))[: len(table)]
        if going_on.any():
            begins = np.flatnonzero(~going_on)
            last = np.append(begins[1:], len(table)) - 1
            table = Transactions(
                table.first[begins], table.last[last], table.start[begins], table.end[last], table.began[begins], table.ended[last], table.spare[last]
            )  # fmt: skip
            who = None if who is None else who.take(begins)
        return replace(self.last, words=Words(**columns), table=table, who=who, **over)


@runtime_checkable
class Telling(Protocol):
    """A decoder that tells others what it goes by."""

    def tell(self, told: Callable[[Any], None]) -> None:
        """Names who wants it: of I2C, the events of each block."""


class Heard:
    """A channel that was decoded before, as what decodes it: all of it comes with the first block."""

    held: int | None = None

    def __init__(self, channel: Channel) -> None:
        self.rest = channel

    def feed(self, block: Trace | Samples) -> Channel:
        """The channel, once."""
        own, self.rest = self.rest, self.rest.silent()
        return own

    def finish(self) -> Channel:
        """What no block brought."""
        return self.rest


def runs(words: Words, *same: NDArray[Any]) -> Transactions:
    """Transactions of a bus without selects: words of one kind (equal in all columns of `same`) without a rest between them."""
    return Runs().feed(words, *same, last=True)[1]


class Runs:
    """The same piece by piece: `feed` gives the words and transactions that are complete; the open one is kept."""

    def __init__(self, ends: int = END) -> None:
        """ends: how the last transaction ends, where nothing comes any more."""
        self.pauses = Pauses(PAUSE)
        self.ends = ends
        self.words: Words | None = None
        self.cuts = np.empty(0, bool)
        self.same: tuple[NDArray[Any], ...] = ()
        self.went_on = False  # the first of the words that are kept goes on with a transaction that was too long for one

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return int(self.words.start[0]) if self.words is not None and len(self.words) else None

    def feed(self, words: Words, *same: NDArray[Any], last: bool = False) -> tuple[Words, Transactions, tuple[NDArray[Any], ...]]:
        """words: the next ones; same: columns over them. Returns words, transactions of these, and the columns over them."""
        cuts = self.pauses.feed(words.effect)
        if self.words is not None:
            words = Words.join([self.words, words])
            same = tuple(np.concatenate(pair) for pair in zip(self.same, same, strict=True))
            cuts = np.concatenate([self.cuts, cuts])
        for column in same:
            cuts[1:] |= column[1:] != column[:-1]
        cuts[:1] = True
        first = np.flatnonzero(cuts)
        going_on = np.append(self.went_on, np.zeros(max(0, len(first) - 1), bool))[: len(first)]
        first, going_on = _in_pieces(first, going_on, len(words))
        done = len(words) if last or not len(first) else int(first[-1])
        self.words, self.cuts, self.same = words.take(slice(done, None)), cuts[done:], tuple(column[done:] for column in same)
        out = words.take(slice(0, done))
        if done < len(words):
            self.went_on = bool(going_on[-1])
        ended = np.append(going_on[1:], False)[: len(first)][first < done]
        first, going_on = first[first < done], going_on[first < done]
        ends = np.append(first[1:], done)[: len(first)]
        kinds = np.ones(len(first), np.uint8)
        table = Transactions(first, ends, out.start[first], out.end[ends - 1], kinds * START, kinds * STOP, kinds * 0)
        table.began[going_on], table.ended[ended] = CUT, END
        if last:
            table.ended[-1:] = self.ends
        return out, table, tuple(column[:done] for column in same)


LONGEST = 4096  # words of a transaction that are told as one; a select that is tied would never end


def _in_pieces(first: NDArray[np.int64], went_on: NDArray[np.bool_], end: int) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """Beginnings of transactions with those of the pieces of long ones, and which of them go on with what was before."""
    lengths = np.diff(first, append=end)
    if not len(first) or int(lengths.max()) <= LONGEST:
        return first, went_on
    owner, number = number_within(-(-np.maximum(lengths, 1) // LONGEST))
    return first[owner] + number * LONGEST, went_on[owner] | (number > 0)


def in_pieces(words: Words, table: Transactions) -> Transactions:
    """Long transactions as pieces of `LONGEST` words, all but the last one cut at their end, all but the first at their beginning."""
    lengths = table.last - table.first
    if not len(table) or int(lengths.max()) <= LONGEST:
        return table
    owner, number = number_within(np.maximum(-(-lengths // LONGEST), 1))
    out = table.take(owner)
    out.first = table.first[owner] + number * LONGEST
    out.last = np.minimum(out.first + LONGEST, table.last[owner])
    later, sooner = number > 0, np.append(number[1:] > 0, False)
    out.began, out.ended = np.where(later, CUT, out.began).astype(np.uint8), np.where(sooner, END, out.ended).astype(np.uint8)
    out.start[later] = words.start[out.first[later]]
    out.end[sooner] = words.end[out.last[sooner] - 1]
    out.spare = np.where(sooner, 0, out.spare).astype(np.uint8)
    return out


class OpenTransfers:
    """The transactions of one channel as marks part them; a long one comes in pieces of `LONGEST` words."""

    def __init__(self, bus: str, kind: str, select: str, bits: int) -> None:
        self.bus, self.kind, self.select, self.bits = bus, kind, select, bits
        self.words: Words | None = None
        self.columns: dict[str, Any] = {}
        self.marks: Marks | None = None
        self.base = 0

    @property
    def held(self) -> int | None:
        """The tick at which the first word began that is kept."""
        return int(self.words.start[0]) if self.words is not None and len(self.words) else None

    def take(self, words: Words, marks: Marks, **columns: Any) -> Channel:
        """What is complete, as a channel; a piece of a longer transaction has began or ended CUT or END."""
        if self.words is not None:
            words = Words.join([self.words, words])
            columns = {key: None if new is None else np.concatenate([self.columns[key], new]) for key, new in columns.items()}
        assert self.marks is None or len(self.marks) <= 1
        here = marks if self.marks is None else Marks.join([self.marks, marks])
        local = replace(here, word=here.word - self.base)
        closed = transactions(local)
        done = int(local.word[-1]) if len(local) else 0
        still = len(local) > 0 and int(local.kind[-1]) in BEGAN
        keep = local.take(slice(len(local) - 1, None)) if still else local.take(slice(0, 0))
        # A transaction that does not end gives its whole pieces and goes on.
        size = max(0, len(words) - done - 1) // LONGEST * LONGEST if still else 0
        if size:
            kind, begin = int(keep.kind[0]), int(keep.time[0])
            piece = (done, done + size, begin, int(words.end[done + size - 1]), kind, END, 0)
            closed = Transactions.join([closed, Transactions(*(np.array([value]) for value in piece))])
            done += size
            keep = Marks(words.start[done : done + 1], np.array([CUT], np.uint8), np.array([done]), np.zeros(1, np.uint8))
        out: dict[str, Any] = {key: None if value is None else value[:done] for key, value in columns.items()}
        channel = Channel(self.bus, self.kind, self.select, words.take(slice(0, done)), closed, self.bits, **out)
        self.words = words.take(slice(done, None))
        self.columns = {key: None if value is None else value[done:] for key, value in columns.items()}
        self.base += done
        self.marks = replace(keep, word=keep.word + self.base - done)
        return channel
