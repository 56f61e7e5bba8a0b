"""Figures: lines with the decoded words and commands over them, from a whole capture down to one byte.

Strategy: everything is reduced to the pixels there are before anything is drawn. A line with more edges than pixels
becomes activity density; boxes too narrow to see are merged into one that tells how many they are; a label is drawn only
in the longest form that fits into its box, so labels never overlap.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from io import BytesIO
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..bus.words import MARK_SIGNS
from ..errors import HushedError
from ..extras import wanted
from ..harmless import harmless
from ..trace import Trace
from ..trace.model import Waveforms
from ..units import show, show_time
from . import overview
from .activity import Activity, activities
from .fold import Folds, folded
from .scene import FILLS, REFUSED, Boxes, Scene, seconds_of

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

__all__ = ["FORMATS", "plot", "ready"]

FORMATS = ("png", "svg", "pdf")
WIDTH, HEIGHT, DPI = 12.8, 8.0, 100
LEFT, RIGHT = 0.095, 0.955
PIXELS = WIDTH * DPI * (RIGHT - LEFT)
FONT, LETTER = 9, 7.6  # points, and pixels a monospaced letter takes at DPI
MOST_LINES = 18  # of a figure
STRIP = 0.085  # share of the height that the strip of the whole capture takes
MINUTES = 120.0  # seconds from which on the axis counts in minutes
STEPS = (10, 15, 20, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14400, 28800, 86400)  # seconds between its marks then
NAMED_LINE = 16  # pixels of a line of numbered names
NARROW = 5.0  # pixels: narrower boxes are merged
INK = "#1f2a37"
TRACE_COLOURS = ("#1d5fa8", "#b4541a", "#5b7d2a", "#7a3f8f", "#8a6d1d", "#2a7d7a")

PLAIN = ("row", "column", "digit", "segment")  # roles that lines are named after


def ready() -> None:
    """Raises PackageMissing where figures cannot be drawn here: asked ahead of long work."""
    with wanted("matplotlib", "figures want"):
        import matplotlib
    matplotlib.use("Agg")


def plot(
    scene: Scene,
    path: str,
    window: tuple[float, float],
    waveforms: Waveforms | None = None,
    kind: str = "png",
    only: Sequence[tuple[str, int]] = (),
    fold: bool = False,
) -> bytes:
    """A figure of a capture between two times (seconds), as the bytes of a PNG, SVG or PDF.

    only: the lines to draw, in this order, each with what it is called; all that fit where none are named. fold: long rests are left out, which
    volts cannot be yet.
    """
    ready()
    from matplotlib import pyplot
    from matplotlib.text import Text

    if not window[0] < window[1]:
        raise HushedError("the window is empty", where="--from/--to", remedy="--from has to be before --to")
    order = [line for _, line in only] or [*scene.roles, *_others(scene)]
    labels = [name for name, _ in only] or [scene.trace.names[line] for line in order]
    found = folded(scene, window) if fold else None
    drawn, folds = (scene, None) if found is None else found
    shown = _Shown(scene, drawn, path, window, folds, order, labels, waveforms if folds is None else None)
    style: Any = {"font.family": "DejaVu Sans Mono", "font.size": FONT, "svg.hashsalt": "hushed-wire", "text.parse_math": False}
    with pyplot.rc_context(style):
        figure = shown.drawn_with(0)
        if shown.unnamed:  # names that do not fit get numbers, which want room below
            lines = len(_columns(shown.unnamed))
            pyplot.close(figure)
            figure = shown.drawn_with(lines)
        for text in figure.findobj(Text):
            if text.get_text() != harmless(text.get_text()):
                text.set_text(harmless(text.get_text()))
        out = BytesIO()
        figure.savefig(out, format=kind, metadata={"Date": None} if kind == "svg" else None)
        pyplot.close(figure)
    return out.getvalue()


def _ticks(folds: Folds, begin: float, end: float, pixels: float) -> list[tuple[float, str]]:
    """Of a stretch between two folds the time at which it begins, and, where it is wide, some even ones within."""
    first, last = folds.back(begin), folds.back(end)
    rough = (last - first) / max(1.0, pixels / (18 * LETTER))
    ten = 10.0 ** np.floor(np.log10(rough))
    step = next(float(ten * by) for by in (1, 2, 5, 10) if ten * by >= rough)
    even = np.arange(np.ceil(first / step) * step, last, step)
    ahead = [(begin, show_time(first, step / 10))] if not len(even) or even[0] - first > 0.7 * step else []
    return ahead + [(float(folds.to(np.array([at]))[0]), show_time(float(at), step / 10)) for at in even]


MOST_NAMED = 24  # names below a figure
ACROSS = 150  # letters of a line there


def _columns(names: dict[str, int]) -> list[str]:
    """Numbered names in lines, as many side by side as fit."""
    entries = [f"{number} {name}" for name, number in list(names.items())[:MOST_NAMED]]
    entries += [f"{len(names) - MOST_NAMED} more"] if len(names) > MOST_NAMED else []
    wide = min(ACROSS, max(map(len, entries), default=1)) + 3
    each = max(1, ACROSS // wide)
    return [
        "".join(entry[: wide - 3].ljust(wide) for entry in entries[at : at + each]).rstrip()
        for at in range(0, len(entries), each)
    ]


@dataclass(eq=False)
class _Shown:
    """What a figure shows. scene: as it was; drawn: as it is drawn. unnamed: names that found no room, with their numbers."""

    scene: Scene
    drawn: Scene
    path: str
    window: tuple[float, float]
    folds: Folds | None
    order: list[int]
    labels: list[str]
    waveforms: Waveforms | None
    unnamed: dict[str, int] = field(default_factory=dict)
    active: dict[int, Activity] = field(default_factory=dict)

    def drawn_with(self, named: int) -> Figure:
        """The figure, with room for so many lines of numbered names below."""
        from matplotlib import pyplot

        scene, folds = self.drawn, self.folds
        low, high = self.window if folds is None else (float(folds.drawn[1]), float(folds.drawn[-2]))
        # Where the span is tiny against its place, ticks count from the left edge, or they would all read alike.
        origin = low if folds is None and low > 0 and (high - low) < 0.02 * abs(low) else 0.0
        columns = np.linspace(low, high, int(PIXELS) + 1)
        if not self.active:
            self.active = _followed(scene, self.order, columns)
        analogue = [self.waveforms is not None and scene.trace.names[line] in self.waveforms.names for line in self.order]
        ratios = [*(boxes.height for boxes in scene.lanes), *(1.6 if volts else 0.8 for volts in analogue)]
        room = (named + 1) * NAMED_LINE / (HEIGHT * DPI) if named else 0.0
        pixels = PIXELS
        strip = overview.wanted(self.scene, self.window, pixels)
        figure, axes = pyplot.subplots(
            len(ratios), 1, sharex=True, figsize=(WIDTH, HEIGHT), dpi=DPI,
            gridspec_kw={"height_ratios": ratios, "hspace": 0.14, "left": LEFT, "right": RIGHT, "top": 0.9 - STRIP * strip, "bottom": 0.085 + room},
        )  # fmt: skip
        axes = [axes] if len(ratios) == 1 else list(axes)
        if strip:
            overview.draw(figure.add_axes((LEFT, 0.853, RIGHT - LEFT, 0.035)), self.scene, self.window, int(pixels))
        known = self.unnamed if named else {}
        for axis, boxes in zip(axes, scene.lanes, strict=False):
            _lane(axis, boxes, low, high, origin, pixels, known if boxes.plural == "commands" else None)
            _name(axis, boxes.title)
        self.unnamed = known
        marked = _marks(axes[len(scene.lanes) - 1], scene, low, high, origin, pixels) if scene.lanes else False
        for number, line in enumerate(self.order):
            axis, colour = axes[len(scene.lanes) + number], TRACE_COLOURS[number % len(TRACE_COLOURS)]
            if analogue[number] and self.waveforms is not None:
                _analogue(axis, self.waveforms, scene.trace, line, low, high, origin, int(pixels), colour)
            else:
                _digital(axis, scene.trace, self.active[line], columns, origin, colour)
            _name(axis, _labelled(scene, line, self.labels[number]))
        _spans(axes, scene, low, high, origin, pixels)
        axes[-1].set_xlim(low - origin, high - origin)
        _timed(axes, self.window, origin, folds, pixels)
        if named:
            figure.text(LEFT, 0.012, "\n".join(_columns(known)), fontsize=FONT, color=INK, va="bottom", linespacing=1.3)
        _headed(figure, self.path, self.window, self.scene, marked, len(scene.trace.names) - len(self.order))
        return figure


def _timed(axes: Sequence[Axes], window: tuple[float, float], origin: float, folds: Folds | None, pixels: float) -> None:
    """The time axis; where rests are folded, with the time at which each stretch begins, and the marks of the folds."""
    from matplotlib.ticker import EngFormatter, FixedFormatter, FixedLocator, FuncFormatter

    below = axes[-1]
    below.tick_params(axis="x", labelbottom=True)
    if folds is None:
        if window[1] - window[0] > MINUTES:
            below.xaxis.set_major_locator(FixedLocator(_minutes(*window)))
            below.xaxis.set_major_formatter(FuncFormatter(lambda at, _: show_time(float(at))))
        else:
            below.xaxis.set_major_formatter(EngFormatter(unit="s"))
        below.set_xlabel(f"time after {show_time(origin, (window[1] - window[0]) / 1000)}" if origin else "time")
        return
    wide = float(folds.drawn[-2] - folds.drawn[1])
    ticks: list[tuple[float, str]] = []
    for begin, end in folds.stretches:
        for place, text in _ticks(folds, begin, end, (end - begin) / wide * pixels):
            if not ticks or (place - ticks[-1][0]) / wide * pixels > 13 * LETTER:
                ticks.append((place, text))
    below.xaxis.set_major_locator(FixedLocator([place for place, _ in ticks]))
    below.xaxis.set_major_formatter(FixedFormatter([text for _, text in ticks]))
    below.set_xlabel("time; rests are folded (shaded, with what they last)")
    for (begin, end), lasts in zip(folds.rests.tolist(), folds.lasts.tolist(), strict=True):
        for axis in axes:
            axis.axvspan(begin, end, color="#e8ebef", linewidth=0, zorder=5)
            for at in (begin, end):
                axis.axvline(at, color="#8894a3", linewidth=0.7, linestyle=(0, (2, 2)), zorder=6)
        if (end - begin) / wide * pixels > 1.6 * LETTER:
            middle, level = (begin + end) / 2, float(np.mean(axes[0].get_ylim()))
            written = axes[0].text(
                middle, level, show(lasts, "s", 3), ha="center", va="center", fontsize=FONT - 1, color="#4a5664", rotation=90
            )
            written.set_zorder(7)


def _minutes(low: float, high: float) -> list[float]:
    """Whole seconds, minutes or hours between two times, a dozen at the most."""
    step = next((step for step in STEPS if (high - low) / step <= 12), STEPS[-1] * -(-(high - low) // (12 * STEPS[-1])))
    return [float(at) for at in np.arange(np.ceil(low / step) * step, high, step)]


def _others(scene: Scene) -> list[int]:
    """Lines without a role; of more than can be told apart the busiest."""
    trace = scene.trace
    others = [line for line in range(len(trace.names)) if line not in scene.roles]
    room = max(0, MOST_LINES - len(scene.roles))
    if len(others) > room:
        ends = np.array([trace.start, trace.end])
        told = activities(trace.pieces(PIECE) if scene.changes is None else scene.changes(), others, ends, 0)
        others = sorted(sorted(others, key=lambda line: told[line].moves, reverse=True)[:room])
    return others


def _labelled(scene: Scene, line: int, label: str) -> str:
    """A line's label, with its role where its name does not say it."""
    role = scene.roles.get(line, "")
    return label if not role or role.startswith(PLAIN) or role in label.lower() else f"{label} ({role.upper()})"


