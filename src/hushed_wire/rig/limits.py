"""A part's limits as times on a kind of bus, in plain Python."""

from __future__ import annotations

from fractions import Fraction

from ..bus.base import BusKind
from ..part.describe import Part
from ..units import parse

__all__ = ["limits_of"]


def limits_of(part: Part, kind: BusKind) -> dict[str, Fraction]:
    """A part's limits on a kind of bus: by what is measured the longest minimum time, in seconds; of rates the shortest period."""
    out: dict[str, Fraction] = {}
    for symbol, measure in kind.measures.items():
        if symbol in part.limits:
            value = parse(part.limits[symbol], measure.unit)
            seconds = 1 / value if measure.unit == "Hz" else value
            out[measure.what] = max(seconds, out.get(measure.what, seconds))
    return out
