"""The whole of a display's memory, with what the glass shows of it marked."""

from __future__ import annotations

from typing import Any

import numpy as np
from rich.console import Console
from rich.style import Style
from rich.text import Text

from ..part.character import CharacterMemory
from ..part.characters import shown_as
from ..part.digit import DigitMemory
from ..part.paged import Memory as PagedMemory
from ..rig import DeviceReading
from .glass import half_blocks
from .tables import plain_table

__all__ = ["memory"]


def memory(out: Console, device: DeviceReading, when: int) -> None:
    """Prints the memory of each chip at a tick."""
    for model in getattr(device.memory, "models", [device.memory]):
        if isinstance(model, CharacterMemory):
            _characters(out, device, model, when)
        elif isinstance(model, PagedMemory | DigitMemory):
            _bytes(out, model, when)


def _characters(out: Console, device: DeviceReading, model: CharacterMemory, when: int) -> None:
    """Two lines of forty cells, those in the window marked below; the eight characters of one's own, dot by dot."""
    held, written = model.at(when)
    shift = int(model.register("window.shift", when) or 0)
    seen = np.zeros(model.size, bool)
    two = model.two_lines()
    for row in device.panel.cells:
        for first, count in zip(row[0::2], row[1::2], strict=True):
            for k in range(count):
                address = (first & 0xFF) + k
                if model.runs_on:
                    seen[(address + shift) % model.size] = True
                    continue
                line, column = (1, address - 0x40) if address >= 0x40 else (0, address)
                seen[(line * 40 + (column + shift) % 40) if two else (address + shift) % 80] = True
    how = "two lines of 40" if two else f"one line of {model.size}"
    out.print(Text(f"DDRAM, {how}; marked: what the window shows", style="head"))
    for line in range(-(-model.size // 40)):
        cells = slice(40 * line, 40 * line + 40)
        text = "".join(
            shown_as(device.part.memory.rom, int(code)) if known else "·"
            for code, known in zip(held[cells], written[cells], strict=True)
        )
        out.print(Text(f"  {0x40 * line if two else 40 * line:02X}h  ").append(text, style=Style(bold=True)))
        out.print(Text("       " + "".join("‾" if here else " " for here in seen[cells]), style="next"))
    glyphs = held[128:].reshape(8, 8)
    known = written[128:].reshape(8, 8).any(axis=1)
    if known.any():
        out.print(Text("CGRAM, characters of one's own", style="head"))
        table = plain_table()
        for number in np.flatnonzero(known).tolist():
            table.add_column(str(number))
        art = []
        for number in np.flatnonzero(known).tolist():
            rows = np.array([[bits >> (4 - x) & 1 for x in range(5)] for bits in glyphs[number].tolist()], bool)
            art.append(half_blocks(rows))
        for cells_of_row in zip(*art, strict=True):
            table.add_row(*cells_of_row)
        out.print(table)


def _bytes(out: Console, model: Any, when: int) -> None:
    """Memory as bytes, a page or so a line; what was not written as dots."""
    held, written = model.at(when)
    if held.dtype != np.uint8:
        out.print(Text("the memory holds colours: --picture FILE.png shows them", style="quiet"))
        return
    held, written = np.atleast_2d(held), np.atleast_2d(written)
    out.print(Text(f"memory, {held.shape[0]} x {held.shape[1]} bytes", style="head"))
    for page, (row, known) in enumerate(zip(held.tolist(), written.tolist(), strict=True)):
        for first in range(0, len(row), 32):
            cells = [
                f"{value:02X}" if there else ".."
                for value, there in zip(row[first : first + 32], known[first : first + 32], strict=True)
            ]
            out.print(Text(f"  {page}:{first:3d}  ").append(" ".join(cells)), soft_wrap=True)
