"""How many words and transactions go over a parallel bus, without asking what they say: for summaries of long raw captures.

Strategy: the latching edges are looked for in the samples, into room that is used again for every piece; of each only its place and
the levels that part transactions are looked at. Whatever is counted here is what `parallel.Decoder` would have decoded.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Samples
from .channel import Runs, Wired
from .parallel import SELECTS
from .pieces import Pauses, States

__all__ = ["Tally", "tallies"]


def can_count(roles: dict[str, int]) -> bool:
    """Whether one line alone latches the words."""
    return not {"rd", "e2"} & roles.keys() and ("e" in roles) != ("wr" in roles)


class Tally:
    """Counts the words of one strobe; `feed(block)` then `finish()`, each giving the words of each transaction that ended."""

    def __init__(self, roles: dict[str, int], pauses: Pauses, select_active: int = 0) -> None:
        """roles: role to line number in the blocks. pauses: what parts transactions. select_active: the level that selects."""
        self.pauses, self.active = pauses, select_active
        self.rises = "wr" in roles
        self.strobe = roles["wr" if self.rises else "e"]
        self.select = 1 << roles["cs"] if "cs" in roles else 0
        parts = ("rs", *SELECTS) if self.rises else ("rs", "rw", *SELECTS)  # R/W is no line of an 8080 bus
        self.parts = sum(1 << roles[role] for role in parts if role in roles)
        self.states = States()
        self.last: int | None = None  # what the last word's lines of `parts` were
        self.open = 0  # words of the transaction that is open

    def feed(self, block: Samples) -> NDArray[np.int64]:
        """(n,) words of each transaction that ended within `block`."""
        self.states.feed(block)
        levels, kind = block.levels, block.levels.dtype.type
        at = self.states.to(self.strobe, int(self.rises))
        if self.select:
            at = at[((levels.take(at) & kind(self.select)) != 0) == bool(self.active)]
        if not len(at):
            return np.empty(0, np.int64)
        cuts = self.pauses.feed(at + block.start)
        cuts[0] |= self.last is None
        if self.parts:
            said = levels.take(at) & kind(self.parts)
            cuts[1:] |= said[1:] != said[:-1]
            cuts[0] |= int(said[0]) != self.last
            self.last = int(said[-1])
        else:
            self.last = 0
        begins = np.flatnonzero(cuts)
        counts = np.diff(begins, prepend=-self.open, append=len(at))
        self.open = int(counts[-1])
        return counts[:-1][counts[:-1] > 0]

    def finish(self) -> NDArray[np.int64]:
        """The words of the transaction that is still open, if one is."""
        return np.array([self.open] if self.open else [], np.int64)


def tallies(wired: Wired, runs: Runs | None = None) -> list[Tally]:
    """What counts the words of raw samples without reading one; nothing where they have to be read."""
    return [Tally(wired.roles, (runs or Runs()).pauses, wired.settings.active)] if can_count(wired.roles) else []
