"""What a capture holds, as records, while it is read: JSON Lines, JSON and CSV are all made of one stream, in memory that stays level.

Transactions of a channel come in order, and so do the commands of a device; how they stand between one another follows the reading.
"""

from __future__ import annotations

import csv
import io
import tempfile
from collections.abc import Callable, Iterator, Mapping
from itertools import chain
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..bus.channel import LONGEST, Channel
from ..bus.i2c_transactions import refused
from ..bus.scan import Scan
from ..harmless import hazardous, no_formula
from ..rig.decoder import Decoded, RigDecoder
from ..rig.schema import Rig
from ..rig.within import Within
from ..trace import Trace
from ..trace.model import Samples
from . import record
from .json_text import json_bytes
from .radix import spelled
from .rows import Row, Rows
from .transfers import calls, transfers

__all__ = ["Blocks", "Counts", "csv_pieces", "json_lines", "json_pieces", "pieces_of"]

ENCODER = msgspec.json.Encoder()
ADDRESSES = 1 + (1 << 10)  # none, and all of ten bits
Blocks = Iterator["Trace | Samples"]


class Counts:
    """What the summary says, added up piece by piece."""

    def __init__(self, rig: Rig, tick: float) -> None:
        self.tick = tick
        self.by_channel: dict[tuple[str, str], tuple[int, int]] = {}  # by bus and select: transactions and words
        self.kinds: dict[str, str] = {}
        self.called: dict[
            str, NDArray[np.int64]
        ] = {}  # by bus, (3, addresses): one more than an address: how often it was called, and answered; bytes behind it that were refused
        self.disturbed: dict[str, Any] = {}
        self.commands: dict[str, int] = {device.name: 0 for device in rig.device}
        self.data: dict[str, int] = {device.name: 0 for device in rig.device}
        self.scans: dict[str, Scan] = {}
        self.rig = rig
        self.notes: tuple[Any, ...] = ()
        self.end = 0
        self.start: int | None = None
        self.window: tuple[int, int] | None = None  # ticks, of which the rest is not told

    def see(self, block: Trace | Samples) -> None:
        """The time that a block covers, and what its reader noted."""
        self.start = block.start if self.start is None else self.start
        self.end, self.notes = block.end, block.notes

    @property
    def duration(self) -> float:
        """Seconds of the capture, or of the part of it that is told."""
        start, end = self.start or 0, self.end
        if self.window is not None:
            start, end = max(start, self.window[0]), min(end, self.window[1])
        return (end - start) * self.tick

    def add(self, piece: Decoded) -> None:
        """Counts a piece."""
        for own in piece.channels:
            lengths = own.table.last - own.table.first
            count = len(lengths) if own.who is not None else int(np.maximum(-(-lengths // LONGEST), 1).sum())
            known = self.by_channel.get((own.bus, own.select), (0, 0))
            self.by_channel[own.bus, own.select] = known[0] + count, known[1] + int(lengths.sum())
            self.kinds[own.bus] = own.kind
            if own.who is not None:
                called = self.called.setdefault(own.bus, np.zeros((3, ADDRESSES), np.int64))
                called[0] += np.bincount(own.who.address + 1, minlength=ADDRESSES)
                called[1] += np.bincount(own.who.address[own.who.answered] + 1, minlength=ADDRESSES)
                if not own.words.ack.all():
                    bad = refused(own.words, own.table, own.who)
                    bad[own.table.first[lengths > 0]] = False  # of addresses it is told whether they answered
                    owner = np.searchsorted(own.table.first, np.flatnonzero(bad), side="right") - 1
                    called[2] += np.bincount(own.who.address[owner] + 1, minlength=ADDRESSES)
                self.disturbed[own.bus] = own.passed_over
            if own.scan is not None:
                names = [device.name for device in self.rig.device if device.on == own.bus]
                self.scans |= {names[own.number]: own.scan} if own.number < len(names) else {}
        for told in piece.commands:
            self.commands[told.device] += int(np.count_nonzero(told.commands.kind >= 0))
            self.data[told.device] += int(np.count_nonzero(told.commands.payload.data))

    def addresses(self, bus: str) -> list[tuple[int, int, int, int]]:
        """Who was called on a bus: address (-1 where it was not captured), how often, how often it answered, how many bytes it refused."""
        called = self.called[bus]
        return [(at - 1, int(called[0, at]), int(called[1, at]), int(called[2, at])) for at in np.flatnonzero(called[0]).tolist()]

    def record(self, assumed: dict[str, str], told: int) -> dict[str, Any]:
        """The summary. told: how many commands there are among the records."""
        out: dict[str, Any] = {
            "transactions": sum(count for count, _ in self.by_channel.values()),
            "words": sum(count for _, count in self.by_channel.values()),
            "commands": told,
        }
        if self.called:
            who: dict[str, dict[str, int]] = {}
            for bus in self.called:
                for address, called, answered, missed in self.addresses(bus):
                    key = f"{address:#04x}" if address >= 0 else "unknown"
                    entry = who.setdefault(key, {"transactions": 0, "answered": 0, "refused_bytes": 0})
                    entry["refused_bytes"] += missed
                    entry["transactions"] += called
                    entry["answered"] += answered
            out["addresses"] = who
            out["spikes"] = {
                role: sum(over.spikes[side] for over in self.disturbed.values()) for side, role in enumerate(("scl", "sda"))
            }
            out["stray_clocks"] = sum(over.stray for over in self.disturbed.values())
        if self.scans:
            out["scans"] = {name: record.scan_record(scan, self.tick) for name, scan in self.scans.items()}
        return out | {"assumed": assumed}


def pieces_of(blocks: Blocks, decoder: RigDecoder | Within, counts: Counts) -> Iterator[Decoded]:
    """What becomes complete block by block, and the rest."""
    for block in blocks:
        counts.see(block)
        yield decoder.feed(block)
    yield decoder.finish()


def _begun(pieces: Iterator[Decoded]) -> Iterator[Decoded]:
    """The same, read up to the first that says anything: what cannot be read at all is told before anything is written."""
    ahead = []
    for piece in pieces:
        ahead.append(piece)
        if piece.commands or any(len(own.table) for own in piece.channels):
            break
    return chain(ahead, pieces)


class Records:
    """Transactions and commands of a piece as JSON Lines. told: commands so far."""

    def __init__(self, tick: tuple[int, int]) -> None:
        self.tick, self.told = tick, 0

    def transactions(self, piece: Decoded) -> bytes:
        """Those that it completes."""
        return b"".join(ENCODER.encode_lines(_structs(own, self.tick)) for own in piece.channels if len(own.table))

    def commands(self, piece: Decoded) -> bytes:
        """Those that it completes; long runs of data in pieces."""
        out = b""
        for told in piece.commands:
            listed = [{"record": "command", **one} for one in record.commands_told(told, self.tick)]
            self.told += sum("continued" not in one for one in listed)
            out += ENCODER.encode_lines(listed)
        return out

    def count(self, piece: Decoded) -> None:
        """Counts the commands, where nobody wants to see them."""
        for told in piece.commands:
            self.told += len(told.commands) - int(told.going_on)


def _structs(own: Channel, tick: tuple[int, int]) -> list[Any]:
    return calls(own.words, own.table, own.who, tick, own.bus) if own.who is not None else transfers(own, tick)


def json_lines(
    blocks: Blocks, decoder: RigDecoder | Within, counts: Counts, tick: tuple[int, int], assumed: dict[str, str], brief: bool
) -> Iterator[bytes]:
    """One object a line, the last one the summary. brief: only that."""
    records = Records(tick)
    for piece in pieces_of(blocks, decoder, counts):
        counts.add(piece)
        if brief:
            records.count(piece)
        elif out := records.transactions(piece) + records.commands(piece):
            yield out
    yield json_bytes({"record": "summary", **counts.record(assumed, records.told)}, pretty=False)


class _Entries:
    """Records of one kind, whole lines of them, as the entries of an array."""

    def __init__(self, kind: str) -> None:
        self.head, self.between = f'{{"record":"{kind}",'.encode(), b"\n"

    def of(self, lines: bytes) -> bytes:
        """The entries that these lines are, behind those before them."""
        body = lines.rstrip(b"\n").replace(b"\n" + self.head, b",\n{")
        out = self.between + b"{" + body[len(self.head) :]
        self.between = b",\n"
        return out


ROOM = 8 << 20  # bytes of commands that are held in memory until the transactions are out


def json_pieces(
    blocks: Blocks,
    decoder: RigDecoder | Within,
    counts: Counts,
    tick: tuple[int, int],
    assumed: dict[str, str],
    capture: Callable[[], dict[str, Any]],
    brief: bool,
) -> Iterator[bytes]:
    """One object: an entry a line, as JSON Lines have them. Commands wait in a file until all transactions are out. brief: counts instead."""
    if brief:
        records = Records(tick)
        for piece in pieces_of(blocks, decoder, counts):
            counts.add(piece)
            records.count(piece)
        yield json_bytes({"capture": capture(), **counts.record(assumed, records.told)})
        return
    records = Records(tick)
    transactions, commands = _Entries("transaction"), _Entries("command")
    with tempfile.SpooledTemporaryFile(ROOM) as store:
        pieces = _begun(pieces_of(blocks, decoder, counts))
        yield b'{"transactions": ['
        for piece in pieces:
            counts.add(piece)
            if lines := records.transactions(piece):
                yield transactions.of(lines)
            if lines := records.commands(piece):
                store.write(commands.of(lines))
        yield b'\n],\n"commands": ['
        store.seek(0)
        while chunk := store.read(1 << 20):
            yield chunk
    rest = {"capture": capture(), "assumed": assumed}
    yield b"\n],\n" + json_bytes(rest, pretty=False)[1:]


def json_of(lines: Iterator[bytes], capture: Callable[[], dict[str, Any]], assumed: Mapping[str, str]) -> Iterator[bytes]:
    """The same of JSON Lines in pieces of any size, which are transactions and a summary: what two processes made."""
    entries, kept = _Entries("transaction"), b""
    yield b'{"transactions": ['
    for piece in lines:
        kept += piece
        cut = kept.rfind(b"\n", 0, max(0, kept.rfind(b"\n"))) + 1  # the last whole line may be the summary
        if cut:
            yield entries.of(kept[:cut])
            kept = kept[cut:]
    yield b'\n],\n"commands": [\n],\n' + json_bytes({"capture": capture(), "assumed": assumed}, pretty=False)[1:]


CALLS = ["start", "end", "bus", "address", "direction", "answered", "bytes", "began", "ended", "meaning"]
WORDS = ["start", "end", "bus", "select", "address", "direction", "words", "data", "meaning"]
LEVELS = b"01" + b"?" * 254
SPELLED = (6, 7)  # columns of words as the radix spells them, spaces between: no formula, and left as they stand


def csv_pieces(
    blocks: Blocks, decoder: RigDecoder | Within, counts: Counts, tick: tuple[int, int], rig: Rig, radix: str, addressed: bool
) -> Iterator[bytes]:
    """A row for each transaction, what it means beside it. addressed: every bus has addresses, and they have columns of their own."""
    names, row_of = (CALLS, _call_row) if addressed else (WORDS, _word_row)
    pieces = _begun(pieces_of(blocks, decoder, counts))
    yield ",".join(names).encode() + b"\n"
    rows = Rows(rig, outside=True)
    rows.shown = {bus.name for bus in rig.bus} | {bridge.name for bridge in rig.bridge}
    rows.place_of = Rows(rig).place_of
    spelling: dict[int, list[str]] = {}
    for piece in pieces:
        counts.add(piece)
        done = rows.take(piece, decoder.waiting)
        if done:
            yield _csv([row_of(entry, row, radix, spelling) for row, entry in _with_entries(done, tick)])
    done = rows.take(Decoded(), None)
    if done:
        yield _csv([row_of(entry, row, radix, spelling) for row, entry in _with_entries(done, tick)])


def _with_entries(rows: list[Row], tick: tuple[int, int]) -> Iterator[tuple[Row, Any]]:
    """Rows with their records; those of one channel are made together."""
    made: dict[int, list[Any]] = {}
    for row in rows:
        key = id(row.channel)
        if key not in made:
            made[key] = _structs(row.channel, tick)
        yield row, made[key][row.index]


def _csv(rows: list[list[Any]]) -> bytes:
    out = io.StringIO()
    texts = {cell for row in rows for at, cell in enumerate(row) if isinstance(cell, str) and at not in SPELLED}
    if any(map(hazardous, texts)):  # seldom: cells are looked at one by one only then
        rows = [[cell if at in SPELLED else no_formula(cell) for at, cell in enumerate(row)] for row in rows]
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue().encode()


def _spelled(values: list[int], bits: int, radix: str, known: dict[int, list[str]]) -> str:
    """Words side by side; those of up to nine bits are looked up."""
    if bits > 9:
        return " ".join(spelled(value, bits, radix) for value in values)
    if bits not in known:
        known[bits] = [spelled(value, bits, radix) for value in range(1 << bits)]
    return " ".join(map(known[bits].__getitem__, values))


def _word_row(entry: Any, row: Row, radix: str, known: dict[int, list[str]]) -> list[Any]:
    """A transfer of any bus: words side by side, data marked by a column of their own."""
    own = row.channel
    words = entry.bytes if own.who is not None else entry.words
    address = entry.address if own.who is not None else None
    select, dc = ("", []) if own.who is not None else (entry.select or "", entry.dc or [])
    return [
        entry.start, entry.end, entry.bus, select, "" if address is None else f"{address:#04x}", entry.direction or "",
        _spelled(words, own.bits, radix, known), bytes(dc).translate(LEVELS).decode(), "; ".join(row.said),
    ]  # fmt: skip


def _call_row(entry: Any, row: Row, radix: str, known: dict[int, list[str]]) -> list[Any]:
    """An I2C transaction."""
    return [
        entry.start, entry.end, entry.bus, "" if entry.address is None else f"{entry.address:#04x}", entry.direction or "",
        "" if entry.acks[0] is None else str(entry.acks[0]).lower(), _spelled(entry.bytes, 8, radix, known), entry.began,
        entry.ended, "; ".join(row.said),
    ]  # fmt: skip
