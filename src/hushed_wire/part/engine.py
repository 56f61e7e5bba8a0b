"""The description engine: payload to commands, by a part's table.

Strategy: the payload falls into runs of command words and of data words. Command runs repeat (every frame sets the same
window), so each distinct run is parsed once and remembered; data runs are never looked into. A command whose parameters
come in a later transaction is put together, since the controller does so too.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from .describe import Command, Part, Value
from .framing import Payload

__all__ = ["DATA", "TRUNCATED", "UNKNOWN", "Commands", "commands"]

UNKNOWN, DATA, TRUNCATED = -1, -2, -3  # kinds besides the index of a command


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

    def listed(self) -> Iterator[tuple[int, Command | None, bytes]]:
        """index, command (None for the special kinds) and bytes of each, in order."""
        for index in range(len(self)):
            kind = int(self.kind[index])
            yield index, self.part.command[kind] if kind >= 0 else None, self.bytes_of(index)


NAMES = {UNKNOWN: "unknown", DATA: "data", TRUNCATED: "truncated"}


class Parser:
    """Splits runs of command words by a part's table, remembering every distinct run."""

    def __init__(self, part: Part) -> None:
        self.table = part.table.tolist()
        self.length = [command.length for command in part.command]
        self.known: dict[bytes, tuple[list[int], list[int], int]] = {}

    def split(self, run: bytes) -> tuple[list[int], list[int], int]:
        """Kinds and lengths of the commands of a run, and how many words at its end wait for their parameters."""
        if run not in self.known:
            kinds, counts, at = [], [], 0
            while at < len(run):
                kind = self.table[run[at]]
                count = self.length[kind] if kind >= 0 else 1
                if at + count > len(run):
                    break
                kinds.append(kind)
                counts.append(count)
                at += count
            self.known[run] = kinds, counts, len(run) - at
        return self.known[run]


def commands(part: Part, payload: Payload) -> Commands:
    """The commands that a part makes of its payload."""
    parser = Parser(part)
    n = len(payload)
    kinds: list[int] = []
    firsts: list[int] = []
    counts: list[int] = []
    if n:
        # Runs end where command and data change; a data run also at the end of its transaction.
        edge = payload.data[1:] != payload.data[:-1]
        edge |= payload.data[1:] & (payload.transaction[1:] != payload.transaction[:-1])
        starts = np.concatenate([[0], np.flatnonzero(edge) + 1])
        ends = np.append(starts[1:], n)
        raw = payload.value.tobytes()
        for start, end, is_data in zip(starts.tolist(), ends.tolist(), payload.data[starts].tolist(), strict=True):
            if is_data:
                kinds.append(DATA)
                firsts.append(start)
                counts.append(end - start)
                continue
            own, lengths, rest = parser.split(raw[start:end])
            kinds += own
            counts += lengths
            at = start
            for length in lengths:
                firsts.append(at)
                at += length
            if rest:
                kinds.append(TRUNCATED)
                firsts.append(at)
                counts.append(rest)
    return Commands(part, payload, np.array(kinds, np.int16), np.array(firsts, np.int64), np.array(counts, np.int64))
