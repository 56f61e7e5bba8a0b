"""Drivers of segment glass: a few bits at each address, one for each backplane, which data fill in the order in which they come.

Strategy: each bit of data has its place in closed form, (start + k div n, k mod n) with n bits at an address, and goes into a journal. A digit's code is
the eight bits from its address on, the first of them on top, whatever n is: so digits look the same as those of LED drivers. Sources: PCF8576 datasheet,
"Display RAM", "Data pointer", "Subaddress counter", "Input and output bank selector"; HT1621 datasheet, "Display memory - RAM", "Data format".
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .describe import Part, Value
from .digit import CODE, DigitMemory
from .model import NEVER

__all__ = ["LcdMemory"]


class LcdMemory(DigitMemory):
    """The journal of bits; address = address x backplanes of the part + backplane."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.most = part.memory.backplanes
        self._elsewhere = False  # what comes is for another part of the same glass

    def _in_use(self, when: int | None = None) -> int:
        """How many backplanes the part drives: now, while it is fed, or at a tick."""
        role = self.part.memory.registers.get("backplanes", "")
        if not role or not self.part.memory.filled:
            return self.most
        value = self.value(role, self.most) if when is None else self.roles(when).get("backplanes", self.most)
        return int(value)

    def _bank(self, role: str, when: int | None = None) -> int:
        """The first backplane of the half of the memory that is written to, or shown, where two halves fit."""
        value = self.role(role, 0) if when is None else self.roles(when).get(role, 0)
        return 2 * int(value) if self._in_use(when) <= 2 else 0

    def _seat(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._elsewhere = int(fields["subaddress"]) != 0

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        if self._pointer is None or self._elsewhere:
            return
        bits, planes = self.part.memory.data_bits, self._in_use()
        each = -(-bits // planes)  # addresses that a word fills
        bit = np.arange(bits)
        address = self._pointer + each * np.arange(len(values))[:, None] + bit // planes
        value = values[:, None] >> (bits - 1 - bit) & 1
        after = self._pointer + each * len(values)
        if self.part.memory.wrap == "stop":  # the next part of a cascade has its turn
            inside = address < self.size
            self._elsewhere = after >= self.size
        else:
            inside, address = np.ones(address.shape, bool), address % self.size
        self._pointer = after % self.size
        place = address * self.most + bit % planes + self._bank("bank_in")
        self._write(np.broadcast_to(times[:, None], address.shape)[inside], place[inside], value[inside].astype(np.uint8))

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(size,) the bits at each address at a tick, the first backplane's on top, and which addresses were written to."""
        held, written = self.held(self.size * self.most, when)
        weight = 1 << np.arange(self.most)[::-1]
        return (held.reshape(self.size, -1) @ weight).astype(np.uint8), np.asarray(written.reshape(self.size, -1).any(axis=1))

    def codes(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(size,) the code that begins at each address at a tick, and whether all of it was written."""
        held, written = self.held(self.size * self.most, when)
        planes, first = self._in_use(when), self._bank("bank_out", when)
        bit = np.arange(CODE)
        address = np.arange(self.size)[:, None] + bit // planes
        place = np.minimum(address, self.size - 1) * self.most + bit % planes + first
        there = address < self.size
        code = np.packbits((held[place] == 1) & there, axis=1)[:, 0]
        return code, np.asarray((written[place] & there).all(axis=1))


LcdMemory.effects = {**DigitMemory.effects, "seat": LcdMemory._seat}
