"""Long rests left out of a figure: what was said lies close together, and each place where time was left out is marked.

Strategy: a rest is a stretch in which no line moves. Long ones are made as short as a mark needs; all times of a scene go through one map,
which is straight between the rests, so everything that draws a scene draws a folded one, too.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .scene import Scene

__all__ = ["Folds", "folded"]

SHARE = 0.02  # of the window: shorter rests stay
LONG = 20  # times as long as the usual step from change to change
MARK = 1 / 40  # of what is left: as wide a fold is drawn


@dataclass(frozen=True, eq=False)
class Folds:
    """real, drawn: (n,) seconds, ascending, between which time goes straight. rests: (k, 2) where the folds begin and end, as drawn.

    lasts: (k,) seconds that each of them lasts in truth.
    """

    real: NDArray[np.float64]
    drawn: NDArray[np.float64]
    rests: NDArray[np.float64]
    lasts: NDArray[np.float64]

    def to(self, seconds: NDArray[Any]) -> NDArray[np.float64]:
        """As drawn."""
        out: NDArray[np.float64] = np.interp(seconds, self.real, self.drawn)
        return out

    def back(self, drawn: float) -> float:
        """In truth."""
        return float(np.interp(drawn, self.drawn, self.real))

    @property
    def stretches(self) -> list[tuple[float, float]]:
        """What is drawn between the folds, from and to."""
        edges = [float(self.drawn[1]), *self.rests.reshape(-1).tolist(), float(self.drawn[-2])]
        pairs = zip(edges[0::2], edges[1::2], strict=True)
        return [(begin, end) for begin, end in pairs if end > begin]


def folded(scene: Scene, window: tuple[float, float]) -> tuple[Scene, Folds] | None:
    """A scene with the long rests of a window folded, and how; None where there is none."""
    trace = scene.trace
    low, high = window
    moves = trace.times * (trace.tick.numerator / trace.tick.denominator)
    moves = np.concatenate([[low], moves[(moves > low) & (moves < high)], [high]])
    steps = np.diff(moves)
    long = np.flatnonzero((steps > SHARE * (high - low)) & (steps > LONG * np.median(steps)))
    if not len(long) or len(steps) < 4:
        return None
    busy = float((high - low) - steps[long].sum())
    kept = np.minimum(np.full(len(long), max(busy, 1e-9) * MARK), steps[long])
    real, drawn, at = [low], [0.0], 0.0
    rests = []
    for number, keep in zip(long.tolist(), kept.tolist(), strict=True):
        at += float(moves[number]) - real[-1]
        rests.append((at, at + keep))
        real += [float(moves[number]), float(moves[number + 1])]
        drawn += [at, at + keep]
        at += keep
    real.append(high)
    drawn.append(at + high - real[-2])
    # What lies outside the window stays outside.
    before, behind = trace.seconds(trace.start), trace.seconds(trace.end)
    folds = Folds(
        np.array([min(before, low) - 1, *real, max(behind, high) + 1]),
        np.array([min(before, low) - 1 - low, *drawn, drawn[-1] + max(behind, high) + 1 - high]),
        np.array(rests), steps[long],
    )  # fmt: skip
    return _through(scene, folds), folds


def _through(scene: Scene, folds: Folds) -> Scene:
    """Every time of a scene as it is drawn; ticks are of a nanosecond or of the trace's own, whichever is shorter."""
    trace = scene.trace
    tick = trace.tick
    times = np.round(folds.to(trace.times * float(tick)) / float(tick)).astype(np.int64)
    end = round(float(folds.to(np.array([trace.end * float(tick)]))[0]) / float(tick))
    lanes = [replace(lane, start=folds.to(np.asarray(lane.start)), end=folds.to(np.asarray(lane.end))) for lane in scene.lanes]
    spans = [(float(folds.to(np.array([a]))[0]), float(folds.to(np.array([b]))[0]), colour) for a, b, colour in scene.spans]
    marks = folds.to(scene.marks[0]), scene.marks[1]
    return replace(
        scene, trace=replace(trace, times=times, end=max(end, int(times[-1]) + 1)), lanes=lanes, spans=spans, marks=marks
    )
