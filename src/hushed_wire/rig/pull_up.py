"""The pull-up of an open-drain bus: the lowest and the highest that supply, capacitance and speed allow, and the rise that a given one makes.

I2C-bus specification (UM10204), 7.1: lowest (VDD - 0.4 V) / 3 mA, highest tr / (0.8473 Cb); the rise time of a given one is 0.8473 R Cb.
"""

from __future__ import annotations

from typing import NamedTuple

__all__ = ["PullUpRange", "pull_up_range", "sunk"]

SINK, LOW = 3e-3, 0.4  # A at VOL = 0.4 V, Standard- and Fast-mode
RC = 0.8473  # rise from 0.3 to 0.7 VDD, as a share of R x C
RISE = ((100e3, 1000e-9), (400e3, 300e-9), (1e6, 120e-9))  # tr at most, by clock: the table of the SDA and SCL bus lines


class PullUpRange(NamedTuple):
    """lowest, highest: ohms. rise: seconds that the given one makes; allowed: that the clock allows."""

    lowest: float
    highest: float
    rise: float
    allowed: float


def pull_up_range(supply: float, given: float, load: float, clock: float) -> PullUpRange:
    """supply: volts. given: ohms. load: farads. clock: Hz."""
    allowed = next((rise for most, rise in RISE if clock <= most * 1.02), RISE[-1][1])
    return PullUpRange((supply - LOW) / SINK, allowed / (RC * load), RC * given * load, allowed)


def sunk(supply: float, given: float) -> float:
    """Amperes that a driver sinks while it holds the line low."""
    return (supply - LOW) / given
