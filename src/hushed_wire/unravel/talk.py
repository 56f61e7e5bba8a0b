"""What a display was told, word by word, as a hypothesis of its bus reads it; and cut into steps: command words, and the data behind them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from ..bus.base import BUSES
from ..bus.channel import Channel
from ..bus.words import CUT, Words
from ..part.receive import RECEIVERS
from ..part.receiver import Seat
from ..rig import Rig, decode
from ..rig.schema import Bus
from ..trace import Trace

__all__ = ["Step", "Talk", "steps_of", "talk_of"]

MARKED = 0.95  # share of transfers that open with a control byte where all do
APART = 10  # times as long a rest as within a word, behind a half that stands alone
MOST_ALONE = 8  # halves ahead of the switch to them
FEWEST = 4  # words from which on something was said


@dataclass(frozen=True, eq=False)
class Talk:
    """value: (n,) words. data: (n,) marked as data; where nothing marks them, all behind the first word of a transfer. start, end: (n,) ticks.
    transfer: (n,). framing: as a part description names it. address: on I2C, whom it calls. switch: of words in halves, the halves that made it
    so and that came ahead, which stand alone; None where none came."""

    value: NDArray[np.uint8]
    data: NDArray[np.bool_]
    start: NDArray[np.int64]
    end: NDArray[np.int64]
    transfer: NDArray[np.int64]
    framing: str
    address: int | None = None
    switch: tuple[int, int] | None = None

    def __len__(self) -> int:
        return len(self.value)

    @property
    def marked(self) -> bool:
        """Whether a line, a bit or a control byte tells data from commands."""
        return self.framing not in ("i2c-first-byte", "register-pairs")


@dataclass(frozen=True)
class Step:
    """Command words, and the data words behind them up to the next command. start, end: ticks. first, last: of its words in the talk."""

    code: tuple[int, ...]
    args: bytes
    start: int
    end: int
    first: int
    last: int


def talk_of(trace: Trace, bus: Bus) -> Talk | None:
    """What is said to one display on a bus; None where nobody is spoken to, or in words that are not told apart yet."""
    channels = decode(trace, Rig(bus=[bus])).channels
    own = max(channels, key=lambda channel: len(channel.words), default=None)
    if own is None or len(own.words) < FEWEST:
        return None
    return _called(own) if BUSES[bus.kind].addressed else _selected(own, bus)


def _called(own: Channel) -> Talk | None:
    """On I2C: for whoever gets most."""
    who = own.who
    assert who is not None
    writes = who.answered & ~who.read
    if not writes.any():
        return None
    size = np.maximum(own.table.last - who.first, 0) * writes
    addresses = np.unique(who.address[writes])
    address = int(addresses[np.argmax([size[who.address == each].sum() for each in addresses])])
    first = who.first[writes & (who.address == address) & (size > 0)]
    opened = own.words.value[first] & 0x3F == 0
    framing = "i2c-control-byte" if len(first) and float(opened.mean()) >= MARKED else "i2c-first-byte"
    payloads = RECEIVERS[framing](Seat(framing, address)).take(own)
    if not payloads or len(payloads[0]) < FEWEST:
        return None
    got = payloads[0]
    data = got.data
    if framing == "i2c-first-byte":
        data = np.append(False, got.transaction[1:] == got.transaction[:-1])
    return Talk(got.value, data, got.start, got.end, got.transaction, framing, address)


def _selected(own: Channel, bus: Bus) -> Talk | None:
    """On buses with a select or a strobe."""
    words, table = own.words, own.table
    owner = np.repeat(np.arange(len(table)), table.last - table.first)
    if own.read is not None:
        keep = ~own.read
        if own.chips is not None:  # of several that share a glass, the first
            keep &= (own.chips == 0) | (own.chips & 1 == 1)
        words, owner = words.take(keep), owner[keep]
        dc = None if own.dc is None else own.dc[keep]
    else:
        dc = own.dc
    if "cs" in bus.lines and len(table) and int(table.began[0]) == CUT:  # nobody knows where its words begin
        behind = owner > 0
        words, owner, dc = words.take(behind), owner[behind], None if dc is None else dc[behind]
    if len(words) < FEWEST:
        return None
    if own.bits == 4:
        return None if dc is None else _paired(words, dc)
    if own.bits == 9:
        return Talk((words.value & 0xFF).astype(np.uint8), words.value >> 8 & 1 == 1, words.start, words.end, owner, "nine-bit")
    if dc is not None:
        framing = "rs-line" if BUSES[bus.kind].each_rests else "dc-line"
        return Talk((words.value & 0xFF).astype(np.uint8), dc == 1, words.start, words.end, owner, framing)
    if own.bits == 16:
        value = np.stack([words.value >> 8 & 0xFF, words.value & 0xFF], axis=1).reshape(-1).astype(np.uint8)
        twice = np.repeat(np.arange(len(words)), 2)
        data = np.tile([False, True], len(words))
        return Talk(value, data, words.start[twice], words.end[twice], np.arange(len(words))[twice], "register-pairs")
    data = np.append(False, owner[1:] == owner[:-1])
    pairs = bool((np.bincount(owner) == 2).all())
    framing = "register-pairs" if pairs else "i2c-first-byte"
    return Talk((words.value & 0xFF).astype(np.uint8), data, words.start, words.end, owner, framing)


def _paired(words: Words, dc: NDArray[np.uint8]) -> Talk | None:
    """Halves as words. Ahead of the switch to halves each stands alone; behind it they come in twos, so each run of commands or of data has an
    even number. None where no beginning makes that so."""
    cuts = np.append(np.flatnonzero(dc[1:] != dc[:-1]) + 1, len(dc))
    rests = words.start[1:] - words.end[:-1]
    apart = rests > APART * np.median(
        np.minimum(rests[::2][: len(rests) // 2], rests[1::2])
    )  # halves of one word come close together
    leading = int(np.argmin(apart)) if not apart.all() else len(apart)
    fitting = [k for k in range(min(leading, MOST_ALONE, int(cuts[0])) + 1) if not (np.diff(np.append(k, cuts)) % 2).any()]
    alone = max(fitting, default=None)
    if alone is None:
        return None
    value = words.value.astype(np.uint8)
    both = np.arange(alone, len(value) - 1, 2)
    first, last = np.append(np.arange(alone), both), np.append(np.arange(alone), both + 1)
    whole = np.append(value[:alone] << 4, value[both] << 4 | value[both + 1]).astype(np.uint8)
    switch = (int(value[alone - 1]), int(value[alone - 2])) if alone > 1 else None
    none = np.zeros(len(whole), np.int64)
    return Talk(whole, dc[first] == 1, words.start[first], words.end[last], none, "nibbles", switch=switch)


def steps_of(talk: Talk) -> list[Step]:
    """All steps; where nothing marks data each transfer is one."""
    if not len(talk):
        return []
    opens = ~talk.data & np.append(True, talk.data[:-1])
    if not talk.marked:
        opens = np.append(True, talk.transfer[1:] != talk.transfer[:-1])
    opens[0] = True
    begins = np.flatnonzero(opens)
    out = []
    for first, last in zip(begins.tolist(), np.append(begins[1:], len(talk)).tolist(), strict=True):
        own = slice(first, last)
        data = talk.data[own]
        code: Sequence[int] = talk.value[own][~data].tolist()
        out.append(
            Step(tuple(code), talk.value[own][data].tobytes(), int(talk.start[first]), int(talk.end[last - 1]), first, last)
        )
    return out
