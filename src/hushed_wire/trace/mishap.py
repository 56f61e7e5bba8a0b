"""Mishaps to wires: what happens to lines in life, done to a trace on purpose. They name what is done, not what is found."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..units import parse_amount
from .model import Times, Trace, fold

__all__ = [
    "drop_clock",
    "hang",
    "invert",
    "join",
    "lag",
    "late_start",
    "loose",
    "reverse",
    "slow_edge",
    "spike",
    "stuck",
    "swap",
    "times_of",
]


MOST_TIMES = 1_000_000  # that something happens


def times_of(text: str, what: str, example: str) -> int:
    """How often something happens."""
    if not (text.isdecimal() and text.isascii()):
        raise HushedError(f"'{text}' is not a number of {what}", remedy=f"like: --mishap {example}")
    if len(text) > 9 or int(text) > MOST_TIMES:
        raise HushedError(f"'{text}' is more than {MOST_TIMES:,} {what}", remedy=f"like: --mishap {example}")
    return int(text)


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
    """`spike:LINE,COUNT` or `spike:LINE,COUNT,WIDTH`: so many pulses against the line's level, at random times; 15 to 35 ns wide."""
    parts = [part.strip() for part in detail.split(",")]
    name, text = _parts(",".join(parts[:2]), 2, "spike:SCL,20")
    count = times_of(text, "spikes", "spike:SCL,20")
    wide = float(parse_amount(parts[2], "s")) if len(parts) > 2 else 25e-9
    random = np.random.default_rng(seed)
    line = trace.index(name)
    width = np.maximum(1, (random.uniform(0.6 * wide, 1.4 * wide, count) / float(trace.tick)).astype(np.int64))
    begin = np.sort(random.integers(trace.start + 1, max(trace.end - 1000, trace.start + 2), count))
    own = trace.edges(line)
    # Spikes that touch one another or an edge would make other pulses than those asked for.
    room = int((1.5 * wide + 25e-9) / float(trace.tick)) + 1
    clear = np.diff(begin, append=np.iinfo(np.int64).max) > 2 * room
    clear &= np.searchsorted(own.times, begin - room) == np.searchsorted(own.times, begin + width + room)
    begin, width = begin[clear], width[clear]
    level = own.level[np.maximum(np.searchsorted(own.times, begin, side="right") - 1, 0)]
    times = np.concatenate([own.times, begin, begin + width])
    values = np.concatenate([own.level, 1 - level, level])
    order = np.argsort(times, kind="stable")
    return _with_line(trace, line, times[order], values[order].astype(np.uint8))


def _with_line(trace: Trace, line: int, times: Times, values: NDArray[np.uint8]) -> Trace:
    """The trace with other changes of one line."""
    all_times, all_lines, all_values = [times], [np.full(len(times), line)], [values]
    for other in range(len(trace.names)):
        if other != line:
            edges = trace.edges(other)
            all_times.append(edges.times)
            all_lines.append(np.full(len(edges.times), other))
            all_values.append(edges.level)
    merged = np.concatenate(all_times)
    order = np.argsort(merged, kind="stable")
    changed, packed, unknown = fold(
        merged[order], np.concatenate(all_lines)[order], np.concatenate(all_values)[order].astype(np.uint8), len(trace.names)
    )
    return replace(trace, times=changed, levels=packed, unknown=unknown)


