"""Memory of LED drivers that scan digits or rows: a few bytes, each a digit's segments or a row of dots.

A byte is written by a command of its own (MAX7219) or by data behind an address that counts up (HT16K33); both go into one
journal. Whether the outputs drive digits or dots is the panel's `form`.
"""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from .describe import CodeFont, Panel, Part, Value
from .glass import PixelGlass, TextGlass
from .model import NEVER, Journal
from .segments import SHAPES, character, kind_of

__all__ = ["DigitMemory", "modules_turned", "shown_by"]


class DigitMemory(Journal):
    """The journal of a scanned LED driver's bytes."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.size = part.memory.columns
        self._pointer: int | None = 0 if from_reset else None

    def _digit(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._write(np.array([when]), np.array([int(name.rpartition("-")[2])]), np.array([int(fields["value"])], np.uint8))

    def _address(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._pointer = int(fields["address"])

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        if self._pointer is not None:
            self._write(times, (self._pointer + np.arange(len(values))) % self.size, values)
            self._pointer = (self._pointer + len(values)) % self.size

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(size,) bytes at a tick, and which of them were written."""
        return self.held(self.size, when)

    def lit(self, when: int = NEVER, from_reset: bool = True) -> tuple[NDArray[np.uint8], NDArray[np.bool_], bool]:
        """(size,) outputs of each byte as they light, which bytes are known, and whether the part drives anything at all."""
        memory, known = self.at(when)
        roles = self.roles(when)

        def is_set(role: str, good: str) -> bool:
            register = self.part.memory.registers.get(role, "")
            if not register or (not from_reset and self.register(register, when) is None):
                return True
            return str(roles[role]) == good

        out = memory.copy()
        mask = self.part.raw_of(self.part.memory.registers.get("decode", ""), roles.get("decode", 0))
        for digit in range(self.size):
            if mask >> digit & 1:
                out[digit] = decoded(int(memory[digit]), self.part.memory.code_font)
        limit = self.register(self.part.memory.registers.get("scan_limit", ""), when)
        if limit is None and from_reset:
            limit = self.part.reset.get(self.part.memory.registers.get("scan_limit", ""))
        if limit is not None:
            out[int(limit) :] = 0
        shown = is_set("display", "on") and is_set("power", "on") and is_set("shutdown", "off")
        if str(roles.get("test", "off")) == "on":
            out[:] = 0xFF
            shown = True
        return out, known, shown

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> TextGlass | PixelGlass:
        """What the panel shows at a tick."""
        return shown_by([self], panel, when, from_reset)


def shown_by(chain: list[DigitMemory], panel: Panel, when: int = NEVER, from_reset: bool = True) -> TextGlass | PixelGlass:
    """What a panel shows of the drivers of a chain, the nearest first."""
    out, known, shown = np.zeros(256 * len(chain), np.uint8), np.zeros(256 * len(chain), bool), True
    for chip, memory in enumerate(chain):
        own = slice(256 * chip, 256 * chip + memory.size)
        out[own], known[own], drives = memory.lit(when, from_reset)
        shown = shown and drives
    if panel.form == "matrix":
        rows = np.array(panel.cells, np.int64)
        order: Literal["big", "little"] = "big" if "msb-left" in panel.segments else "little"
        lit = np.unpackbits(out[rows], axis=1, bitorder=order)[:, : panel.width].astype(bool)
        seen = np.repeat(known[rows], 8, axis=1)[:, : panel.width]
        lit, seen = modules_turned(lit, panel.module_turn), modules_turned(seen, panel.module_turn)
        turns = panel.rotate // 90 % 4
        if panel.mirror:
            lit, seen = lit[:, ::-1], seen[:, ::-1]
        return PixelGlass(np.rot90(lit, -turns), np.rot90(seen, -turns), shown)
    cells = np.array(panel.cells[0], np.int64)
    codes = out[cells].astype(np.int64)
    if len(panel.segments) > 8:
        codes |= out[cells + 1].astype(np.int64) << 8
    kind = kind_of(panel.segments)
    shapes = [character(names_of(code, panel.segments), kind) for code in codes.tolist()]
    for after, cell, mask in sorted(panel.colons, reverse=True):
        if out[cell] & mask:
            shapes.insert(after, ":")
    return TextGlass(["".join(shapes)], codes[None, :], known[cells][None, :], shown)


def modules_turned(pixels: NDArray[np.bool_], degrees: int) -> NDArray[np.bool_]:
    """(height, width) dots with each 8x8 module turned clockwise where it is."""
    high, wide = pixels.shape
    if not degrees % 360 or high % 8 or wide % 8:
        return pixels
    blocks = pixels.reshape(high // 8, 8, wide // 8, 8).swapaxes(1, 2)
    return np.rot90(blocks, -degrees // 90, axes=(2, 3)).swapaxes(1, 2).reshape(high, wide)


def names_of(code: int, segments: list[str]) -> list[str]:
    """The lit segments of a byte, by what its bits drive."""
    return [name for bit, name in enumerate(segments) if code >> bit & 1]


def decoded(value: int, font: CodeFont | None) -> int:
    """The segments that a part drives for a code, as its own bits."""
    if font is None:
        return value
    lit = {*SHAPES[font.characters[value & 0x0F]], *(["dp"] if value >> font.point & 1 else [])}
    return sum(1 << bit for bit, name in enumerate(font.segments) if name in lit)


DigitMemory.effects = {"digit": DigitMemory._digit, "address": DigitMemory._address}
