"""Drivers that dim each LED of a matrix by itself: banks of registers with switches, and with a byte of brightness for each LED; of frames one is shown.

Strategy: what is written behind an address of a bank goes into one journal; a LED is as bright as its byte, where its switch is on.
Source: IS31FL3731 datasheet, "Frame register" (00h to B3h), "Picture display register", "Shutdown register"; IS31FL3733 datasheet, "LED control
register", "PWM register", "Configuration register".
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part, Value
from .glass import PixelGlass
from .model import NEVER, Journal
from .mounting import as_seen

__all__ = ["DimmedMemory", "address_command", "level_register"]


class DimmedMemory(Journal):
    """The journal of all banks; address = bank x size + register."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        if part.memory.dimming is None:
            raise ValueError(f"{part.name}: memory.dimming lacks")
        self.dimming = part.memory.dimming
        self._bank_now: int | None = 0 if from_reset else None
        self._pointer: int | None = None

    def _bank(self, when: int, name: str, fields: dict[str, Value]) -> None:
        first = self.dimming.banks.get(str(fields.get("set", "")))
        self._bank_now = None if first is None else first + int(fields.get("number", 0))
        self._pointer = None

    def _address(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._pointer = int(fields["address"])

    def _interrupted(self) -> None:
        self._pointer = None

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        if self._bank_now is None or self._pointer is None:
            return
        registers = self._pointer + np.arange(len(values))
        inside = registers < self.dimming.size
        self._write(times[inside], self._bank_now * self.dimming.size + registers[inside], values[inside])
        self._pointer += len(values)

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(banks, registers) bytes at a tick, and which of them were written."""
        held, written = self.held(self.dimming.count * self.dimming.size, when)
        shape = self.dimming.count, self.dimming.size
        return held.reshape(shape), written.reshape(shape)

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> PixelGlass:
        """What the LEDs show at a tick: the frame that is chosen."""
        held, written = self.at(when)
        roles = self.roles(when)
        frame, per = int(roles.get("frame", 0)), self.part.memory.columns
        row, column = np.mgrid[: panel.height, : panel.width]
        (switches, first_switch), (levels, first_level) = self.dimming.switches, self.dimming.levels
        switch = switches + frame, first_switch + row * (per // 8) + column // 8
        on = (held[switch] >> (column % 8) & 1 == 1) | (~written[switch] & (not from_reset))
        level = levels + frame, first_level + row * per + column
        light = np.where(on, held[level] / 255, 0.0).astype(np.float32)
        seen = written[level]
        light, seen = as_seen(light, panel), as_seen(seen, panel)
        power = self.part.memory.registers.get("power", "")
        shown = roles.get("power") == "normal" or (self.register(power, when) is None and not from_reset)
        return PixelGlass(light > 0, seen, shown, light=light)


def level_register(part: Part, column: int, row: int) -> int:
    """The register of a LED's brightness within its bank."""
    assert part.memory.dimming is not None
    return part.memory.dimming.levels[1] + row * part.memory.columns + column


def address_command(at: int) -> str:
    """The command that goes to a register of brightness."""
    return "led-address-high" if at >= 128 else "led-address"


DimmedMemory.effects = {"bank": DimmedMemory._bank, "address": DimmedMemory._address}