def _spans(axes: Sequence[Axes], scene: Scene, low: float, high: float, origin: float, pixels: float) -> None:
    """The places of findings, behind everything."""
    for start, end, colour in scene.spans:
        if end >= low and start <= high:
            wide = max(end, start + 2 * (high - low) / pixels)
            for axis in axes:
                axis.axvspan(max(start, low) - origin, min(wide, high) - origin, color=colour, alpha=0.16, linewidth=0, zorder=0)


def _headed(figure: Figure, path: str, window: tuple[float, float], scene: Scene, marked: bool, left_out: int) -> None:
    """Title and legend."""
    low, high = window
    span = f"{show_time(low, (high - low) / 1000)} to {show_time(high, (high - low) / 1000)}"
    title = f"{path}   {span}" + (f"   {scene.devices}" if scene.devices else "")
    figure.suptitle(title, x=LEFT, ha="left", y=0.975, fontsize=FONT + 2, color=INK)
    signs = "   S START  Sr repeated START  P STOP  A, N acknowledged, or not" if marked else ""
    signs += f"   {left_out} quieter lines left out" if left_out else ""
    room = int((RIGHT - LEFT) * WIDTH * DPI / LETTER) - len(signs)
    legend = (scene.legend if len(scene.legend) <= room else scene.legend[: room - 1] + "…") + signs
    figure.text(LEFT, 0.915, legend, fontsize=FONT, color="#5a6675")


