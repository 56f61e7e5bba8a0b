"""Character display memory: 80 characters, eight glyphs of the user's own, a window that can be shifted.

Strategy: as for pictures, a run of data is placed in closed form, (start +- k) mod 80, into a journal of writes; clearing
is eighty writes. What a cell shows is the journal at that address up to a moment. Source: HD44780U datasheet, "Display Data
RAM (DDRAM)", "Character Generator RAM (CGRAM)", "Instructions" (Table 6).
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .characters import shown_as
from .describe import Panel, Part, Value
from .glass import TextGlass
from .model import NEVER, Journal

__all__ = ["CharacterMemory"]

SIZE = 80
CGRAM = 0x80  # where glyph rows lie in the journal's addresses
ICONS = CGRAM + 64  # where those of icons do: five to an address, as the rows of a glyph
ICON_ADDRESSES = 16
SPACE = 0x20
GLYPHS, SIGNS = (64, CGRAM), (ICON_ADDRESSES, ICONS)  # areas beside the cells: size, and first address in the journal


class CharacterMemory(Journal):
    """The journal of DDRAM and CGRAM."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        # Where no command says how many lines there are, addresses run through the whole memory.
        self.runs_on = "lines" not in part.memory.registers
        self.size = part.memory.columns if self.runs_on else SIZE
        self._pointer: int | None = None  # address of the next write, unknown until it is set
        self._area: tuple[int, int] | None = None  # what the next write goes to, where it is not a cell
        if from_reset:  # "Reset Function": display clear, then increment by one, no shift
            self._write(np.zeros(self.size, np.int64), np.arange(self.size), np.full(self.size, SPACE, np.uint8))
            self._pointer = 0
        self.record(0, "window.shift", 0)

    def two_lines(self) -> bool:
        """Whether memory is two lines of forty."""
        return str(self.role("lines", 1)) == "2"

    # ---- effects of instructions (Table 6) ----

    def _clear(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._write(np.full(self.size, when), np.arange(self.size), np.full(self.size, SPACE, np.uint8))
        self.record(when, "entry-mode.direction", "increment")  # "sets I/D to 1 in entry mode"
        self._home(when, name, fields)

    def _home(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._pointer, self._area = 0, None
        self.record(when, "window.shift", 0)
        self._note_pointer(when)

    def _shift(self, when: int, name: str, fields: dict[str, Value]) -> None:
        step = 1 if fields["direction"] == "right" else -1
        if fields["what"] == "display":
            self.record(when, "window.shift", int(self.value("window.shift")) - step)
        elif self._pointer is not None and self._area != GLYPHS:
            self._pointer = (self._pointer + step) % self.size
            self._note_pointer(when)

    def _to_cell(self, when: int, name: str, fields: dict[str, Value]) -> None:
        address = int(fields["address"])
        self._area = None
        if self.two_lines():
            self._pointer = min(address & 0x3F, 39) + (40 if address & 0x40 else 0)
        else:
            self._pointer = min(address, self.size - 1)
        self._note_pointer(when)

    def _to_glyph(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._pointer, self._area = int(fields["address"]), GLYPHS

    def _to_icon(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._pointer, self._area = int(fields["address"]), SIGNS

    def _note_pointer(self, when: int) -> None:
        if self._pointer is not None and self._area is None:
            self.record(when, "cursor.cell", self._pointer)

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        if self._pointer is None or not len(values):
            return
        step = -1 if self.role("direction", "increment") == "decrement" else 1
        size, ahead = self._area or (self.size, 0)
        cells = (self._pointer + step * np.arange(len(values))) % size
        self._write(times, cells + ahead, values)
        self._pointer = (self._pointer + step * len(values)) % size
        if self._area is None:
            if self.role("shift", "off") == "on":  # the window follows what is written
                moved = int(self.value("window.shift")) + step * np.arange(1, len(values) + 1)
                for when, by in zip(times.tolist(), moved.tolist(), strict=True):
                    self.record(when, "window.shift", by)
            self._note_pointer(int(times[-1]))

    # ---- what is where, when ----

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(144,) bytes at a tick, 80 characters and from 128 on 64 glyph rows, and which of them were written."""
        held, written = self.held(ICONS + ICON_ADDRESSES, when, SPACE)
        out, known = held[:ICONS], written[:ICONS]
        out[CGRAM:][~known[CGRAM:]] = 0
        return out, known

    def icons(self, when: int = NEVER) -> list[tuple[int, int]]:
        """The icons that are lit at a tick: address and bit of each, as the datasheets number them."""
        held = self.held(ICONS + ICON_ADDRESSES, when)[0][ICONS:]
        return [(address, bit) for address, value in enumerate(held.tolist()) for bit in range(4, -1, -1) if value >> bit & 1]

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True, controller: int = 0) -> TextGlass:
        """What the panel's cells of this controller show at a tick."""
        memory, written = self.at(when)
        roles = self.roles(when)
        shift = int(self.register("window.shift", when) or 0)
        two = str(roles.get("lines", 1)) == "2" or (
            self.register(self.part.memory.registers.get("lines", ""), when) is None and not from_reset
        )
        rows = []
        for row in panel.cells:
            addresses = [first + k for first, count in zip(row[0::2], row[1::2], strict=True) for k in range(count)]
            if addresses[0] >> 8 == controller:
                rows.append(
                    [(address & 0xFF) + shift if self.runs_on else cell_of(address & 0xFF, shift, two) for address in addresses]
                )
        cells = np.array(rows, np.int64) % self.size if self.runs_on else np.array(rows, np.int64)
        codes = np.where(cells >= 0, memory[np.maximum(cells, 0)], SPACE).astype(np.int64)
        known = (cells < 0) | written[np.maximum(cells, 0)]
        lines = ["".join(shown_as(self.part.memory.rom, code) for code in row) for row in codes.tolist()]
        cursor, kind = None, ""
        if roles.get("cursor") == "on" or roles.get("blink") == "on":
            at = np.argwhere(cells == self.register("cursor.cell", when))
            if len(at):
                cursor, kind = (int(at[0][0]), int(at[0][1])), "blinking" if roles.get("blink") == "on" else "underline"
        on = roles.get("display", "on") if from_reset or self.register("display.state", when) is not None else "on"
        glass = TextGlass(lines, codes, known, on == "on", cursor, kind, memory[CGRAM:].reshape(8, 8))
        lit = ", ".join(f"{address:02X}h bit {bit}" for address, bit in self.icons(when))
        glass.note = f"icons lit: {lit}" if lit else ""
        return glass


def cell_of(address: int, shift: int, two_lines: bool) -> int:
    """The character memory's cell behind a DDRAM address of the panel under a display shift; -1 where there is none.

    A controller set to one line has no second one: a panel's second row then shows nothing.
    """
    if two_lines:
        line, column = (1, address - 0x40) if address >= 0x40 else (0, address)
        return line * 40 + (column + shift) % 40
    return (address + shift) % SIZE if address < 0x40 else -1


CharacterMemory.effects = {
    "clear": CharacterMemory._clear,
    "home": CharacterMemory._home,
    "shift": CharacterMemory._shift,
    "cell": CharacterMemory._to_cell,
    "glyph": CharacterMemory._to_glyph,
    "icon": CharacterMemory._to_icon,
}
