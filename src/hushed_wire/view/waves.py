"""A stretch of a capture as plain numbers, for a page that draws it: edges of its lines, boxes of words and commands, and where findings are."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from ..harmless import harmless
from ..trace import Trace
from .scene import ADDRESS, BYTE, COMMAND, DATA, REFUSED, SPANS, Boxes, Scene

__all__ = ["waves", "widest"]

MOST_EDGES, MOST_BOXES = 12_000, 3_000  # of all lines, and of a lane: what a browser draws without a wait
SHORTEST = 1e-9  # seconds of a stretch
FILLS = {ADDRESS: "address", BYTE: "byte", REFUSED: "refused", COMMAND: "command", DATA: "data"}
SEVERITY = {colour: severity for severity, colour in SPANS.items()}


def waves(scene: Scene, focus: tuple[float, float]) -> dict[str, Any]:
    """The widest stretch around a focus (seconds) that is not too much. Times are in microseconds from its start, `origin` seconds."""
    trace = scene.trace
    span = trace.seconds(trace.start), trace.seconds(trace.end)
    low, high = _stretch(span, focus, lambda low, high: _boxed(scene, low, high) and _edges(trace, low, high) <= MOST_EDGES)
    cut = trace.window(trace.ticks(low), max(trace.ticks(low) + 1, trace.ticks(high)))
    lines = []
    for line, role in scene.roles.items():
        edges = cut.edges(line)
        times = (edges.times - cut.start) * (float(trace.tick) * 1e6)
        name = harmless(trace.names[line])
        lines.append({"name": name, "role": role.upper(), "times": np.round(times, 4).tolist(), "levels": edges.level.tolist()})
    begin, end = trace.seconds(cut.start), trace.seconds(cut.end)
    focus = max(begin, focus[0]), min(end, focus[1])
    spans = [
        [_us(start - begin), _us(max(end, start) - begin), SEVERITY[colour]]
        for start, end, colour in scene.spans
        if end >= low and start <= high
    ]
    return {
        "origin": begin,
        "length": _us(end - begin),
        "focus": [_us(focus[0] - begin), _us(focus[1] - begin)],
        "whole": (begin, end) == scene.span,
        "lines": lines,
        "lanes": [{"title": lane.title, "boxes": _boxes(lane, low, high, begin)} for lane in scene.lanes],
        "spans": spans,
    }


def widest(scene: Scene, focus: tuple[float, float]) -> tuple[float, float]:
    """The widest stretch around a focus (seconds) in which no lane has too much: what has to be known of the capture to draw waves."""
    return _stretch(scene.span, focus, lambda low, high: _boxed(scene, low, high))


def _us(seconds: float) -> float:
    return round(seconds * 1e6, 4)


def _stretch(span: tuple[float, float], focus: tuple[float, float], fits: Callable[[float, float], bool]) -> tuple[float, float]:
    """From the focus outwards, doubled as long as it is not too much; of a focus that is too much, what it begins with."""
    first, last = span
    low, high = max(first, focus[0]), min(last, max(focus[1], focus[0]))
    while not fits(low, high) and high - low > SHORTEST:
        high = low + (high - low) / 2
    while low > first or high < last:
        room = max(high - low, SHORTEST)
        wider = max(first, low - room), min(last, high + room)
        if not fits(*wider):
            break
        low, high = wider
    return low, high


def _boxed(scene: Scene, low: float, high: float) -> bool:
    """Whether no lane has too many boxes in a stretch."""
    return max((_count(lane, low, high) for lane in scene.lanes), default=0) <= MOST_BOXES


def _edges(trace: Trace, low: float, high: float) -> int:
    return int(np.diff(np.searchsorted(trace.times, [trace.ticks(low), trace.ticks(high)]))[0])


def _count(lane: Boxes, low: float, high: float) -> int:
    return int(lane.start.searchsorted(high) - lane.end.searchsorted(low))


def _boxes(lane: Boxes, low: float, high: float, begin: float) -> list[list[Any]]:
    first, last = int(lane.end.searchsorted(low)), int(lane.start.searchsorted(high))
    return [
        [
            _us(float(lane.start[k : k + 1][0]) - begin),
            _us(float(lane.end[k : k + 1][0]) - begin),
            FILLS.get(int(lane.fill[k]), "byte"),
            harmless(lane.label(k)[0]),
        ]
        for k in range(first, min(last, first + MOST_BOXES))
    ]
