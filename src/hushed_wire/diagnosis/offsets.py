"""Pictures that were written beside the glass: as large as the panel, but some columns or rows away; text one cell away."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from ..finding import Finding
from ..part.engine import DATA
from ..part.model import Journal
from ..rig import DeviceReading
from .case import Case

__all__ = ["offsets"]


def offsets(case: Case, reading: DeviceReading) -> Iterator[Finding]:
    """What one device shows against where it should stand."""
    kind = reading.part.memory.kind
    if kind == "character":
        yield from _cells(case, reading)
    elif kind in ("paged", "pixel") and reading.part.memory.chips < 2:
        boxes = list(_pixels(case, reading))
        yield from boxes or _rows_off(case, reading)


def _counted(number: int, what: str) -> str:
    return f"{number} {what}{'s' if number > 1 else ''}"


def _pixels(case: Case, reading: DeviceReading) -> Iterator[Finding]:
    panel, memory, (start, end) = reading.panel, reading.part.memory, case.span
    found = _written_box(reading)
    if found is None:
        return
    left, top, right, bottom = found
    wide, high = right - left, bottom - top
    across, down = left - panel.column_offset, top - panel.row_offset
    name = reading.device.name
    fits = wide == panel.width and 0 < abs(across) <= memory.columns - panel.width
    if fits and (high >= min(panel.height, 8) and down == 0):
        columns = f"{left} to {right - 1}", f"{panel.column_offset} to {panel.column_offset + panel.width - 1}"
        yield case.found(
            "picture.column-offset", device=name, start=start, end=end,
            evidence={"written": f"columns {columns[0]}", "shown": f"columns {columns[1]}"}, distance=_counted(abs(across), "column"),
            side="right" if across > 0 else "left", written=columns[0], shown=columns[1], offset=panel.column_offset,
        )  # fmt: skip
    rows = memory.rows or memory.pages * 8
    if high == panel.height and wide == panel.width and 0 < abs(down) <= rows - panel.height:
        lines = f"{top} to {bottom - 1}", f"{panel.row_offset} to {panel.row_offset + panel.height - 1}"
        yield case.found(
            "picture.row-offset", device=name, start=start, end=end, evidence={"written": f"rows {lines[0]}", "shown": f"rows {lines[1]}"},
            distance=_counted(abs(down), "row"), side="low" if down > 0 else "high", written=lines[0], shown=lines[1],
            offset=panel.row_offset,
        )  # fmt: skip


def _rows_off(case: Case, reading: DeviceReading) -> Iterator[Finding]:
    """Rows of as many bytes as the glass has columns that all begin at another column than the glass does, though all of the memory was
    written before (cleared, say), so that its box tells nothing: their ends come round, or are lost, and columns at one side keep what they had."""
    panel, (start, end) = reading.panel, case.span
    begins = _row_starts(reading)
    first = begins[0] if len(begins) else panel.column_offset
    if len(begins) < max(2, panel.height // 16) or set(begins) != {first} or first == panel.column_offset:
        return
    across, sister = first - panel.column_offset, _begins_there(case, reading, first)
    if sister and case.plan.made_up:
        return  # then it is as likely the part that was worked out wrongly
    yield case.found(
        "picture.column-offset", "sister" if sister else "rows", device=reading.device.name, start=start, end=end, confidence="likely", count=len(begins),
        evidence={"rows_begin_at_column": first, "the_glass_begins_at": panel.column_offset, "words_in_a_row": panel.width},
        distance=_counted(abs(across), "column"), side="right" if across > 0 else "left", first=first, wide=panel.width,
        offset=panel.column_offset, sister=sister,
    )  # fmt: skip


def _begins_there(case: Case, reading: DeviceReading, column: int) -> str:
    """A part that knows all that was sent, whose glass of this size begins at a column; "" where the catalog has none."""
    own = reading.panel
    wanted = own.width, own.height, column
    for other in case.relatives(reading):
        if any((panel.width, panel.height, panel.column_offset) == wanted for panel in other.panels.values()):
            return other.name
    return ""


def _row_starts(reading: DeviceReading) -> list[int]:
    """The columns at which those runs of data begin that have a byte for each column of the glass, of each page the last one; none where
    the picture came otherwise."""
    if not isinstance(reading.memory, Journal) or reading.part.memory.kind != "paged":
        return []
    times, addresses, _ = reading.memory.journal()
    own = reading.chips[0]
    rows = np.flatnonzero((own.kind == DATA) & (own.count == reading.panel.width))
    when = own.payload.time[own.first[rows]]
    at = np.searchsorted(times, when)
    held = at < len(times)
    held[held] = times[at[held]] == when[held]
    pages, columns = np.divmod(addresses[at[held]], reading.part.memory.columns)
    return list(dict(zip(pages.tolist(), columns.tolist(), strict=True)).values())


def _written_box(reading: DeviceReading) -> tuple[int, int, int, int] | None:
    """The box (left, top, right, bottom; the last two exclusive) of memory that was written, where it is one solid box."""
    if not isinstance(reading.memory, Journal):
        return None
    _, addresses, _ = reading.memory.journal()
    if not len(addresses):
        return None
    columns = reading.part.memory.columns
    written = np.zeros(int(addresses.max()) + 1, bool)
    written[addresses] = True
    rows, places = np.divmod(np.flatnonzero(written), columns)
    paged = reading.part.memory.kind == "paged"
    left, right = int(places.min()), int(places.max()) + 1
    top, bottom = int(rows.min()), int(rows.max()) + 1
    if (right - left) * (bottom - top) != len(rows):
        return None
    step = 8 if paged else 1
    return left, top * step, right, bottom * step


def _cells(case: Case, reading: DeviceReading) -> Iterator[Finding]:
    """Character panels: every row that is written begins one cell late, and the last character of one at least falls off the glass."""
    written = _cells_written(reading)
    if written is None:
        return
    late = fallen = total = 0
    for row in reading.panel.cells:
        first, count = (
            (row[0] & 0x3F) + (40 if row[0] & 0x40 else 0),
            row[1],
        )  # as the model counts: the second line behind the first
        if len(row) > 2 or count < 4:
            return
        own = [address for address in range(first, first + count + 1) if address in written]
        if not own:
            continue
        total += 1
        late += first not in written and first + 1 in written
        fallen += first + count in written and first + count + 1 not in written and len(own) >= count // 2
    if fallen and late == total:
        start, end = case.span
        yield case.found(
            "picture.cell-off-by-one", device=reading.device.name, start=start, end=end, count=late, evidence={"rows": total}
        )  # fmt: skip


def _cells_written(reading: DeviceReading) -> set[int] | None:
    """The addresses of display memory to which something other than a blank was written; None where there is no such journal."""
    if not isinstance(reading.memory, Journal):
        return None
    _, addresses, values = reading.memory.journal()
    keep: NDArray[np.bool_] = (values != 0x20) & (addresses < 80)
    return {int(address) for address in addresses[keep]}
