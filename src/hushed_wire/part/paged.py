"""Paged display memory: eight rows a page, one byte a column, bit 0 uppermost; from commands to the picture on the glass.

Strategy: a loop over commands keeps the pointer and the windows; a run of data is placed in closed form, as
(start + k) mod window, and goes into a journal of writes (time, address, value). The memory at any time is the journal up
to then, the last write winning. The glass shows memory by way of the outputs: which row a COM output carries
(start line, offset, multiplex), in which direction it scans, which pin carries it, and which line of the panel hangs on
that pin. Where commons run along the columns of the memory, all this is of columns, and the segments are its rows.

Source for the outputs: SSD1306 datasheet, 10.1.6, 10.1.8, 10.1.14, 10.1.15 with Tables 10-1 and 10-2, and 10.1.18 with
Table 10-3: output k of N carries row (k or N-1-k, by scan direction), moved by the offset, modulo 64.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..units import parse
from .describe import Panel, Part, Value
from .glass import PixelGlass
from .model import NEVER, Journal
from .mounting import as_seen

__all__ = ["Memory"]


class Memory(Journal):
    """A paged memory; address = page x columns + column."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        memory = part.memory
        self.columns, self.pages = memory.columns, memory.pages
        self._mode_register = memory.registers.get("mode", "")
        self._usual_mode = part.usual_mode
        self._mode = self._usual_mode if from_reset or not self._mode_register else ""
        # Parts of the pointer that are not known yet; data that come before they are known have no place.
        placed = {"column", "column-low", "column-high", "column-window"} & {command.effect for command in part.command}
        self._unknown = set() if from_reset else {"low", "high", "page"} if placed else {"page"}
        self._column = self._page = 0
        self._page_start = 0  # column to which page addressing returns
        self._columns_window = (0, self.columns - 1)
        self._pages_window = (0, self.pages - 1)
        self._scroll: dict[str, Value] = {}

    def record(self, when: int, register: str, value: Value) -> None:
        """A mode acts on the data behind it."""
        super().record(when, register, value)
        if register == self._mode_register:
            self._mode = str(value)

    # ---- effects of commands on pointer and windows (datasheet 10.1.1 to 10.1.5, 10.1.13) ----

    def _told(self, mode: str, *parts: str) -> None:
        """A command told parts of the pointer; a mode that was set before the capture shows in which commands are used."""
        self._unknown -= set(parts)
        self._mode = self._mode or mode

    def _column_low(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._told("page", "low")
        self._column = self._page_start = (self._column & ~0x0F) | int(fields["nibble"])

    def _column_high(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._told("page", "high")
        self._column = self._page_start = (self._column & 0x0F | int(fields["nibble"]) << 4) % self.columns

    def _column_window(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._told("horizontal", "low", "high")
        self._columns_window = (int(fields["start"]), int(fields["end"]))
        self._column = int(fields["start"])

    def _page_window(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._told("horizontal", "page")
        self._pages_window = (int(fields["start"]), int(fields["end"]))
        self._page = int(fields["start"])

    def _column_pointer(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._told(self._usual_mode, "low", "high")
        self._column = self._page_start = int(next(iter(fields.values())))

    def _page_pointer(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._told(self._usual_mode, "page")
        self._page = int(next(iter(fields.values())))

    def _scroll_setup(self, when: int, name: str, fields: dict[str, Value]) -> None:
        left = fields.get("direction") == "left" or name == "vertical-left-scroll"
        self._scroll = {**fields, "direction": "left" if left else "right"}

    def _scroll_switch(self, when: int, name: str, fields: dict[str, Value]) -> None:
        # The set-up that was in force is noted with the switch, so that a later set-up does not change the past.
        for key, value in self._scroll.items():
            self.record(when, f"scrolling.{key}", value)
        self.record(when, "scrolling.since", when)

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        """A run of data, in closed form."""
        if self._unknown:
            return
        count = len(values)
        step = np.arange(count)
        (c0, c1), (p0, p1) = self._columns_window, self._pages_window
        if self._mode == "page" or c1 < c0 or p1 < p0:
            # The pointer runs to the end of the row; there it returns to the start column or to 0, or it stops.
            start = self._page_start if self._page_start <= self._column and self.part.memory.wrap == "row" else 0
            width = self.columns - start
            columns = self._column + step
            pages = np.full(count, self._page)
            self._column += count
            if self.part.memory.wrap != "stop":
                columns = start + (columns - start) % width
                self._column = start + (self._column - start) % width
        else:
            width, height = c1 - c0 + 1, p1 - p0 + 1
            column, page = (self._column - c0) % width, (self._page - p0) % height
            if self._mode == "vertical":
                linear = column * height + page + step
                columns, pages = c0 + linear // height % width, p0 + linear % height
                after = (column * height + page + count) % (width * height)
                self._column, self._page = c0 + after // height, p0 + after % height
            else:
                linear = page * width + column + step
                columns, pages = c0 + linear % width, p0 + linear // width % height
                after = (page * width + column + count) % (width * height)
                self._column, self._page = c0 + after % width, p0 + after // width
        inside = (columns < self.columns) & (pages < self.pages)
        self._write(times[inside], (pages * self.columns + columns)[inside], values[inside])

    # ---- what is where, when ----

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """The memory at a tick: (pages, columns) bytes, and which of them were written since the capture began."""
        ram, written = self.held(self.pages * self.columns, when)
        shape = (self.pages, self.columns)
        return ram.reshape(shape), written.reshape(shape)

    def settings(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> dict[str, Value]:
        """The registers of the memory's roles at a tick. What nothing set has its reset value or, where the start-up was
        not captured (`from_reset` false), what this panel needs, since it may have been set before."""
        needed: dict[str, Value] = {"multiplex": panel.width if self._across else panel.height, "display": "on", "supply": "on"}
        needed |= {**panel.upright, "com_pins": panel.com_pins, "com_left_right": panel.com_left_right}
        needed |= {
            role: panel.needs[register] for role, register in self.part.memory.registers.items() if register in panel.needs
        }
        out: dict[str, Value] = {}
        for role, register in self.part.memory.registers.items():
            value = self.register(register, when)
            if value is None and not from_reset:
                value = needed.get(role)
            out[role] = self.part.reset.get(register, 0) if value is None else value
        return out

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> PixelGlass:
        """What the panel shows at a tick."""
        settings = self.settings(panel, when, from_reset)
        ram, written = self.at(when)
        rows = np.unpackbits(ram, axis=0, bitorder=self.part.top_bit).reshape(-1, self.columns).astype(bool)
        known = np.repeat(written, 8, axis=0)
        scrolling, vertical = False, 0
        if self.register("scroll.state", when) == "on":
            rows, vertical = self._scrolled(rows, settings, when)
            scrolling = True
        if self._across:
            rows, known = rows.T, known.T
        line, driven = self._commons_of_glass(panel, settings, vertical)
        segment = self._segments_of_glass(panel, settings)
        inside = (segment >= 0) & (segment < rows.shape[1])
        segment = np.where(inside, segment, 0)
        lit = rows[line][:, segment] & inside
        if "all-on" in (settings.get("entire_on"), settings.get("display")):
            lit = np.broadcast_to(inside, lit.shape).copy()
        if settings.get("inverse") == "on" or settings.get("display") == "inverse":
            lit = ~lit & inside
        lit &= driven[:, None]
        known = (known[line][:, segment] & inside) | ~driven[:, None]  # a line that is not driven is dark, whatever memory holds
        if self._across:
            lit, known = lit.T, known.T
        lit, known = as_seen(lit, panel), as_seen(known, panel)
        powered = settings.get("supply", "on") == "on" or panel.supply != "charge-pump"
        shown = settings.get("display", "on") not in ("off", "blank") and settings.get("power", "on") != "down"
        return PixelGlass(lit, known, shown and powered, scrolling)

    def behind_glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> NDArray[np.bool_]:
        """(pages, columns) which bytes of the memory the glass shows at a tick; a start line moves them."""
        settings = self.settings(panel, when, from_reset)
        line, driven = self._commons_of_glass(panel, settings, 0)
        segment = self._segments_of_glass(panel, settings)
        along = self.pages * 8 if self._across else self.columns
        line, segment = line[driven], segment[(segment >= 0) & (segment < along)]
        row, column = (segment, line) if self._across else (line, segment)
        out = np.zeros((self.pages, self.columns), dtype=bool)
        out[np.ix_(np.unique(row // 8), column)] = True
        return out

    @property
    def _across(self) -> bool:
        """Whether common lines are columns of the memory, and segments its rows."""
        return self.part.memory.commons == "columns"

    def _segments_of_glass(self, panel: Panel, settings: dict[str, Value]) -> NDArray[np.int64]:
        """The memory's column (row, where commons are columns) behind each segment line of the glass."""
        count, offset, along = (
            (panel.height, panel.row_offset, self.pages * 8) if self._across else (panel.width, panel.column_offset, self.columns)
        )
        x = np.arange(count) + offset
        remapped = settings.get("segment_remap", "off") == panel.upright.get("segment_remap", "off")
        return x if remapped else along - 1 - x

    def _commons_of_glass(
        self, panel: Panel, settings: dict[str, Value], vertical: int
    ) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
        """The memory's row (column, where commons are columns) behind each common line of the glass, and whether it is driven at all."""
        count, lines = (panel.width, self.columns) if self._across else (panel.height, self.pages * 8)
        multiplex = int(settings.get("multiplex", lines))
        offset, start = int(settings.get("offset", 0)), int(settings.get("start_line", 0))
        output = np.arange(lines)
        # Which output is the glass's line y, by the panel's own wiring and mounting.
        y = np.arange(count)
        own = panel.first_common + (count - 1 - y if panel.upright.get("com_scan") == "descending" else y)
        pinned = "com_pins" in settings
        pin = _pin(own, panel.com_pins if pinned else "", panel.com_left_right if pinned else "", lines)
        output_of_pin = np.empty(lines, dtype=np.int64)
        output_of_pin[_pin(output, str(settings.get("com_pins")), str(settings.get("com_left_right")), lines)] = output
        k = output_of_pin[pin]
        # Which row that output carries: output = (row or N-1-row) - offset, modulo the number of outputs.
        turned = (k + offset) % lines
        row = multiplex - 1 - turned if settings.get("com_scan") == "descending" else turned
        driven = (row >= 0) & (row < multiplex)
        row = self._vertically(row, vertical, lines)
        return (np.where(driven, row, 0) + start) % lines, driven

    def _vertically(self, row: NDArray[np.int64], by: int, lines: int) -> NDArray[np.int64]:
        """Rows moved by a vertical scroll within its area (10.2.5)."""
        if not by:
            return row
        top = int(self.register("vertical-scroll-area.fixed-rows") or 0)
        high = self.register("vertical-scroll-area.scroll-rows")
        high = lines if high is None else max(1, int(high))
        moves = (row >= top) & (row < top + high)
        return np.where(moves, top + (row - top + by) % high, row)

    def _scrolled(self, rows: NDArray[Any], settings: dict[str, Value], when: int) -> tuple[NDArray[Any], int]:
        """Rows as a scroll has moved them by `when`: one column a step, a step every so many frames (10.2)."""
        last = max([0, *(time for time, _, _ in self.registers)]) if when == NEVER else when
        since = int(self.register("scrolling.since", when) or 0)
        steps = int((last - since) / self.frame_ticks(settings) / int(self.register("scrolling.frames", when) or 5))
        first, end = int(self.register("scrolling.start-page", when) or 0), int(self.register("scrolling.end-page", when) or 0)
        by = -steps if self.register("scrolling.direction", when) == "left" else steps
        moved = rows.copy()
        moved[first * 8 : end * 8 + 8] = np.roll(rows[first * 8 : end * 8 + 8], by, axis=1)
        return moved, steps * int(self.register("scrolling.rows", when) or 0)

    def frame_ticks(self, settings: dict[str, Value]) -> float:
        """Ticks a frame of the glass lasts, from the typical oscillator: divide x (phases + pulse) x multiplex (8.3)."""
        if self.part.oscillator is None:
            return 1e-2 / self.tick
        clocks = int(settings.get("phase_1", 2)) + int(settings.get("phase_2", 2)) + self.part.oscillator.pulse
        per_frame = int(settings.get("divide", 1)) * clocks * int(settings.get("multiplex", self.pages * 8))
        return per_frame / float(parse(self.part.oscillator.typical, "Hz")) / self.tick


def _pin(output: NDArray[np.int64], wiring: str, left_right: str, lines: int) -> NDArray[np.int64]:
    """The COM pin that an output is led to (10.1.18, Table 10-3): alternative puts odd outputs on the other half."""
    half = lines // 2
    pin = output // 2 + half * (output % 2) if wiring == "alternative" else output
    return (pin + half) % lines if left_right == "on" else pin


Memory.effects = {
    "column-low": Memory._column_low,
    "column-high": Memory._column_high,
    "column-window": Memory._column_window,
    "page-window": Memory._page_window,
    "column": Memory._column_pointer,
    "page": Memory._page_pointer,
    "scroll-setup": Memory._scroll_setup,
    "scroll-switch": Memory._scroll_switch,
}
