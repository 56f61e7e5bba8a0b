"""What a bus moves in one go, between what drivers send and the wires."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    from .scan_roles import Lamps

__all__ = ["MARGIN", "REST", "TICK", "Move", "Pace", "begins"]

TICK = Fraction(1, 10**9)
REST = Fraction(20, 10**6)  # a driver's pause between two transfers
MARGIN = Fraction(5, 4)  # on the parts' minimum times


@dataclass
class Move:
    """What a bus moves in one go. words: (n,) as the bus has them. data: (n,) level of D/C or RS. gap: ticks of rest ahead.

    pauses: (n,) ticks of rest behind each word. bits: of a word. device: whom it is for. levels: lines beside the bus that are
    set ahead of it (a move may be nothing else).
    """

    device: str
    words: NDArray[np.uint32] = field(default_factory=lambda: np.empty(0, np.uint32))
    data: NDArray[np.bool_] = field(default_factory=lambda: np.empty(0, bool))
    gap: int = 0
    pauses: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, np.int64))
    bits: int = 8
    chips: int = 0
    select: str = ""
    address: int | None = None
    levels: tuple[tuple[str, bool], ...] = ()
    lasts: int = 0  # ticks for which a scanned display shows it
    busy: int = 0  # ticks for which the part says behind it that it takes nothing


@dataclass(frozen=True)
class Pace:
    """How fast a driver sends. asked: clock that is asked for, Hz. clock: the rig's. fastest: the part's limit. None where nothing says.

    least: by what is measured on the bus (`Measure.what`), the part's minimum time in seconds. lamps, pictures: of scanned LEDs, how lines
    light them, and the (rows, columns) that a move's words are.
    """

    asked: Fraction | None = None
    clock: Fraction | None = None
    fastest: Fraction | None = None
    least: Mapping[str, Fraction] = field(default_factory=dict)
    lamps: Lamps | None = None
    pictures: Callable[[Move], NDArray[Any]] | None = None

    def longest(self, *measured: str) -> Fraction:
        """The longest of some minimum times, with a margin."""
        return max([self.least[what] * MARGIN for what in measured if what in self.least] or [Fraction(0)])

    def serial_clock(self, usual: Fraction) -> Fraction:
        """The clock of a serial bus: as asked for, as the rig says, or what the part allows with a margin, at most a usual rate."""
        return self.asked or self.clock or min(self.fastest / MARGIN if self.fastest else usual, usual)


def begins(moves: list[Move], took: NDArray[np.int64], lead: int) -> NDArray[np.int64]:
    """(m,) the tick at which each move begins. took: (m,) ticks that each takes."""
    gaps = np.array([move.gap for move in moves], np.int64)
    return lead + np.cumsum(gaps) + np.concatenate([[0], np.cumsum(took)[:-1]]) if len(moves) else np.empty(0, np.int64)
