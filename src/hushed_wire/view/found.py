"""Text of `find`: where a condition holds, times ready for --from and --to, and the transfers round about."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from rich.console import Console
from rich.text import Text

from ..errors import HushedError
from ..rig.reading import Reading, as_piece
from ..rig.spans import Spans
from ..trace import Trace
from ..units import show, time_column
from .decoded import words_of
from .rows import Rows
from .tables import plain_table

__all__ = ["found"]


def found(
    out: Console,
    trace: Trace,
    spans: Spans,
    listen: Callable[[], Reading],
    condition: str,
    context: int,
    most: int,
    radix: str,
    count: int,
) -> None:
    """The table of places. count: of all, where `spans` has no more than the first."""
    times = "once" if count == 1 else f"{count:,} times"
    out.print(Text(f"{condition}: {'nowhere' if not count else times}", style="head" if count else "warning"))
    if not len(spans):
        return
    near = _near(trace, listen, radix)
    table = plain_table()
    for head, right in (("no", True), ("at", True), ("lasts", True), ("to see it", False), ("what is there", False)):
        table.add_column(head, justify="right" if right else "left", no_wrap=head != "what is there", overflow="fold")
    shown = range(min(most, len(spans)))
    columns = time_column([trace.seconds(int(spans.start[k])) for k in shown], max(trace.seconds(trace.resolution()), 1e-7))
    told = -1  # the last transfer that was listed: what stands between two places is not told twice
    for k in shown:
        start, end = int(spans.start[k]), int(spans.end[k])
        lasts = show(trace.seconds(end - start), "s") if end > start else "-"
        rows = [row for row in near(start, end, context) if row[1] or row[0] > told] or [(told, True, Text(""))]
        told = max(told, rows[-1][0])
        first = next((n for n, (_, here, _) in enumerate(rows) if here), 0)
        for row, (which, _, text) in enumerate(rows):
            nr = Text(str(which + 1) if which >= 0 else "", style="quiet")
            place = (columns[k], lasts, _window(trace, start, end)) if row == first else ("", "", "")
            table.add_row(nr, *place, text)
    out.print(table)
    if most < count:
        out.print(Text(f"{count - most:,} more; --most 0 lists all", style="quiet"))


def _window(trace: Trace, start: int, end: int) -> str:
    """Options that show the place with a little room on both sides."""
    room = max((end - start) // 10, 4 * max(1, trace.resolution()), 1)
    first, last = trace.seconds(max(trace.start, start - room)), trace.seconds(min(trace.end, end + room))
    digits = max(3, 2 + len(str(int(last / max(last - first, 1e-12)))))
    return f"--from {_us(first, digits, -1)} --to {_us(last, digits, 1)}"


def _us(seconds: float, digits: int, way: int) -> str:
    """Microseconds with so many digits, rounded outwards."""
    value = seconds * 1e6
    places = max(0, digits - len(str(int(abs(value)))))
    step = 10.0**-places
    rounded = (np.floor if way < 0 else np.ceil)(value / step) * step
    return f"{float(rounded) + 0.0:.{places}f}us"


def _near(trace: Trace, listen: Callable[[], Reading], radix: str) -> Callable[[int, int, int], list[tuple[int, bool, Text]]]:
    """Tells the transfers at a place and round about, by number, whether they are at it; nothing where the capture holds no bus."""
    try:
        reading = listen()
    except HushedError:
        return lambda start, end, context: []
    table = Rows(reading.rig)
    rows = table.take(as_piece(reading), None)
    starts = np.array([row.start for row in rows], np.int64)
    ends = np.array([row.end for row in rows], np.int64)

    def near(start: int, end: int, context: int) -> list[tuple[int, bool, Text]]:
        first = int(np.searchsorted(starts, end, side="right"))
        inside = [k for k in range(max(0, first - 50), first) if ends[k] >= start]
        if not inside and not context:
            return []
        low, high = (inside[0], inside[-1]) if inside else (first, first - 1)
        out = []
        for k in [
            *range(max(0, low - context), min(low, len(rows))),
            *inside[:4],
            *range(high + 1, min(len(rows), high + 1 + context)),
        ]:
            text = words_of(rows[k].channel, rows[k].index, radix)[0]
            text.rstrip()
            text.append(f"  {'; '.join(rows[k].said[:3])}")
            out.append((k, k in inside, text if k in inside else Text(text.plain, style="quiet")))
        return out

    return near
