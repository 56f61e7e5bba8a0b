"""Mishaps to wires: what happens to lines in life, done to a trace on purpose. They name what is done, not what is found."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ..errors import HushedError
from ..units import parse
from .model import Trace, fold

__all__ = ["late_start", "spike", "stuck", "swap"]


def _parts(detail: str, count: int, example: str) -> list[str]:
    parts = [part.strip() for part in detail.split(",")]
    if len(parts) != count or not all(parts):
        raise HushedError(f"'{detail}' is not what this mishap takes", remedy=f"like: --mishap {example}")
    return parts


def swap(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`swap:LINE,LINE`: two wires are exchanged."""
    a, b = (trace.index(name) for name in _parts(detail, 2, "swap:SCL,SDA"))
    order = list(range(len(trace.names)))
    order[a], order[b] = order[b], order[a]
    return trace.select(order, trace.names)


def stuck(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`stuck:LINE,low` or `stuck:LINE,high`: a line never leaves a level."""
    name, level = _parts(detail, 2, "stuck:SDA,low")
    if level not in ("low", "high"):
        raise HushedError(f"'{level}' is not a level", remedy="low or high, like --mishap stuck:SDA,low")
    bit = trace.levels.dtype.type(1 << trace.index(name))
    levels = trace.levels & ~bit if level == "low" else trace.levels | bit
    unknown = None if trace.unknown is None else trace.unknown & ~bit
    return replace(trace, levels=levels, unknown=unknown).select(list(range(len(trace.names))))


def spike(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`spike:LINE,COUNT`: so many pulses of 15 to 35 ns against the line's level, at random times."""
    name, text = _parts(detail, 2, "spike:SCL,20")
    if not text.isdigit():
        raise HushedError(f"'{text}' is not a number of spikes", remedy="like: --mishap spike:SCL,20")
    random = np.random.default_rng(seed)
    line = trace.index(name)
    width = np.maximum(1, (random.uniform(15e-9, 35e-9, int(text)) / float(trace.tick)).astype(np.int64))
    begin = np.sort(random.integers(trace.start + 1, max(trace.end - 1000, trace.start + 2), int(text)))
    own = trace.edges(line)
    # Spikes that touch one another or an edge would make other pulses than those asked for.
    room = int(100e-9 / float(trace.tick)) + 1
    clear = np.diff(begin, append=np.iinfo(np.int64).max) > 2 * room
    clear &= np.searchsorted(own.times, begin - room) == np.searchsorted(own.times, begin + width + room)
    begin, width = begin[clear], width[clear]
    level = own.level[np.maximum(np.searchsorted(own.times, begin, side="right") - 1, 0)]
    times, lines, values = [begin, begin + width], [line, line], [1 - level, level]
    for other in range(len(trace.names)):
        edges = trace.edges(other)
        times.append(edges.times)
        lines.append(other)
        values.append(edges.level)
    all_lines = np.concatenate([np.full(len(when), number) for when, number in zip(times, lines, strict=True)])
    all_times, all_values = np.concatenate(times), np.concatenate(values).astype(np.uint8)
    order = np.argsort(all_times, kind="stable")
    changed, packed, unknown = fold(all_times[order], all_lines[order], all_values[order], len(trace.names))
    return replace(trace, times=changed, levels=packed, unknown=unknown)


def late_start(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`late-start:TIME`: the capture starts so much later."""
    return trace.window(trace.start + trace.ticks(parse(detail, "s")), trace.end)
