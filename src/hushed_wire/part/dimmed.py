"""Drivers that dim each LED of a matrix by itself: frames of switches, of blinking, and of a byte of brightness for each, one of them shown.

Strategy: what is written behind an address of a frame goes into one journal; a LED is as bright as its byte, where its switch is on.
Source: IS31FL3731 datasheet, "Frame register" (00h to B3h), "Picture display register", "Shutdown register".
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part, Value
from .glass import PixelGlass
from .model import NEVER, Journal
from .mounting import as_seen

__all__ = ["BRIGHTNESS", "FRAME", "DimmedMemory", "address_command"]

SWITCHES, BRIGHTNESS, FRAME = 0x00, 0x24, 0xB4  # where switches and brightness begin in a frame, and its length
FRAMES = 8


class DimmedMemory(Journal):
    """The journal of all frames; address = frame x FRAME + register."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self._frame: int | None = 0 if from_reset else None
        self._pointer: int | None = None

    def _bank(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._frame = int(fields.get("number", 0)) if fields.get("set") == "frames" else None
        self._pointer = None

    def _address(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._pointer = int(fields["address"])

    def _interrupted(self) -> None:
        self._pointer = None

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        if self._frame is None or self._pointer is None:
            return
        registers = self._pointer + np.arange(len(values))
        inside = registers < FRAME
        self._write(times[inside], self._frame * FRAME + registers[inside], values[inside])
        self._pointer += len(values)

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(frames, registers) bytes at a tick, and which of them were written."""
        held, written = self.held(FRAMES * FRAME, when)
        return held.reshape(FRAMES, FRAME), written.reshape(FRAMES, FRAME)

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> PixelGlass:
        """What the LEDs show at a tick: the frame that is chosen."""
        held, written = self.at(when)
        roles = self.roles(when)
        own, known = held[int(roles.get("frame", 0))], written[int(roles.get("frame", 0))]
        per = self.part.memory.columns
        row, column = np.mgrid[: panel.height, : panel.width]
        switch = SWITCHES + row * (per // 8) + column // 8
        on = (own[switch] >> (column % 8) & 1 == 1) | (~known[switch] & (not from_reset))
        level = BRIGHTNESS + row * per + column
        light = np.where(on, own[level] / 255, 0.0).astype(np.float32)
        seen = known[level]
        light, seen = as_seen(light, panel), as_seen(seen, panel)
        power = self.part.memory.registers.get("power", "")
        shown = roles.get("power") == "normal" or (self.register(power, when) is None and not from_reset)
        return PixelGlass(light > 0, seen, shown, light=light)


def address_command(at: int) -> str:
    """The command that goes to a register of a frame."""
    return "led-address-high" if at >= 128 else "led-address"


DimmedMemory.effects = {"bank": DimmedMemory._bank, "address": DimmedMemory._address}
