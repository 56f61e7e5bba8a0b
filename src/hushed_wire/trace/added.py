"""Variables that a decoder adds to a VCD: words as vectors, commands as text, so that any waveform viewer shows them.

IEEE 1364 knows no text; eight bits a letter in a vector is what viewers show as text when asked to.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

__all__ = ["Added", "letters", "woven"]

LETTERS = 32


class Added(msgspec.Struct):
    """name, bits: of the variable. times: (n,) ticks, ascending. values: its value from each on, as VCD writes vectors ("b0101")."""

    name: str
    bits: int
    times: NDArray[np.int64]
    values: list[str]


def letters(text: str) -> str:
    """A text as a vector of `LETTERS` letters."""
    raw = text.encode("ascii", "replace")[:LETTERS].ljust(LETTERS, b"\0")
    return "b" + "".join(f"{byte:08b}" for byte in raw)


def woven(
    rows: bytes, starts: NDArray[np.int64], times: NDArray[np.int64], events: list[tuple[int, str]], last: bool
) -> Iterator[bytes]:
    """A block of a VCD's body with events in it. starts: byte at which the row of each of `times` begins. events: (time, line), taken

    from the front as far as the block goes.
    """
    at = 0
    until = None if last else int(times[-1])
    while events and (until is None or events[0][0] <= until):
        when = events[0][0]
        lines = []
        while events and events[0][0] == when:
            lines.append(events.pop(0)[1])
        row = int(np.searchsorted(times, when, side="right"))
        cut = int(starts[row]) if row < len(starts) else len(rows)
        same = row > 0 and int(times[row - 1]) == when
        yield rows[at:cut] + ("" if same else f"#{when}\n").encode() + "".join(f"{line}\n" for line in lines).encode()
        at = cut
    yield rows[at:]