def _name(axis: Axes, text: str) -> None:
    axis.set_ylabel(text, rotation=0, ha="right", va="center", labelpad=8, color=INK)
    if axis.get_ylim() == (0.0, 1.0) or not axis.yaxis.get_label_text():
        axis.set_yticks([])
    for side in ("top", "right", "left"):
        axis.spines[side].set_visible(False)
    axis.spines["bottom"].set_color("#c8d0d9")
    axis.tick_params(axis="x", length=3, color="#c8d0d9", labelbottom=False)


def _apart(boxes: Boxes, first: int, last: int, narrow: float) -> NDArray[np.int64]:
    """Which of some boxes, counted from the first of them, do not go on with the one before: both narrow, and next to each other."""
    out = [np.zeros(1, np.int64)]
    for at in range(first, last - 1, overview.AT_ONCE):
        some = slice(at, min(at + overview.AT_ONCE + 1, last))
        start, end = boxes.start[some], boxes.end[some]
        slim = end - start < narrow
        joins = slim[1:] & slim[:-1] & (start[1:] - end[:-1] < narrow)
        out.append(np.flatnonzero(~joins) + 1 + (at - first))
    return np.concatenate(out)


def _lane(
    axis: Axes, boxes: Boxes, low: float, high: float, origin: float, pixels: float, unnamed: dict[str, int] | None = None
) -> None:
    """Draws the boxes that lie in the window; runs of narrow ones become one box with their number. unnamed: numbers of names that do not fit, to

    which those of this lane are added; None where such names are left out."""
    from matplotlib.collections import PolyCollection

    axis.set_ylim(0, 1)
    first, last = int(boxes.end.searchsorted(low, side="right")), int(boxes.start.searchsorted(high, side="left"))
    if first >= last:
        return
    scale = pixels / (high - low)
    begin = _apart(boxes, first, last, NARROW / scale)
    finish = np.append(begin[1:], last - first)
    left, right = np.maximum(boxes.start[first + begin], low), np.minimum(boxes.end[first + finish - 1], high)
    single = finish - begin == 1
    fill = np.where(single, np.array(FILLS)[boxes.fill[first:last][begin]], "#dfe5ec")
    # A merged run that holds something refused says so by its colour.
    fill = np.where(~single & np.logical_or.reduceat(boxes.fill[first:last] == REFUSED, begin), FILLS[REFUSED], fill)
    a, b = left - origin, np.maximum(right, left + 0.8 / scale) - origin
    bevel = np.minimum(3 / scale, (b - a) / 3)
    corners = np.stack(
        [
            np.stack([a, np.full_like(a, 0.5)], axis=1),
            np.stack([a + bevel, np.full_like(a, 0.92)], axis=1),
            np.stack([b - bevel, np.full_like(a, 0.92)], axis=1),
            np.stack([b, np.full_like(a, 0.5)], axis=1),
            np.stack([b - bevel, np.full_like(a, 0.08)], axis=1),
            np.stack([a + bevel, np.full_like(a, 0.08)], axis=1),
        ],
        axis=1,
    )
    width = (b - a) * scale
    outline = np.where(width < 2 * NARROW, 0.15, 0.6)  # narrow boxes would be nothing but their outlines
    axis.add_collection(PolyCollection(list(corners), facecolors=list(fill), edgecolors="#8894a3", linewidths=list(outline)))
    height = axis.get_position().height * HEIGHT * DPI * 0.84
    for position in np.flatnonzero(width >= (2 if unnamed is None else 1) * LETTER).tolist():
        count = int(finish[position] - begin[position])
        forms = boxes.label(first + int(begin[position])) if count == 1 else (f"{count:,} {boxes.plural}", f"{count:,}")
        text, turned = _fitting(forms, float(width[position]), height)
        if unnamed is not None and count == 1 and (not text or text.endswith("…")):
            whole = forms[0].replace("\n", " ")
            number = unnamed.get(whole, len(unnamed) + 1)
            text, turned = (str(number), False) if len(str(number)) * LETTER <= width[position] else ("", False)
            if text:
                unnamed[whole] = number
        if text:
            drawn = axis.text((a[position] + b[position]) / 2, 0.49, text, ha="center", va="center", fontsize=FONT, color=INK)
            drawn.set(clip_on=True, rotation=90 if turned else 0, linespacing=1.15)


