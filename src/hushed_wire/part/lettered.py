"""A memory of text and one of pixels behind one glass: letters of half a word two at an address, rows of pixels sixteen at an address.

Strategy: both lie in one journal of bytes, text first; a run of data is placed in closed form behind the address that was set last. In rows
of pixels the address counts along the row, and at its end begins it again. A panel shows one of the two, as its `form` says; in truth both
are on the glass, one over the other. Source: ST7920 datasheet, "Display Data RAM (DDRAM)", "Graphic RAM (GDRAM)", "LCD driver".
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .characters import shown_as
from .describe import Panel, Part, Value
from .glass import PixelGlass, TextGlass
from .model import NEVER, Journal
from .mounting import as_seen

__all__ = ["WORD", "LetteredMemory"]

WORD = 16  # pixels at an address
SPACE = 0x20


class LetteredMemory(Journal):
    """Bytes of text (two an address), then bytes of pixels, row by row."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.letters = 2 * part.memory.columns  # as many as a row of pixels has words, in each of four rows
        self.across, self.rows = part.memory.columns * WORD // 8 // 4, part.memory.rows
        self._text: int | None = None  # the next byte of text
        self._pixels: tuple[int, int] | None = None  # the row, and the next byte of it
        if from_reset:
            self._clear(0, "", {})

    # ---- effects of commands ----

    def _clear(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._write(np.full(self.letters, when), np.arange(self.letters), np.full(self.letters, SPACE, np.uint8))
        self._home(when, name, fields)

    def _home(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._text, self._pixels = 0, None

    def _to_cell(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._text, self._pixels = 2 * int(fields["address"]) % self.letters, None

    def _to_row(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._text, self._pixels = None, (int(fields["row"]), int(fields["column"]) // 8)

    def _elsewhere(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._text = self._pixels = None

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        step = np.arange(len(values))
        if self._pixels is not None:
            row, byte = self._pixels
            if row < self.rows:
                self._write(times, self.letters + row * self.across + (byte + step) % self.across, values)
            self._pixels = row, (byte + len(values)) % self.across
        elif self._text is not None:
            self._write(times, (self._text + step) % self.letters, values)
            self._text = (self._text + len(values)) % self.letters

    # ---- what is where, when ----

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """Bytes at a tick, text and then rows of pixels, and which of them were written."""
        return self.held(self.letters + self.rows * self.across, when)

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> TextGlass | PixelGlass:
        """What the panel shows at a tick: its text, or its pixels."""
        held, written = self.at(when)
        roles = self.roles(when)
        on = roles.get("display") == "on" or (
            self.register(self.part.memory.registers["display"], when) is None and not from_reset
        )
        if panel.form == "text":
            cells = np.array([[first + k for k in range(count)] for first, count in panel.cells], np.int64)
            codes = held[cells].astype(np.int64)
            codes[~written[cells]] = SPACE
            lines = [
                "".join(shown_as(self.part.memory.rom, code) if code >= SPACE else "?" for code in row) for row in codes.tolist()
            ]
            return TextGlass(lines, codes, written[cells], on)
        graphic = roles.get("graphic") == "on" or (
            self.register(self.part.memory.registers["graphic"], when) is None and not from_reset
        )
        lit, known = (self._folded(plane, panel) for plane in (held, np.where(written, 0xFF, 0).astype(np.uint8)))
        return PixelGlass(as_seen(lit, panel), as_seen(known, panel), on and graphic)

    def _folded(self, held: NDArray[np.uint8], panel: Panel) -> NDArray[np.bool_]:
        """(height, width) bits of the rows behind the glass."""
        rows = np.unpackbits(held[self.letters :].reshape(self.rows, self.across), axis=1).astype(bool)
        fold = self.part.memory.fold or panel.height
        halves = [rows[:fold, k * panel.width : (k + 1) * panel.width] for k in range(-(-panel.height // fold))]
        out: NDArray[np.bool_] = np.vstack(halves)[: panel.height]
        return out


LetteredMemory.effects = {
    "clear": LetteredMemory._clear,
    "home": LetteredMemory._home,
    "cell": LetteredMemory._to_cell,
    "graphic-cell": LetteredMemory._to_row,
    "glyph": LetteredMemory._elsewhere,
}
