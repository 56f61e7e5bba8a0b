"""How a part on I2C tells command words from data words, as columns over the words of a bus; and the payload, which is what a part gets.

I2C control byte (SSD1306 datasheet, 8.1.5.2): the first byte behind the address is Co, D/C# and six
zeros. With Co = 0 all that follows up to the end of the transaction is of the kind that D/C# says; with Co = 1 one byte
follows, then the next control byte.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from ..bus.words import Columns, Transactions, Words
from .control import CONTINUES, IS_DATA, wrap_control_byte
from .wrap import Send

__all__ = ["Framing", "Payload", "continued", "control_byte", "first_byte", "payload_of", "plain", "wrap_control_byte"]


@dataclass(eq=False)
class Payload(Columns):
    """What a part gets. value: (n,). data: (n,) data, else command. time: (n,) ticks of effect. start: (n,) ticks.

    transaction: (n,) index of the transaction. end: (n,) ticks at which the word ends.
    """

    value: NDArray[np.uint8]
    data: NDArray[np.bool_]
    time: NDArray[np.int64]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    transaction: NDArray[np.int64]


def payload_of(sends: Iterable[tuple[int, Send]], chip: int = 0) -> Payload:
    """The payload of one chip from what a driver sends, each send at its tick: the way from a sequence without wires."""
    own = [(when, send) for when, send in sends if not send.chips or send.chips >> chip & 1]
    value = np.frombuffer(b"".join(send.raw for _, send in own), np.uint8)
    lengths = np.array([len(send.raw) for _, send in own], np.int64)
    time = np.repeat(np.array([when for when, _ in own], np.int64), lengths)
    data = np.repeat(np.array([send.data for _, send in own], bool), lengths)
    return Payload(value, data, time, time, time, np.repeat(np.arange(len(own)), lengths))


def _reached(
    words: Words, transactions: Transactions, first: NDArray[np.int64], chosen: NDArray[np.int64]
) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[np.int64], NDArray[np.bool_]]:
    """For every word of the chosen transactions: its number, its owner (in `chosen`), its position behind the address, whether it

    reaches the part. A word that is refused, and whatever its transaction brings after it, does not.
    """
    first, last = first[chosen], transactions.last[chosen]
    lengths = np.maximum(last - first, 0)
    owner = np.repeat(np.arange(len(chosen)), lengths)
    ahead = np.concatenate([[0], np.cumsum(lengths)[:-1]]) if len(lengths) else lengths
    position = np.arange(len(owner)) - ahead[owner]
    word = first[owner] + position
    refused = np.full(len(chosen), np.iinfo(np.int64).max)
    nack = ~words.ack[word]
    np.minimum.at(refused, owner[nack], position[nack])
    return word, owner, position, position < refused[owner]


def _payload(words: Words, word: NDArray[np.int64], data: NDArray[np.bool_], owner: NDArray[np.int64]) -> Payload:
    value = words.value[word].astype(np.uint8)
    return Payload(value, data, words.effect[word], words.start[word], words.end[word], owner)


def control_byte(words: Words, transactions: Transactions, first: NDArray[np.int64], chosen: NDArray[np.int64]) -> Payload:
    """The payload of the `chosen` transactions; `first` is the first word behind the address of each transaction.

    Refused words reach no part.
    """
    word, owner, position, reached = _reached(words, transactions, first, chosen)
    value = words.value[word]
    ahead = np.arange(len(owner)) - position
    # The first control byte (at an even position) with Co = 0 ends the alternation of its transaction.
    ends = (position % 2 == 0) & (value & CONTINUES == 0)
    stop = np.full(len(chosen), np.iinfo(np.int64).max)
    np.minimum.at(stop, owner[ends], position[ends])
    is_control = (position % 2 == 0) & (position <= stop[owner])
    control_at = ahead + np.where(position > stop[owner], stop[owner], np.maximum(position - 1, 0))
    data = value[np.where(is_control, 0, control_at)] & IS_DATA != 0
    keep = ~is_control & reached
    return _payload(words, word[keep], data[keep], chosen[owner[keep]])


def first_byte(words: Words, transactions: Transactions, first: NDArray[np.int64], chosen: NDArray[np.int64]) -> Payload:
    """The first byte is a command, what follows in its transaction are data."""
    word, owner, position, reached = _reached(words, transactions, first, chosen)
    return _payload(words, word[reached], position[reached] > 0, chosen[owner[reached]])


def plain(words: Words, transactions: Transactions, first: NDArray[np.int64], chosen: NDArray[np.int64]) -> Payload:
    """Every byte is a command of its own."""
    word, owner, _, reached = _reached(words, transactions, first, chosen)
    return _payload(words, word[reached], np.zeros(np.count_nonzero(reached), bool), chosen[owner[reached]])


def continued(words: Words, transactions: Transactions, first: NDArray[np.int64], chosen: NDArray[np.int64]) -> Payload:
    """Commands with their top bit set, a last one without, then data (PCF8576 datasheet, "Command decoder", bit C); commands come without that bit."""
    word, owner, position, reached = _reached(words, transactions, first, chosen)
    value = words.value[word]
    last = np.full(len(chosen), np.iinfo(np.int64).max)
    ends = value & 0x80 == 0
    np.minimum.at(last, owner[ends], position[ends])
    data = position > last[owner]
    out = _payload(words, word[reached], data[reached], chosen[owner[reached]])
    return replace(out, value=np.where(out.data, out.value, out.value & 0x7F).astype(np.uint8))


Framing = Callable[[Words, Transactions, NDArray[np.int64], NDArray[np.int64]], Payload]