def _fitting(forms: Sequence[str], width: float, height: float) -> tuple[str, bool]:
    """The first form that fits into a box, or the beginning of one, and whether it has to be turned upright for that; "" where none does."""
    for turned, across, along in ((False, width, height), (True, height, width)):
        for form in forms:
            lines = form.split("\n")
            if max(map(len, lines)) * LETTER + (3 if turned else 8) <= across and len(lines) * 2 * LETTER <= along:
                return form, turned
    # The beginning of a name is better than none, where it can still be told from others.
    name, room = min(forms, key=len).replace("\n", ""), int((height - 10) / LETTER)
    return (f"{name[: room - 1]}…", True) if width >= 2 * LETTER and 4 <= room < len(name) else ("", False)


def _marks(axis: Axes, scene: Scene, low: float, high: float, origin: float, pixels: float) -> bool:
    """START, repeated START and STOP as letters over the words, where these are wide enough; whether any were drawn."""
    when, kind = scene.marks
    inside = np.flatnonzero((when >= low) & (when <= high) & np.isin(kind, list(MARK_SIGNS)))
    if not len(inside) or scene.word * pixels / (high - low) < 4 * NARROW:
        return False
    last = -1e9  # pixels: a STOP and the START behind it may be nearer than a letter is wide
    for at in inside.tolist():
        x = (float(when[at]) - low) / (high - low) * pixels
        sign = MARK_SIGNS[int(kind[at])]
        if x - last >= LETTER * len(sign):
            axis.text(float(when[at]) - origin, 1.03, sign, ha="center", va="bottom", fontsize=FONT - 1, color=INK, clip_on=False)
            last = x
    return True


