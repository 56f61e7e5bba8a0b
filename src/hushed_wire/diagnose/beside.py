"""Pictures that were written beside the glass: as large as the panel, but some columns or rows away; text one cell away."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..finding import Finding
from ..rig import DeviceReading

__all__ = ["beside"]

EXPLAINED = ["picture.partial", "picture.outside-panel", "setup.orientation"]


def beside(reading: DeviceReading, assumed: bool, start: float, end: float) -> Iterator[Finding]:
    """What one device shows against where it should stand. assumed: the panel is not given, so another one explains as much."""
    if assumed or not reading.started or not any(len(chip) for chip in reading.chips or [reading.commands]):
        return
    kind = reading.part.memory.kind
    if kind == "character":
        yield from _cells(reading, start, end)
    elif kind in ("paged", "pixel") and (reading.part.memory.chips < 2):
        yield from _pixels(reading, start, end)


def _pixels(reading: DeviceReading, start: float, end: float) -> Iterator[Finding]:
    panel, memory = reading.panel, reading.part.memory
    found = _written_box(reading)
    if found is None:
        return
    left, top, right, bottom = found
    wide, high = right - left, bottom - top
    across = left - panel.column_offset
    down = top - panel.row_offset
    fits = wide == panel.width and 0 < abs(across) <= memory.columns - panel.width
    if fits and (high >= min(panel.height, 8) and down == 0):
        side = "right" if across > 0 else "left"
        yield Finding(
            "picture.column-offset", f"on '{reading.device.name}', the picture lies {abs(across)} column{'s' if abs(across) > 1 else ''} too far "
            f"to the {side}: "
            f"it fills memory columns {left} to {right - 1}, the glass shows {panel.column_offset} to {panel.column_offset + panel.width - 1}",
            f"start each row at memory column {panel.column_offset} (the panel's column_offset), or correct the panel in the rig",
            device=reading.device.name, start=start, end=end, count=1,
            evidence={"written": f"columns {left} to {right - 1}", "shown": f"columns {panel.column_offset} to {panel.column_offset + panel.width - 1}"},
            explains=EXPLAINED,
        )  # fmt: skip
    rows = memory.rows or memory.pages * 8
    if high == panel.height and wide == panel.width and 0 < abs(down) <= rows - panel.height:
        yield Finding(
            "picture.row-offset", f"on '{reading.device.name}', the picture lies {abs(down)} row{'s' if abs(down) > 1 else ''} too "
            f"{'low' if down > 0 else 'high'}: it fills "
            f"memory rows {top} to {bottom - 1}, the glass shows {panel.row_offset} to {panel.row_offset + panel.height - 1}",
            f"start the picture at memory row {panel.row_offset} (the panel's row_offset), or correct the panel in the rig",
            device=reading.device.name, start=start, end=end, count=1,
            evidence={"written": f"rows {top} to {bottom - 1}",
                      "shown": f"rows {panel.row_offset} to {panel.row_offset + panel.height - 1}"}, explains=EXPLAINED,
        )  # fmt: skip


def _written_box(reading: DeviceReading) -> tuple[int, int, int, int] | None:
    """The box (left, top, right, bottom; the last two exclusive) of memory that was written, where it is one solid box."""
    memory: Any = reading.memory
    if not hasattr(memory, "journal"):
        return None
    _, addresses, _ = memory.journal()
    if not len(addresses):
        return None
    columns = reading.part.memory.columns
    rows, places = np.divmod(np.unique(addresses), columns)
    paged = reading.part.memory.kind == "paged"
    left, right = int(places.min()), int(places.max()) + 1
    top, bottom = int(rows.min()), int(rows.max()) + 1
    if (right - left) * (bottom - top) != len(rows):
        return None
    step = 8 if paged else 1
    return left, top * step, right, bottom * step


def _cells(reading: DeviceReading, start: float, end: float) -> Iterator[Finding]:
    """Character panels: every row begins one cell late, or its first character stands at the end of another row."""
    written = _cells_written(reading)
    if written is None:
        return
    late, total = 0, 0
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
        late += first not in written and first + 1 in written and first + count in written and len(own) >= count
    if total and late == total:
        yield Finding(
            "picture.cell-off-by-one", f"on '{reading.device.name}', each text begins one cell too far to the right: the first column stays "
            f"empty and the last character falls off the glass",
            "count columns from 0: the first cell of the first row is address 00h (set by 80h)",
            device=reading.device.name, start=start, end=end, count=late, evidence={"rows": total}, explains=["picture.partial", "picture.outside-panel"],
        )  # fmt: skip


def _cells_written(reading: DeviceReading) -> set[int] | None:
    """The addresses of display memory to which something other than a blank was written; None where there is no such journal."""
    memory: Any = reading.memory
    models = getattr(memory, "models", [memory])
    if len(models) > 1 or not hasattr(models[0], "journal"):
        return None
    _, addresses, values = models[0].journal()
    keep: NDArray[np.bool_] = (values != 0x20) & (addresses < 80)
    return {int(address) for address in addresses[keep]}