def join(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`join:LINE,LINE`: two wires touch. Whichever driver pulls low wins, as it does with most."""
    a, b = (trace.index(name) for name in _parts(detail, 2, "join:D5,D6"))
    kind = trace.levels.dtype.type
    both = (trace.levels >> kind(a)) & (trace.levels >> kind(b)) & kind(1)
    levels = trace.levels & ~(kind(1 << a) | kind(1 << b)) | both << kind(a) | both << kind(b)
    return replace(trace, levels=levels).select(list(range(len(trace.names))))


def invert(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`invert:LINE`: something on the way turns a line's level over."""
    (name,) = _parts(detail, 1, "invert:DC")
    bit = trace.levels.dtype.type(1 << trace.index(name))
    levels = trace.levels ^ bit if trace.unknown is None else np.where(trace.unknown & bit, trace.levels, trace.levels ^ bit)
    return replace(trace, levels=levels).select(list(range(len(trace.names))))


def reverse(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`reverse:LINE,LINE,…`: a connector with these wires sits the other way round."""
    names = [name.strip() for name in detail.split(",") if name.strip()]
    if len(names) < 2:
        raise HushedError(f"'{detail}' names fewer than two lines", remedy="like: --mishap reverse:D0,D1,D2,D3")
    lines = [trace.index(name) for name in names]
    order = list(range(len(trace.names)))
    for to, source in zip(lines, lines[::-1], strict=True):
        order[to] = source
    return trace.select(order, trace.names)


def lag(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`lag:LINE,TIME`: a slow driver or a long wire brings a line's edges so much later."""
    name, text = _parts(detail, 2, "lag:ROW0,50us")
    return _shifted(trace, name, text, ("rise", "fall"))


def slow_edge(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`slow-edge:LINE,TIME`: a line that rises slowly crosses the threshold so much later; it falls as fast as ever."""
    name, text = _parts(detail, 2, "slow-edge:SCL,600ns")
    return _shifted(trace, name, text, ("rise",))


def _shifted(trace: Trace, name: str, text: str, which: tuple[str, ...]) -> Trace:
    line, later = trace.index(name), trace.ticks(parse_amount(text, "s"))
    own = trace.edges(line)
    times = own.times.copy()
    moved = np.zeros(len(times), bool)
    for kind, level in (("rise", 1), ("fall", 0)):
        if kind in which:
            moved |= own.level == level
    moved[0] = False
    times[moved] += later
    keep = times < trace.end
    # A level that does not last as long as the delay never comes about.
    gone = np.append(times[1:] <= times[:-1], False)
    gone[0] = False
    keep &= ~(gone | np.append(False, gone[:-1]))
    return _with_line(trace, line, times[keep], own.level[keep])


def drop_clock(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`drop-clock:LINE,COUNT`: so many of a line's pulses never arrive, at random places."""
    name, text = _parts(detail, 2, "drop-clock:SCK,3")
    count = times_of(text, "pulses", "drop-clock:SCK,3")
    line = trace.index(name)
    own = trace.edges(line)
    pulses = np.arange(1, len(own.times) - 1, 2)
    if not len(pulses):
        raise HushedError(f"'{name}' has no pulses", remedy="name a line that moves")
    lost = np.random.default_rng(seed).choice(pulses, min(count, len(pulses)), replace=False)
    keep = np.ones(len(own.times), bool)
    keep[lost] = keep[lost + 1] = False
    return _with_line(trace, line, own.times[keep], own.level[keep])


def loose(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`loose:LINE,COUNT`: a contact opens so many times for 20 to 200 us, and the line is low meanwhile (high where it idles high)."""
    name, text = _parts(detail, 2, "loose:SDA,4")
    count = times_of(text, "contacts lost", "loose:SDA,4")
    random = np.random.default_rng(seed)
    line = trace.index(name)
    own = trace.edges(line)
    busy = own.times[1:]
    if not len(busy):
        raise HushedError(f"'{name}' does not move", remedy="name a line that moves")
    begin = np.sort(random.choice(busy, count))
    end = begin + (random.uniform(20e-6, 200e-6, count) / float(trace.tick)).astype(np.int64)
    level = int(own.level[0]) & 1
    # Openings that overlap are one.
    reach = np.maximum.accumulate(end)
    fresh = np.append(True, begin[1:] > reach[:-1])[: len(begin)]
    begin, end = begin[fresh], reach[np.append(fresh[1:], True)[: len(begin)]]
    inside = np.searchsorted(begin, own.times, side="right") > np.searchsorted(end, own.times, side="right")
    back = trace.level_at(line, end)
    times = np.concatenate([own.times[~inside], begin, np.minimum(end, trace.end - 1)])
    values = np.concatenate([own.level[~inside], np.full(len(begin), level), back]).astype(np.uint8)
    order = np.argsort(times, kind="stable")
    return _with_line(trace, line, times[order], values[order])


def hang(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`hang:LINE,TIME`: a line is held low from that time on."""
    name, text = _parts(detail, 2, "hang:SDA,2ms")
    line, when = trace.index(name), trace.start + trace.ticks(parse_amount(text, "s"))
    if not trace.start < when < trace.end:
        raise HushedError(f"{text} is outside the capture", remedy="name a time within it")
    own = trace.edges(line)
    keep = own.times < when
    return _with_line(trace, line, np.append(own.times[keep], when), np.append(own.level[keep], 0).astype(np.uint8))


def late_start(trace: Trace, detail: str, seed: int = 0) -> Trace:
    """`late-start:TIME`: the capture starts so much later."""
    return trace.window(trace.start + trace.ticks(parse_amount(detail, "s")), trace.end)
