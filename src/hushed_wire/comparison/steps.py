"""The commands of one chip as they are compared: data in one block however they were cut, a number for each that is equal for equal ones."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..part.describe import Value
from ..part.engine import DATA, NAMES, Commands
from .sides import Told

__all__ = ["Numbers", "Steps"]

Numbers = dict[tuple[int, Any], int]  # what a command says, to its number: shared by both sides


@dataclass
class Steps:
    """kind: (n,) index into the part's commands, or that of data, unknown, cut short. first, count: (n,) of the payload. ids: (n,)."""

    told: Told
    chip: int
    kind: NDArray[np.int16]
    first: NDArray[np.int64]
    count: NDArray[np.int64]
    ids: NDArray[np.int64]

    @classmethod
    def of(cls, told: Told, chip: int, numbers: Numbers) -> Steps:
        """Of one chip of a display."""
        own = told.chips[chip]
        fresh = np.ones(len(own), bool)
        fresh[1:] = (own.kind[1:] != DATA) | (own.kind[:-1] != DATA)
        at = np.flatnonzero(fresh)
        count = np.add.reduceat(own.count, at) if len(at) else np.empty(0, np.int64)
        out = cls(told, chip, own.kind[at], own.first[at], count, np.empty(0, np.int64))
        out.ids = np.array([out._number(index, numbers) for index in range(len(at))], np.int64)
        return out

    def __len__(self) -> int:
        return len(self.kind)

    @property
    def commands(self) -> Commands:
        """Where they come from."""
        return self.told.chips[self.chip]

    def _number(self, index: int, numbers: Numbers) -> int:
        """Bits that nothing depends on make no difference."""
        kind, raw = int(self.kind[index]), self.raw(index)
        said: Any = raw
        if kind >= 0:
            fields, note = self._decoded(kind, raw)
            said = (tuple(sorted(fields.items())), raw if note else b"")
        return numbers.setdefault((kind, said), len(numbers))

    def raw(self, index: int) -> bytes:
        """The words of one."""
        first = int(self.first[index])
        return self.commands.payload.value[first : first + int(self.count[index])].tobytes()

    def name(self, index: int) -> str:
        """As it is shown."""
        kind = int(self.kind[index])
        return self.told.part.command[kind].name if kind >= 0 else NAMES[kind]

    @cached_property
    def _known(self) -> dict[tuple[int, bytes], tuple[dict[str, Value], str]]:
        return {}

    def _decoded(self, kind: int, raw: bytes) -> tuple[dict[str, Value], str]:
        if (kind, raw) not in self._known:
            self._known[kind, raw] = self.told.part.command[kind].decode(raw)
        return self._known[kind, raw]

    def fields_of(self, index: int) -> tuple[dict[str, Value], str]:
        """Its fields, and a note on what is not documented."""
        kind = int(self.kind[index])
        return self._decoded(kind, self.raw(index)) if kind >= 0 else ({}, "")

    def begins(self, index: int) -> int:
        """The tick at which its first word begins."""
        return int(self.commands.payload.start[int(self.first[index])])

    def ends(self, index: int) -> int:
        """The tick at which its last word takes effect."""
        return int(self.commands.payload.time[int(self.first[index]) + int(self.count[index]) - 1])

    def place(self, index: int) -> str:
        """Its line in a source; "" of a capture."""
        return self.told.places[self.chip][int(self.first[index])] if self.told.places else ""

    @cached_property
    def kinds(self) -> set[int]:
        """The distinct commands among them."""
        return set(np.unique(self.kind).tolist())

    @cached_property
    def _counts(self) -> dict[int, int]:
        distinct, counts = np.unique(self.ids, return_counts=True)
        return dict(zip(distinct.tolist(), counts.tolist(), strict=True))

    def count_of(self, number: int) -> int:
        """How often a command is sent."""
        return self._counts.get(number, 0)

    @cached_property
    def _running(self) -> tuple[list[int], dict[str, Value]]:
        """How far registers were followed, and what they are there: differences are judged in order, so that each command is looked at once."""
        return [0], {}

    def set_before(self, index: int) -> Mapping[str, Value]:
        """Registers as they were set ahead of a command; good until it is asked again."""
        at, now = self._running
        if index < at[0]:
            at[0] = 0
            now.clear()
        for k in range(at[0], index):
            kind = int(self.kind[k])
            if kind >= 0:
                command = self.told.part.command[kind]
                if command.effect == "reset":
                    now.clear()
                now |= {f"{command.owner}.{name}": value for name, value in self.fields_of(k)[0].items()}
        at[0] = index
        return now

    def in_force(self, index: int, reset: Mapping[str, Value]) -> dict[str, Value]:
        """Registers as they stand ahead of a command."""
        return {**reset, **self.set_before(index)}

    def is_behind(self, step: str, other: str) -> bool:
        """Whether a step comes behind another, of which it has to come ahead."""
        names = [self.name(index) for index in range(len(self)) if self.kind[index] >= 0 and self._opens(index)]
        return step in names and other in names and names.index(step) > names.index(other)

    def _opens(self, index: int) -> bool:
        """Whether it switches something on, or has no state to switch."""
        state = self.fields_of(index)[0].get("state")
        return state is None or state == "on"
