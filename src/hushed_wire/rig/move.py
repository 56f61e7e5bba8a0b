"""What a bus moves in one go, between what drivers send and the wires."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

__all__ = ["MARGIN", "REST", "TICK", "Move"]

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
