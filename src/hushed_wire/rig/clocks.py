"""How fast the buses of a rig go, for times that nothing has measured yet."""

from __future__ import annotations

from fractions import Fraction

from ..part.wrap import WRAPS
from ..units import parse
from .schema import Rig

__all__ = ["USUAL", "clocks_of"]

USUAL = {
    "i2c": Fraction(400_000),
    "spi": Fraction(1_000_000),
    "parallel": Fraction(1_000_000),
    "shift": Fraction(1_000_000),
    "matrix": Fraction(100),
    "two-wire": Fraction(100_000),
    "pulse": Fraction(800_000),
}
WRITE = {"i2c": 20, "spi": 24, "shift": 10}  # bit times of one write to a bridge's outputs


def clocks_of(rig: Rig, given: Fraction | None = None) -> tuple[dict[str, Fraction], dict[str, int]]:
    """For each device the clock of its bus, and how many bit times of its bus a word costs behind bridges. given: a clock over the rig's."""
    clocks, states = {}, {}
    for device in rig.device:
        bus, bridges = rig.way_to(device)
        clocks[device.name] = given or (parse(bus.clock, "Hz", "clock") if bus.clock else None) or USUAL[bus.kind]
        if bridges:  # set up, pulse up, pulse down: three writes a word, two words a byte where nibbles go
            nibbles = 2 if WRAPS[rig.target(device).framing].halves else 1
            states[device.name] = 3 * nibbles * WRITE.get(bus.kind, 1)
    return clocks, states
