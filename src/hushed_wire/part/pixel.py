"""Pixel memory of controllers of colours and greys: windows that fill from a corner, orientation, pixels of 3 to 24 bits.

Strategy: a run of data is cut into pixels and placed in closed form within the window, turned into the memory's own rows and
columns as the orientation says at that moment; the journal holds (time, address, colour). Source: MIPI DCS 1.02 (set_column_
address, set_page_address, write_memory_start, set_address_mode) and the ST7789V datasheet, 8.12 "Address Control" (which pointer goes where
under MV, MX, MY), 8.8 "Data Color Coding", 9.1.32 to 9.1.37 (scrolling, address mode).
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part, Value
from .glass import ColourGlass
from .model import NEVER, Journal
from .mounting import as_seen, thousandths
from .orientation import WAYS, Orientation, box_of, upright

__all__ = ["PixelMemory", "filled", "form_of", "to_bytes"]


class PixelMemory(Journal):
    """A frame memory; its journal holds colours, 0xRRGGBB."""

    kind = np.uint32

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.columns, self.rows = part.memory.columns, part.memory.rows
        self._window = [0, self.columns - 1, 0, self.rows - 1]
        self._at = 0  # pixels from the window's corner
        self._writing = False
        self._rest: NDArray[np.uint8] = np.empty(0, np.uint8)  # bytes of a pixel that is not whole yet
        # Where no command begins a write, whatever comes as data is one, and each window begins anew (SSD1331 datasheet, 9.1.1, 9.1.2).
        self._always = "write" not in {command.effect for command in part.command}
        self._writing = self._always

    def _columns_window(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._window[:2] = int(fields.get("start", self._window[0])), int(fields.get("end", self._window[1]))
        self._anew()

    def _rows_window(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._window[2:] = int(fields.get("start", self._window[2])), int(fields.get("end", self._window[3]))
        self._anew()

    def _anew(self) -> None:
        """A window was set."""
        if self._always:
            self._at, self._rest = 0, self._rest[:0]

    def _cleared(self, when: int, name: str, fields: dict[str, Value]) -> None:
        """A box that the controller itself makes black: its corners as they are addressed."""
        x, y = (np.arange(int(fields[low]), int(fields[high]) + 1) for low, high in (("left", "right"), ("top", "bottom")))
        across, down = (each.reshape(-1) for each in np.meshgrid(x, y))
        self._put(np.full(len(across), when, np.int64), across, down, np.zeros(len(across), np.uint32))

    def _interrupted(self) -> None:
        """Any command ends a write to memory, and what is sent behind it are its parameters (MIPI DCS 1.02, write_memory_start)."""
        self._writing = self._always

    def _start(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._at, self._writing, self._rest = 0, True, self._rest[:0]

    def _go_on(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._writing, self._rest = True, self._rest[:0]

    def _reset(self, when: int, name: str, fields: dict[str, Value]) -> None:
        for register, value in self.part.reset.items():
            self.record(when, register, value)
        self._window = [0, self.columns - 1, 0, self.rows - 1]

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        x0, x1, y0, y1 = self._window
        if not self._writing or x1 < x0 or y1 < y0:
            return
        raw = np.concatenate([self._rest, values])
        late = np.concatenate([np.full(len(self._rest), times[0] if len(times) else 0), times])
        colours, used, each = to_colours(raw, form_of(self.part, self.role))
        self._rest = raw[used:]
        if not len(colours):
            return
        when = late[np.ceil(np.arange(1, len(colours) + 1) * each).astype(np.int64) - 1]
        width, height = x1 - x0 + 1, y1 - y0 + 1
        step = (self._at + np.arange(len(colours))) % (width * height)
        self._at = (self._at + len(colours)) % (width * height)
        x, y = filled(step, width, height, self.part.pixels_an_address, self.role("increment") == "vertical")
        self._put(when, x0 + x, y0 + y, colours)

    def _put(self, when: NDArray[np.int64], x: NDArray[Any], y: NDArray[Any], colours: NDArray[np.uint32]) -> None:
        """Colours at places as they are addressed, each at its tick."""
        turned = {role: self.role(role) for role in WAYS}
        column, row = Orientation.of(self.columns, self.rows, turned).place(x, y)
        inside = (column >= 0) & (column < self.columns) & (row >= 0) & (row < self.rows)
        self._write(when[inside], (row * self.columns + column)[inside], colours[inside])

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint32], NDArray[np.bool_]]:
        """(rows, columns) colours at a tick, and which were written."""
        ram, written = self.held(self.rows * self.columns, when)
        return ram.reshape(self.rows, self.columns), written.reshape(self.rows, self.columns)

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> ColourGlass:
        """What the panel shows at a tick."""
        roles = self.roles(when)
        if not from_reset:  # what was set before the capture is taken as the panel needs it
            for role, register in self.part.memory.registers.items():
                if self.register(register, when) is None:
                    roles[role] = panel.needs.get(register, {"sleep": "out", "display": "on"}.get(role, roles[role]))
        ram, written = self.at(when)
        box = box_of(panel)
        row = np.arange(box.top, box.bottom)
        dark = (row < int(roles.get("partial_start", 0))) | (row > int(roles.get("partial_end", 0)))
        top, high, start = (int(roles.get(role, 0)) for role in ("scroll_top", "scroll_rows", "scroll_start"))
        scrolling = bool(start) and high > 0
        if scrolling:
            moves = (row >= top) & (row < top + high)
            row = np.where(moves, top + (row - top + start - top) % high, row)
        row = np.clip(row, 0, self.rows - 1)
        packed, known = ram[row, box.left : box.right], written[row, box.left : box.right]
        rgb = np.stack([packed >> 16 & 0xFF, packed >> 8 & 0xFF, packed & 0xFF], axis=2).astype(np.uint8)
        if roles.get("idle") == "on":
            rgb = np.where(rgb >= 128, 255, 0).astype(np.uint8)
        if roles.get("inversion") in ALL:
            rgb = np.full_like(rgb, ALL[str(roles["inversion"])])
        elif self._unlike(panel, "inversion", roles):
            rgb = 255 - rgb
        if self._unlike(panel, "colour_order", roles):
            rgb = rgb[:, :, ::-1]
        if roles.get("partial") == "on":
            rgb = np.where(dark[:, None, None], 0, rgb)
        way = upright(panel, self.columns, self.rows)
        rgb, known = way.addressed(rgb), way.addressed(known)
        shown = roles.get("sleep", "out") == "out" and roles.get("display", "on") == "on"
        return ColourGlass(as_seen(rgb, panel).astype(np.uint8), as_seen(known, panel), shown, scrolling)

    def _unlike(self, panel: Panel, role: str, roles: dict[str, Value]) -> bool:
        """Whether a register differs from what this glass needs."""
        register = self.part.memory.registers.get(role, "")
        return bool(register) and roles[role] != panel.needs.get(register, self.part.reset.get(register))


ALL = {"all-off": 0, "all-on": 255}  # modes in which every pixel is the same, whatever the memory holds


def form_of(part: Part, role: Callable[[str, Value], Value]) -> str:
    """How pixels lie in bytes, by the registers; role: asks for one of them by its role, with what it is where there is none.

    Of pixels narrower than a byte the end of the byte that comes first is told by a register of its own; where an order of columns that is
    reversed turns addresses, and not the pixels of one, it comes out the other way round.
    """
    form = str(role("format", part.usual_format))
    if "nibbles" not in part.memory.registers:
        return form
    turned = part.memory.turns == "addresses" and role("column_order", "normal") == "reversed"
    return form if (role("nibbles", "high-first") == "high-first") != turned else f"{form}-low"


def filled(step: NDArray[Any], width: int, height: int, per: int, down: bool) -> tuple[NDArray[Any], NDArray[Any]]:
    """Columns and rows of a window in the order in which it is filled: along its rows, or down its columns, of which `per` share an address."""
    if not down:
        return step % width, step // width
    group, within = step // per, step % per
    return group // height * per + within, group % height


def to_colours(raw: NDArray[np.uint8], form: str) -> tuple[NDArray[np.uint32], int, float]:
    """Bytes to colours 0xRRGGBB, how many bytes were used, and bytes a pixel (8.8, "Data Color Coding"; MIPI DCS 1.02, set_pixel_format)."""
    if form in ("18-bit", "24-bit"):
        count = len(raw) // 3
        parts = raw[: 3 * count].reshape(-1, 3).astype(np.uint32)
        if form == "18-bit":
            parts &= 0xFC
            parts |= parts >> 6
        return _packed(parts), 3 * count, 3
    if form == "12-bit":
        count = len(raw) // 3
        b = raw[: 3 * count].reshape(-1, 3).astype(np.uint32)
        nibbles = (np.stack([b >> 4, b & 15], axis=2).reshape(-1, 3) * 17).astype(np.uint32)
        return _packed(nibbles), 3 * count, 1.5
    if form == "8-bit":  # 3, 3 and 2 bits
        word = raw.astype(np.uint32)
        red, green, blue = word >> 5, word >> 2 & 7, word & 3
        return _packed(np.stack([red * 255 // 7, green * 255 // 7, blue * 85], axis=1)), len(raw), 1
    if form in ("4-bit", "4-bit-low"):  # two greys a byte
        high, low = raw >> 4, raw & 15
        grey = np.stack([high, low] if form == "4-bit" else [low, high], axis=1).reshape(-1).astype(np.uint32) * 17
        return _packed(np.stack([grey, grey, grey], axis=1)), len(raw), 0.5
    if form == "3-bit":  # two pixels a byte: bits 5 to 3, and 2 to 0
        bits = np.stack([raw >> 3, raw], axis=1).reshape(-1).astype(np.uint32) & 7
        return _packed(np.stack([bits >> 2 & 1, bits >> 1 & 1, bits & 1], axis=1) * 255), len(raw), 0.5
    count = len(raw) // 2
    word = raw[: 2 * count].reshape(-1, 2).astype(np.uint32)
    packed = word[:, 0] << 8 | word[:, 1]
    red, green, blue = packed >> 11 & 31, packed >> 5 & 63, packed & 31
    red, green, blue = red << 3 | red >> 2, green << 2 | green >> 4, blue << 3 | blue >> 2
    return _packed(np.stack([red, green, blue], axis=1)), 2 * count, 2


def _packed(rgb: NDArray[Any]) -> NDArray[np.uint32]:
    """(n, 3) to 0xRRGGBB."""
    out: NDArray[np.uint32] = (rgb[:, 0] << 16 | rgb[:, 1] << 8 | rgb[:, 2]).astype(np.uint32)
    return out


def to_bytes(rgb: NDArray[np.uint8], form: str) -> bytes:
    """(height, width, 3) to bytes, rows first; the twin of `to_colours`."""
    if form == "18-bit":
        return (rgb & 0xFC).tobytes()
    if form == "24-bit":
        return rgb.tobytes()
    if form == "8-bit":
        return np.asarray(rgb[..., 0] & 0xE0 | rgb[..., 1] >> 5 << 2 | rgb[..., 2] >> 6, np.uint8).tobytes()
    if form in ("4-bit", "4-bit-low"):
        grey = ((thousandths(rgb) + 500) // 1000 >> 4).astype(np.uint8).reshape(-1, 2)
        first, second = (0, 1) if form == "4-bit" else (1, 0)
        return np.asarray(grey[:, first] << 4 | grey[:, second], np.uint8).tobytes()
    if form == "3-bit":
        bits = ((rgb >> 7) * np.array([4, 2, 1], np.uint8)).sum(axis=2, dtype=np.uint8).reshape(-1)
        bits = np.append(bits, np.uint8(0)) if len(bits) % 2 else bits
        return np.asarray(bits[0::2] << 3 | bits[1::2], np.uint8).tobytes()
    if form == "12-bit":
        nibbles = (rgb >> 4).reshape(-1)
        if len(nibbles) % 2:
            nibbles = np.append(nibbles, 0)
        return (nibbles[0::2] << 4 | nibbles[1::2]).astype(np.uint8).tobytes()
    wide = rgb.astype(np.uint16)
    packed = (wide[..., 0] >> 3) << 11 | (wide[..., 1] >> 2) << 5 | wide[..., 2] >> 3
    return packed.astype(">u2").tobytes()


PixelMemory.effects = {
    "column-window": PixelMemory._columns_window,
    "row-window": PixelMemory._rows_window,
    "write": PixelMemory._start,
    "write-on": PixelMemory._go_on,
    "reset": PixelMemory._reset,
    "clear-box": PixelMemory._cleared,
}
