"""The records of `stream` for buses other than I2C: each channel holds one block and the transaction that is open."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import replace
from fractions import Fraction
from typing import Any

import numpy as np

from ..bus import parallel, shift, spi
from ..bus.words import BEGAN, CUT, END, Marks, Transactions, Words, transactions
from ..errors import HushedError
from ..rig.channel import LONGEST, Channel, Runs, in_pieces
from ..rig.schema import Bus
from ..rig.shaped import shaped
from ..trace import Source, Trace
from ..trace.model import Samples, joined
from .json_text import json_bytes
from .stream import Told, json_lines
from .transfers import transfers

__all__ = ["known_shape", "word_records"]


class _Open:
    """The transactions of one channel as they become complete; a long one comes in records of `LONGEST` words."""

    def __init__(self, bus: str, kind: str, select: str, bits: int) -> None:
        self.bus, self.kind, self.select, self.bits = bus, kind, select, bits
        self.words: Words | None = None
        self.columns: dict[str, Any] = {}
        self.marks: Marks | None = None
        self.base = 0

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
        channel = Channel(self.bus, self.kind, self.select, words, closed, self.bits, **columns)
        self.words = words.take(slice(done, None))
        self.columns = {key: None if value is None else value[done:] for key, value in columns.items()}
        self.base += done
        self.marks = replace(keep, word=keep.word + self.base - done)
        return channel


def known_shape(source: Source, bus: Bus) -> dict[str, str]:
    """Sets how a bus is clocked by the beginning of a capture, and says what it set."""
    roles = {role: source.names.index(line) for role, line in bus.lines.items()}
    waiting: list[Trace] = []
    for block in source.blocks():
        waiting.append(block)
        if sum(map(len, waiting)) >= FIRST:
            break
    assumed: dict[str, str] = {}
    _begun(waiting, bus, roles, assumed)
    return assumed


def word_records(
    source: Source,
    bus: Bus,
    notes: list[Any],
    summary_only: bool = False,
    known: dict[str, str] | None = None,
    told: Told = json_lines,
) -> Iterator[bytes]:
    """The records of an SPI, parallel or shift bus, in pieces, the last one the summary; what the reader noted goes to `notes`.

    known: what was assumed, where it was worked out before how the bus is clocked. told: transactions as bytes.
    """
    empty = Trace(tuple(source.names), np.empty(0, np.int64), np.empty(0, np.uint8), 0, source.tick)
    roles = {role: empty.index(line) for role, line in bus.lines.items()}
    if len(set(roles.values())) < len(roles):
        raise HushedError("one line plays two roles", where="--line", remedy="give each role a line of its own")
    hearers = [] if known is None else _hearers(bus, roles)
    waiting: list[Trace] = []
    assumed: dict[str, str] = known or {}
    counts = {"transactions": 0, "words": 0}
    tick = source.tick.as_integer_ratio()
    last: Trace | Samples | None = None
    for block in source.pieces():
        last = block
        now: list[Trace | Samples] = [block]
        if not hearers:  # how the bus is clocked shows with the first words
            waiting.append(block if isinstance(block, Trace) else block.trace())
            if sum(map(len, waiting)) < FIRST:
                continue
            hearers = _begun(waiting, bus, roles, assumed)
            now, waiting = [*waiting], []
        for each in now:
            out = _encoded(told, [piece for hearer in hearers for piece in hearer(each)], tick, counts, summary_only)
            if out:
                yield out
    if not hearers and waiting:
        hearers = _begun(waiting, bus, roles, assumed)
    for end in [*waiting, None]:
        yield _encoded(told, [piece for hearer in hearers for piece in hearer(end)], tick, counts, summary_only)
    if last is not None:
        notes += last.notes
    yield json_bytes({"record": "summary", **counts, "assumed": assumed}, pretty=False)


def _begun(waiting: list[Trace], bus: Bus, roles: dict[str, int], assumed: dict[str, str]) -> list[Hearer]:
    """What decodes a bus, as its first blocks show that it is clocked."""
    seen = joined(waiting)
    if len(seen) > FIRST:  # so that nothing depends on the size of blocks
        seen = seen.window(seen.start, int(seen.times[FIRST]))
    shaped(seen, bus, assumed)
    if bus.kind == "shift":
        bits = -(-shift.chain_length(seen, roles) // 8) * 8
        return [_shift(bus, roles, bits)]
    return _hearers(bus, roles)


def _encoded(told: Told, pieces: list[Channel], tick: tuple[int, int], counts: dict[str, int], brief: bool) -> bytes:
    out = b""
    for channel in pieces:
        counts["transactions"] += len(in_pieces(channel.words, channel.table))
        counts["words"] += int((channel.table.last - channel.table.first).sum())
        if not brief and len(channel.table):
            out += told(transfers(channel, tick))
    return out


Hearer = Callable[[Trace | Samples | None], list[Channel]]


def _hearers(bus: Bus, roles: dict[str, int]) -> list[Hearer]:
    """For each channel of a bus what makes its transactions of blocks, and of the end of the capture (None)."""
    if bus.kind == "spi":
        selects: list[str] = [role for role in ("cs", "cs1", "cs2", "cs3") if role in roles]
        return [_spi(bus, roles, role) for role in selects or [""]]
    return [_parallel(bus, roles)]


def _spi(bus: Bus, roles: dict[str, int], select: str) -> Hearer:
    bits = bus.bits or 8
    shape = spi.Shape(bits, 1, 0, 0, bus.mode, bus.order == "msb", 1 if bus.select == "high" else 0)
    decoder = spi.Decoder(roles["sck"], roles["mosi"], shape, roles.get(select), roles.get("dc"), roles.get("miso"))
    store = _Open(bus.name, "spi", select, bits)

    def hear(block: Trace | Samples | None) -> list[Channel]:
        piece = decoder.finish() if block is None else decoder.feed(block)
        return [store.take(piece.words, piece.marks, dc=piece.dc, answers=piece.answers)]

    return hear


def _parallel(bus: Bus, roles: dict[str, int]) -> Hearer:
    decoder, open_runs = parallel.Decoder(roles, 1 if bus.select == "high" else 0), Runs()
    nibbles, bits = parallel.data_lines(roles)

    def hear(block: Trace | Samples | None) -> list[Channel]:
        found = decoder.feed(block if block is not None else _nothing())
        words = replace(found.words, value=found.words.value >> 4) if nibbles else found.words
        words, table, (data, read, _) = open_runs.feed(words, found.data, found.read, found.chips, last=block is None)
        return [Channel(bus.name, "parallel", "", words, table, bits, data if "rs" in roles else None, read)]

    return hear


def _shift(bus: Bus, roles: dict[str, int], bits: int) -> Hearer:
    decoder = shift.Decoder(roles, shift.Chain(bits, 1, bus.order == "msb"))
    open_runs, number = Runs(), [0]

    def hear(block: Trace | Samples | None) -> list[Channel]:
        words = decoder.feed(block if block is not None else _nothing())
        each = np.arange(number[0], number[0] + len(words))
        number[0] += len(words)
        words, table, _ = open_runs.feed(words, each, last=block is None)
        return [Channel(bus.name, "shift", "", words, table, bits)]

    return hear


FIRST = 2_000  # changes by which it is known how a bus is clocked


def _nothing() -> Trace:
    return Trace((), np.empty(0, np.int64), np.empty(0, np.uint8), 0, Fraction(1))
