"""The whole capture as a strip over a figure: where words go over the wires, where commands are and what was refused, where the findings are, and
which part of it is drawn below. Whatever is there takes a pixel or more, however long the capture is."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..units import show_time
from .scene import COMMAND, DATA, REFUSED, Boxes, Scene

if TYPE_CHECKING:
    from matplotlib.axes import Axes

__all__ = ["draw", "wanted"]

WHOLE = 0.98  # share of the capture from which on a window is all of it
CROWDED = 4.0  # pixels that a word has to have for the lanes to show each
WORDS, TOLD, AMBER, WRONG = "#1d5fa8", "#2f8f4e", "#d9a400", "#d6322c"
INK, QUIET = "#1f2a37", "#5a6675"
MARK = 8  # points of a finding's mark


def wanted(scene: Scene, window: tuple[float, float], pixels: float) -> bool:
    """Whether the figure of a window shows less than the capture holds: a part of it, or more words than it has room for."""
    start, end = scene.span
    if window[1] - window[0] < WHOLE * (end - start):
        return True
    return sum(len(boxes.start) for boxes in scene.lanes) * CROWDED > pixels * max(1, len(scene.lanes))


def draw(axis: Axes, scene: Scene, window: tuple[float, float], pixels: int) -> None:
    """Draws the strip."""
    start, end = scene.span
    columns = np.linspace(start, end, pixels + 1)
    image = np.zeros((2, pixels, 4))
    for boxes in scene.lanes:
        if boxes.plural == "commands":
            _paint(image[1], AMBER, _share(boxes, boxes.fill == DATA, columns))
            _paint(image[1], TOLD, _marked(boxes.start[np.flatnonzero(boxes.fill == COMMAND)], columns))
        else:
            _paint(image[0], WORDS, _share(boxes, None, columns))
    refused = [boxes.start[np.flatnonzero(boxes.fill == REFUSED)] for boxes in scene.lanes]
    wrong = _marked(np.concatenate([np.empty(0), *refused]), columns)
    wrong = np.maximum.reduce([wrong, np.roll(wrong, 1), np.roll(wrong, -1)])  # one of many must not be looked for
    for row in image:
        _paint(row, WRONG, wrong)
    axis.imshow(image, extent=(start, end, 0.0, 1.0), aspect="auto", interpolation="nearest", zorder=1)
    axis.set_xlim(start, end)
    axis.set_ylim(0, 1)
    axis.set_xticks([])
    axis.set_yticks([])
    for side in ("top", "right", "left", "bottom"):
        axis.spines[side].set_color("#c8d0d9")
    axis.set_ylabel("whole", rotation=0, ha="right", va="center", labelpad=8, color=INK)
    _findings(axis, scene, columns)
    low, high = max(window[0], start), min(window[1], end)
    if high - low < WHOLE * (end - start):
        _framed(axis, low, high, (start, end), pixels)
    step = (end - start) / 1000
    for at, side, text in ((0.0, "left", show_time(start, step)), (1.0, "right", show_time(end, step))):
        axis.text(at, -0.12, text, ha=side, va="top", transform=axis.transAxes, fontsize=8, color=QUIET)


def _share(boxes: Boxes, which: NDArray[np.bool_] | None, columns: NDArray[np.float64]) -> NDArray[np.float64]:
    """The share of each column (n,) that boxes cover, some or all of them, whose edges are `columns` (n + 1,); what lasts no time counts as a
    hundredth. They come in the order in which they begin."""
    covered, marked, until = np.zeros(len(columns) - 1), np.zeros(len(columns) - 1), -np.inf
    for at in range(0, len(boxes.start), AT_ONCE):
        some: Any = slice(at, at + AT_ONCE)
        if which is not None:
            some = np.flatnonzero(which[some]) + at
            if not len(some):
                continue
        start, end = boxes.start[some], np.maximum.accumulate(np.maximum(boxes.end[some], until))
        marked = np.maximum(marked, _marked(start, columns))
        start = np.maximum(start, np.concatenate([[until], end[:-1]]))  # what overlaps counts once
        until = float(end[-1])
        lasts = np.maximum(end - start, 0)
        ahead = np.cumsum(lasts) - lasts
        points = np.stack([start, end], axis=1).ravel()
        covered += np.diff(np.interp(columns, points, np.stack([ahead, ahead + lasts], axis=1).ravel()))
    share: NDArray[np.float64] = np.clip(covered / np.diff(columns), 0, 1)
    return np.maximum(share, 0.01 * marked)


AT_ONCE = 1 << 16  # boxes that are looked at together


def _marked(moments: NDArray[np.float64], columns: NDArray[np.float64]) -> NDArray[np.float64]:
    """1 for each column that holds a moment, else 0."""
    at = np.clip(np.searchsorted(columns, moments, side="right") - 1, 0, len(columns) - 2)
    out = np.zeros(len(columns) - 1)
    out[at] = 1.0
    return out


def _paint(row: NDArray[np.float64], colour: str, share: NDArray[np.float64]) -> None:
    """A colour over what is there, the more of it the larger the share."""
    some = share > 0
    row[some, :3] = [int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5)]
    row[some, 3] = 0.25 + 0.7 * share[some]


def _findings(axis: Axes, scene: Scene, columns: NDArray[np.float64]) -> None:
    """A mark over the strip where each finding begins, faults on top."""
    spans = sorted(scene.spans, key=lambda span: span[2] == WRONG)
    for begin, _, colour in spans:
        at = min(max(begin, float(columns[0])), float(columns[-1]))
        axis.plot([at], [1.22], marker="v", markersize=MARK, color=colour, clip_on=False, markeredgewidth=0, zorder=4)


def _framed(axis: Axes, low: float, high: float, whole: tuple[float, float], pixels: int) -> None:
    """The part that is drawn below, in a frame of some pixels at the least."""
    from matplotlib.patches import Rectangle

    least = 4 * (whole[1] - whole[0]) / pixels
    if high - low < least:
        middle = (low + high) / 2
        low, high = middle - least / 2, middle + least / 2
    for begin, end in ((whole[0], low), (high, whole[1])):
        axis.axvspan(begin, end, color="#ffffff", alpha=0.45, linewidth=0, zorder=2)
    frame = Rectangle((low, -0.06), high - low, 1.12, fill=False, edgecolor=INK, linewidth=1.4, clip_on=False, zorder=3)
    axis.add_patch(frame)
