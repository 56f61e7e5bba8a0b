"""The scan of a display without a chip: which rows are on when, and how long each LED lights."""

from __future__ import annotations

from dataclasses import dataclass, field
from fractions import Fraction

import numpy as np
from numpy.typing import NDArray

from ..trace.model import Times
from .scan_roles import Lamps

__all__ = ["Scan"]


@dataclass(eq=False)
class Scan:
    """start, end: (n,) ticks of the dwells. rows: (n,) mask of the rows (or groups) that are on. frames: (f + 1,) ticks.

    light: (f, rows, columns) share of each frame for which an LED was on. on: (f, row lines) the same of whole rows or groups.
    cycles: whether the scan goes round at all; without it the whole trace counts as one frame. bits: (n, columns) what is lit where
    a row is on (of grouped panels in the order in which bits go in). Of panels in colours: bits: (loads + 1, bytes) of each load,
    packed; load: (n,) of which a dwell is; colours: (f, rows, columns, 3) values from 0 to 255.
    """

    start: Times
    end: Times
    rows: NDArray[np.uint64]
    frames: Times
    light: NDArray[np.float32]
    on: NDArray[np.float32]
    cycles: bool
    bits: NDArray[np.uint8]
    lamps: Lamps = field(default_factory=Lamps)
    load: NDArray[np.int64] | None = None
    colours: NDArray[np.uint8] | None = None

    def lit(self) -> NDArray[np.bool_]:
        """(f, rows, columns) which LEDs light: those with an eighth of the brightest one's light, or more."""
        most = self.light.max(axis=(1, 2), keepdims=True) if self.light.size else self.light
        out: NDArray[np.bool_] = (self.light > most / 8) & (self.light > 0)
        return out

    def rate(self, tick: Fraction | float) -> float:
        """Frames a second; 0 where the scan does not go round. tick: seconds."""
        return 1 / (float(np.median(np.diff(self.frames))) * float(tick)) if self.cycles and len(self.frames) > 1 else 0.0

    def overlap(self) -> NDArray[np.bool_]:
        """(n,) dwells in which several rows are on at once."""
        out: NDArray[np.bool_] = (self.rows & (self.rows - np.uint64(1))) != 0
        return out
