"""Framings: how a part tells command words from data words, as columns over the words of a bus.

I2C control byte (SSD1306 datasheet, 8.1.5.2): the first byte behind the address is Co, D/C# and six zeros. With Co = 0
all that follows up to the end of the transaction is of the kind that D/C# says; with Co = 1 one byte follows, then the next
control byte.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..bus.words import Columns, Transactions, Words
from .control import CONTINUES, IS_DATA, wrap_control_byte

__all__ = ["FRAMINGS", "Payload", "control_byte", "wrap_control_byte"]


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


def control_byte(words: Words, transactions: Transactions, first: NDArray[np.int64], chosen: NDArray[np.int64]) -> Payload:
    """The payload of the `chosen` transactions; `first` is the first word behind the address of each transaction.

    Refused words reach no part.
    """
    first, last = first[chosen], transactions.last[chosen]
    lengths = np.maximum(last - first, 0)
    owner = np.repeat(np.arange(len(chosen)), lengths)
    ahead = np.concatenate([[0], np.cumsum(lengths)[:-1]]) if len(lengths) else lengths
    position = np.arange(len(owner)) - ahead[owner]
    word = first[owner] + position
    value = words.value[word]
    # The first control byte (at an even position) with Co = 0 ends the alternation of its transaction.
    ends = (position % 2 == 0) & (value & CONTINUES == 0)
    stop = np.full(len(chosen), np.iinfo(np.int64).max)
    np.minimum.at(stop, owner[ends], position[ends])
    is_control = (position % 2 == 0) & (position <= stop[owner])
    control_at = ahead[owner] + np.where(position > stop[owner], stop[owner], np.maximum(position - 1, 0))
    data = value[np.where(is_control, 0, control_at)] & IS_DATA != 0
    # A word that is refused, and whatever its transaction brings after it, reaches no part.
    refused = np.full(len(chosen), np.iinfo(np.int64).max)
    nack = ~words.ack[word]
    np.minimum.at(refused, owner[nack], position[nack])
    keep = ~is_control & (position < refused[owner])
    word = word[keep]
    return Payload(
        value[keep].astype(np.uint8), data[keep], words.effect[word], words.start[word], words.end[word], chosen[owner[keep]]
    )


Framing = Callable[[Words, Transactions, NDArray[np.int64], NDArray[np.int64]], Payload]
FRAMINGS: dict[str, Framing] = {"i2c-control-byte": control_byte}