def _digital(axis: Axes, trace: Trace, told: Activity, columns: NDArray[np.float64], origin: float, colour: str) -> None:
    """A line as steps where its edges can be told apart, as density where they cannot. columns: seconds at which these begin, and the last ends."""
    axis.set_ylim(-0.15, 1.15)
    axis.set_yticks([])
    low, high, pixels = float(columns[0]), float(columns[-1]), len(columns) - 1
    stop = min(high, trace.seconds(trace.end))
    if told.times:
        x = np.append(np.maximum(seconds_of(trace, np.concatenate(told.times)), low), stop)
        level = np.concatenate(told.levels).astype(float)
        y = np.append(level, level[-1])
        known = np.where(y > 1, np.nan, y)
        axis.step(x - origin, known, where="post", color=colour, linewidth=1.3, solid_joinstyle="miter")
        for at in np.flatnonzero(y[:-1] > 1).tolist():
            axis.axvspan(x[at] - origin, x[at + 1] - origin, 0.12, 0.88, color="#c9ced6", hatch="////", alpha=0.5, linewidth=0)
        return
    level = np.where(told.count == 0, told.level.astype(float), np.nan)
    level[(level > 1) | (columns[:-1] >= stop)] = np.nan
    shade = np.log1p(told.count) / np.log1p(max(1, told.count.max()))
    red, green, blue = (int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5))
    image = np.zeros((1, pixels, 4))
    image[0, :, :3] = red, green, blue
    image[0, :, 3] = np.where(told.count > 0, 0.12 + 0.5 * shade, 0.0)
    axis.imshow(image, extent=(low - origin, high - origin, 0.0, 1.0), aspect="auto", interpolation="nearest", zorder=1)
    # Quiet stretches keep their level; a column on either side joins them to the activity.
    axis.step(columns[:-1] - origin, level, where="post", color=colour, linewidth=1.3, zorder=2)
    axis.set_ylim(-0.15, 1.15)


