"""Memory of LED drivers that scan digits or rows: a few bytes, each a digit's segments or a row of dots.

A byte is written by a command of its own (MAX7219) or by data behind an address that counts up (HT16K33); both go into one
journal. Whether the outputs drive digits or dots is the panel's `form`.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part, Value
from .describe_memory import CodeFont
from .engine import DATA, Commands
from .glass import PixelGlass, TextGlass
from .model import NEVER, Journal
from .mounting import as_seen
from .segments import SHAPES, character, kind_of

__all__ = ["CODE", "DigitMemory", "DigitTexts", "modules_turned", "shown_by"]

CODE = 8  # bits of the code of a digit of segment glass


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

    def codes(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(size,) codes of what begins at each address at a tick, and which of them were written."""
        return self.at(when)

    def lit(self, when: int = NEVER, from_reset: bool = True) -> tuple[NDArray[np.uint8], NDArray[np.bool_], bool]:
        """(size,) outputs of each byte as they light, which bytes are known, and whether the part drives anything at all."""
        memory, known = self.codes(when)
        roles = self.roles(when)

        def is_set(role: str, good: str) -> bool:
            register = self.part.memory.registers.get(role, "")
            if not register or (not from_reset and self.register(register, when) is None):
                return True
            return str(roles[role]) == good

        out = memory.copy()
        decode, always = "decode" in self.part.memory.registers, -1 if self.part.memory.code_font is not None else 0
        mask = self.part.raw_of(self.part.memory.registers.get("decode", ""), roles.get("decode", 0)) if decode else always
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
        return PixelGlass(as_seen(lit, panel), as_seen(seen, panel), shown)
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


class DigitTexts:
    """What single commands to a driver of digits write, as characters, while they come piece by piece. chip: of a chain, 0 the nearest."""

    def __init__(self, part: Part, panel: Panel, chip: int = 0) -> None:
        self.part, self.panel = part, panel
        self.cells = [cell - 256 * chip for cell in panel.cells[0]]
        self.wide = 2 if len(panel.segments) > 8 else 1  # bytes of a digit
        self.places = {
            number: int(own.name.rpartition("-")[2]) for number, own in enumerate(part.command) if own.effect == "digit"
        }
        self.register = part.memory.registers.get("decode", "")
        name = self.register.partition(".")[0]
        self.sets = next((number for number, own in enumerate(part.command) if own.name == name), -1)
        # Which digits the part decodes: not known before it was told, as a capture may begin on a running display.
        self.mask: int | None = None if self.register else 0 if part.memory.code_font is None else -1

    def read(self, own: Commands, wanted: NDArray[np.intp]) -> dict[int, str]:
        """Of the commands at the indices wanted, what those for digits show. Each piece is read once, in order."""
        set_at = np.flatnonzero(own.kind == self.sets) if self.sets >= 0 else np.empty(0, np.intp)
        field = self.register.partition(".")[2]
        masks = [self.mask, *(self.part.raw_of(self.register, own.fields_of(index)[0][field]) for index in set_at.tolist())]
        out: dict[int, str] = {}
        for index, known in zip(wanted.tolist(), np.searchsorted(set_at, wanted).tolist(), strict=True):
            text = self._shown(own, index, masks[known])
            if text is not None and "?" not in text:
                out[index] = text
        self.mask = masks[-1]
        return out

    def _shown(self, own: Commands, index: int, mask: int | None) -> str | None:
        """None where it is for no digit, or where nobody can tell."""
        raw, place = own.bytes_of(index), self.places.get(int(own.kind[index]))
        if place is not None:
            if mask is None:
                return None
            value = raw[-1]
            return self._characters(place, [decoded(value, self.part.memory.code_font) if mask >> place & 1 else value])
        if own.kind[index] != DATA or not index or own.kind[index - 1] < 0:
            return None
        ahead = self.part.command[own.kind[index - 1]]
        return self._characters(int(own.fields_of(index - 1)[0]["address"]), list(raw)) if ahead.effect == "address" else None

    def _characters(self, first: int, values: list[int]) -> str | None:
        """values: from a byte of the memory on."""
        if self.part.memory.backplanes:
            codes = list(_codes_from(self.part, self.panel, first, values).values())
            kind = kind_of(self.panel.segments)
            return "".join(character(names_of(code, self.panel.segments), kind) for code in codes) or None
        held = {(first + number) % self.part.memory.columns: value for number, value in enumerate(values)}
        whole = [cell for cell in self.cells if all(cell + part in held for part in range(self.wide))]
        codes = [sum(held[cell + part] << 8 * part for part in range(self.wide)) for cell in whole]
        kind = kind_of(self.panel.segments)
        return "".join(character(names_of(code, self.panel.segments), kind) for code in codes) if whole else None


def _codes_from(part: Part, panel: Panel, first: int, values: Sequence[int]) -> dict[int, int]:
    """The digits of a panel that words of data write whole from an address on: their codes, by their addresses."""
    bits, planes = part.memory.data_bits, part.memory.backplanes
    register = part.memory.registers.get("backplanes", "")
    if register and part.memory.filled:
        planes = int(panel.needs.get(register, part.reset.get(register, planes)))
    each = -(-bits // planes)
    at = {
        (first + each * number + bit // planes, bit % planes): value >> (bits - 1 - bit) & 1
        for number, value in enumerate(values)
        for bit in range(bits)
    }
    out = {}
    for cell in panel.cells[0]:
        own = [at.get((cell + bit // planes, bit % planes)) for bit in range(CODE)]
        if None not in own:
            out[cell] = int("".join(map(str, own)), 2)
    return out


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
