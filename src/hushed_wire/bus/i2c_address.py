"""Who an I2C transaction is for, as columns: addresses of 7 and 10 bits, direction, whether it was answered.

A first byte 11110xx announces a 10-bit address (I2C-bus specification, 3.1.11), but only when it is acknowledged and a second
byte follows: refused, it is far more often a 7-bit address that a driver shifted twice.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .words import CUT, Columns, Transactions, Words

__all__ = ["SEARCH", "Addresses", "addresses", "refused"]

SEARCH = 9  # so many addresses tried in vain are a search for devices, not calls of one


@dataclass(eq=False)
class Addresses(Columns):
    """address: (m,) -1 where none was seen. ten_bit, read, answered: (m,) bool. first: (m,) first word behind the address."""

    address: NDArray[np.int32]
    ten_bit: NDArray[np.bool_]
    read: NDArray[np.bool_]
    answered: NDArray[np.bool_]
    first: NDArray[np.int64]


def refused(words: Words, transactions: Transactions, who: Addresses) -> NDArray[np.bool_]:
    """(n,) words that were not acknowledged, but for the last of a read: a driver ends a read so on purpose."""
    out = ~words.ack
    out[transactions.last[who.read & who.answered] - 1] = False
    return out


def addresses(words: Words, transactions: Transactions) -> Addresses:
    """The addresses of all transactions, (m,)."""
    count = transactions.last - transactions.first
    known = (transactions.began != CUT) & (count > 0)
    if not len(words):
        none = np.zeros(len(transactions), dtype=bool)
        return Addresses(np.full(len(none), -1, np.int32), none, none, none, transactions.first)
    at = np.minimum(transactions.first, len(words) - 1)
    byte, ack = words.value[at].astype(np.int32), words.ack[at]
    known &= ~words.unclear[at]
    read = byte & 1 == 1
    prefix = known & (byte & 0xF8 == 0xF0) & ack
    written = prefix & ~read & (count > 1)
    second = words.value[np.minimum(at + 1, len(words) - 1)].astype(np.int32)
    ten = (byte >> 1 & 3) << 8 | second
    # A 10-bit read repeats only the prefix; its low byte is that of the last 10-bit write.
    last_write = np.maximum.accumulate(np.where(written, np.arange(len(byte)), -1))
    reread = prefix & read & (last_write >= 0)
    reread &= (byte >> 1 & 3) == (byte[np.maximum(last_write, 0)] >> 1 & 3)
    address = np.where(written, ten, np.where(reread, ten[np.maximum(last_write, 0)], byte >> 1))
    answered = np.where(written, ack & words.ack[np.minimum(at + 1, len(words) - 1)], ack)
    first = transactions.first + np.where(known, 1 + written, 0)
    return Addresses(
        np.where(known, address, -1).astype(np.int32),
        written | reread,
        read & known,
        answered & known,
        np.minimum(first, transactions.last),
    )
