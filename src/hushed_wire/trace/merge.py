"""Two traces as one: on a common tick, over the time that both cover, with unknowns kept."""

from __future__ import annotations

from fractions import Fraction
from math import gcd

import numpy as np

from ..errors import HushedError
from .model import Levels, Trace, word_type

__all__ = ["merge"]


def common_tick(a: Fraction, b: Fraction) -> Fraction:
    """The largest tick of which both are whole multiples."""
    return Fraction(gcd(a.numerator * b.denominator, b.numerator * a.denominator), a.denominator * b.denominator)


def merge(a: Trace, b: Trace) -> Trace:
    """The lines of `a`, then those of `b`; outside the time that a trace covers its lines are unknown.

    Raises HushedError where a name stands in both or the lines are too many.
    """
    double = set(a.names) & set(b.names)
    if double:
        raise HushedError(f"both traces have a line '{min(double)}'", remedy="rename one of them")
    tick = common_tick(a.tick, b.tick)
    factors = [int(trace.tick / tick) for trace in (a, b)]
    kind = word_type(len(a.names) + len(b.names))
    ends = [trace.end * factor for trace, factor in zip((a, b), factors, strict=True)]
    starts = [trace.start * factor for trace, factor in zip((a, b), factors, strict=True)]
    own = [trace.times * factor for trace, factor in zip((a, b), factors, strict=True)]
    closing = np.array([end for end in ends if end < max(ends)], dtype=np.int64)
    times = np.unique(np.concatenate([*own, closing]))
    levels = np.zeros(len(times), dtype=kind)
    unknown = np.zeros(len(times), dtype=kind)
    shift = 0
    for trace, at, start, end in zip((a, b), own, starts, ends, strict=True):
        ones = kind((1 << len(trace.names)) - 1)
        covered = (times >= start) & (times < end)
        entry = np.clip(np.searchsorted(at, times, side="right") - 1, 0, None)

        def spread(plane: Levels, entry: Levels = entry, covered: Levels = covered, shift: int = shift) -> Levels:
            out: Levels = np.where(covered, plane[entry].astype(kind), kind(0)) << kind(shift)
            return out

        levels |= spread(trace.levels)
        if trace.unknown is not None:
            unknown |= spread(trace.unknown)
        unknown |= np.where(covered, kind(0), ones) << kind(shift)
        shift += len(trace.names)
    return Trace(
        names=a.names + b.names,
        times=times,
        levels=levels,
        end=max(ends),
        tick=tick,
        unknown=unknown if unknown.any() else None,
        sample=max(a.sample * factors[0], b.sample * factors[1]),
        notes=a.notes + b.notes,
        volts=a.volts + b.volts if a.volts and b.volts else (),
    )