PIECE = 1 << 18  # changes that are looked at together, so that a long capture needs no more room than it takes


def _followed(scene: Scene, lines: Sequence[int], columns: NDArray[np.float64]) -> dict[int, Activity]:
    """What lines do in columns (seconds), by line."""
    ticks = np.ceil(columns / float(scene.trace.tick) - 1e-6).astype(np.int64)
    blocks = scene.trace.pieces(PIECE) if scene.changes is None else scene.changes()
    return activities(blocks, lines, ticks, (len(columns) - 1) // 2)


def _analogue(
    axis: Axes, waveforms: Waveforms, trace: Trace, line: int, low: float, high: float, origin: float, pixels: int, colour: str
) -> None:
    """A line in volts: samples where they can be told apart, else the envelope; its threshold dotted."""
    number = waveforms.names.index(trace.names[line])
    volts = waveforms.volts[number]
    when = waveforms.times * (waveforms.tick.numerator / waveforms.tick.denominator)
    first, last = max(int(np.searchsorted(when, low)) - 1, 0), int(np.searchsorted(when, high)) + 1
    when, volts = when[first:last] - origin, volts[first:last]
    bottom, top = float(np.nanmin(volts, initial=0.0)), float(np.nanmax(volts, initial=1.0))
    if len(volts) > 4 * pixels:
        edges = np.linspace(0, len(volts), pixels + 1).astype(int)[:-1]
        axis.fill_between(
            when[edges],
            np.minimum.reduceat(volts, edges),
            np.maximum.reduceat(volts, edges),
            color=colour,
            alpha=0.35,
            linewidth=0,
        )
        axis.plot(when[edges], np.add.reduceat(volts, edges) / np.diff(np.append(edges, len(volts))), color=colour, linewidth=0.8)
    else:
        axis.plot(when, volts, color=colour, linewidth=1.2)
    margin = 0.08 * (top - bottom)
    axis.set_ylim(bottom - margin, top + margin)
    if trace.volts:
        axis.axhline(trace.volts[line][2], color="#8894a3", linewidth=0.8, linestyle=":")
    ticks = [0.0, round(top, 1)] if not trace.volts else [trace.volts[line][0], trace.volts[line][2], trace.volts[line][1]]
    axis.set_yticks(ticks, [show(round(tick, 2), "V", 3) for tick in ticks])
    axis.tick_params(axis="y", labelsize=FONT - 2, length=2, pad=1, labelright=True, labelleft=False, right=True, left=False)
