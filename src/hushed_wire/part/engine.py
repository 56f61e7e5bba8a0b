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
from .split import DATA, TRUNCATED, UNKNOWN, Splitter

__all__ = ["DATA", "TRUNCATED", "UNKNOWN", "Commands", "commands"]


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


def commands(part: Part, payload: Payload) -> Commands:
    """The commands that a part makes of its payload."""
    splitter = Splitter(part)
    if len(payload):
        # Runs end where command and data change; a data run also at the end of its transaction.
        edge = payload.data[1:] != payload.data[:-1]
        edge |= payload.data[1:] & (payload.transaction[1:] != payload.transaction[:-1])
        starts = np.concatenate([[0], np.flatnonzero(edge) + 1])
        ends = np.append(starts[1:], len(payload))
        runs = zip(payload.data[starts].tolist(), starts.tolist(), ends.tolist(), strict=True)
        splitter.feed(payload.value.tobytes(), runs)
    return Commands(
        part,
        payload,
        np.array(splitter.kinds, np.int16),
        np.array(splitter.firsts, np.int64),
        np.array(splitter.counts, np.int64),
    )
