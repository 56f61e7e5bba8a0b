"""Words that go one way together, and the transactions that they make where no select parts them: runs of one kind without a rest."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..bus.changes import number_within
from ..bus.pieces import Pauses
from ..bus.words import CUT, END, START, STOP, Transactions, Words

if TYPE_CHECKING:
    from ..bus.i2c_address import Addresses

__all__ = ["LONGEST", "PAUSE", "Channel", "Runs", "in_pieces", "runs"]

PAUSE = 64  # how many of the shortest step between words make a rest


@dataclass(eq=False)
class Channel:
    """Words that go one way together: a bus, one select of it, or what a bridge's outputs make.

    bits: of a word. dc: (n,) level of D/C or RS, None without one. read: (n,). who: addresses, on I2C. select: its role, or "".
    answers: (n,) what MISO said in each word, where it is captured. chips: (n,) mask of the chips that are selected, 0 for all.
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

    def closed(self) -> Channel:
        """Without the words of a transaction that is still open."""
        done = int(self.table.last.max()) if len(self.table) else 0

        def part(column: NDArray[Any] | None) -> Any:
            return None if column is None else column[:done]

        return replace(
            self,
            words=self.words.take(slice(0, done)),
            dc=part(self.dc),
            read=part(self.read),
            answers=part(self.answers),
            chips=part(self.chips),
        )

    @property
    def digits(self) -> int:
        """Hex digits of a word."""
        return max(1, -(-self.bits // 4))


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
