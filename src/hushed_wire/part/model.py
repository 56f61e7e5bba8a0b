"""What every memory model shares: the journal of registers, and the loop over a part's commands.

A model is fed a part's commands once and then answers for any moment: `register`, and `glass` (what the panel shows). A
new kind of memory is a class with an `effects` table and a `_place` for data; `MODELS` is the table of kinds.
"""

from __future__ import annotations

import importlib
from collections.abc import Callable, Mapping
from typing import Any, ClassVar, Self

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part, Value
from .engine import DATA, Commands
from .glass import Glass

__all__ = ["MODELS", "NEVER", "Journal", "Model", "model_of"]

NEVER = int(np.iinfo(np.int64).max)
Effect = Callable[[Any, int, str, dict[str, Value]], None]


class Model:
    """A part's memory and registers over time. registers: (tick, "command.field", value), in order.

    presumed: registers as they are taken to have been set ahead of the capture.
    """

    effects: ClassVar[dict[str, Effect]] = {}

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        """tick: seconds a tick of its times. from_reset: it is fed the part's set-up, so what was not set has its reset value."""
        self.part, self.tick, self.from_reset = part, tick, from_reset
        self.registers: list[tuple[int, str, Value]] = []
        self.now: dict[str, Value] = {}
        self.presumed: Mapping[str, Value] = {}

    @classmethod
    def of(
        cls, commands: Commands, tick: float = 1e-9, from_reset: bool = True, presumed: Mapping[str, Value] | None = None
    ) -> Self:
        """Runs all commands."""
        model = cls(commands.part, tick, from_reset)
        model.presumed = presumed or {}
        known: dict[tuple[int, bytes], dict[str, Value]] = {}
        for index, command, raw in commands.listed():
            if command is None:
                if commands.kind[index] == DATA:
                    first = int(commands.first[index])
                    span = slice(first, first + int(commands.count[index]))
                    model._place(commands.payload.time[span], commands.payload.value[span])
                else:
                    model._interrupted()
                continue
            key = int(commands.kind[index]), raw
            if key not in known:
                known[key] = command.decode(raw)[0]
            when = commands.time_of(index)
            for name, value in known[key].items():
                model.record(when, f"{command.owner}.{name}", value)
            if not command.data:
                model._interrupted()
            if command.effect in cls.effects:
                cls.effects[command.effect](model, when, command.name, known[key])
        return model

    def record(self, when: int, register: str, value: Value) -> None:
        """Notes that a register has a value from a tick on."""
        self.registers.append((when, register, value))
        self.now[register] = value

    def value(self, register: str, default: Value = 0) -> Value:
        """A register while commands are being fed: as set, else as presumed, else its reset value."""
        if register in self.now:
            return self.now[register]
        return self.presumed.get(register, self.part.reset.get(register, default))

    def role(self, role: str, default: Value = 0) -> Value:
        """The register that plays a role in the description's memory, while commands are being fed."""
        return self.value(self.part.memory.registers.get(role, ""), default)

    def register(self, name: str, when: int = NEVER) -> Value | None:
        """A register ("command.field") at a tick as set in the capture, None when nothing set it."""
        if when >= NEVER:
            return self.now.get(name)
        found = None
        for time, register, value in self.registers:
            if time > when:
                break
            if register == name:
                found = value
        return found

    def roles(self, when: int = NEVER) -> dict[str, Value]:
        """The registers of the memory's roles at a tick, reset values where nothing set them."""
        out: dict[str, Value] = {}
        for role, register in self.part.memory.registers.items():
            value = self.register(register, when)
            out[role] = self.part.reset.get(register, 0) if value is None else value
        return out

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> Glass:
        """What the panel shows at a tick. from_reset: what was not set has its reset value."""
        raise NotImplementedError(f"{self.part.name} shows nothing")

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        """A run of data words."""

    def _interrupted(self) -> None:
        """A command behind which no data words go to memory, or something that is no command."""


class Journal(Model):
    """A model whose memory is kept as all its writes, in order: what it holds at any time is the journal up to then.

    kind: the type of what is written.
    """

    kind: ClassVar[type[Any]] = np.uint8

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self._writes: list[tuple[NDArray[np.int64], NDArray[np.int64], NDArray[Any]]] = []

    def _write(self, times: NDArray[np.int64], addresses: NDArray[np.int64], values: NDArray[Any]) -> None:
        """Adds a run of writes, at their ticks."""
        self._writes.append((times, addresses, values))

    def journal(self) -> tuple[NDArray[np.int64], NDArray[np.int64], NDArray[Any]]:
        """All writes: times, addresses, values, in order."""
        if len(self._writes) != 1:
            none = np.empty(0, np.int64), np.empty(0, np.int64), np.empty(0, self.kind)
            columns = zip(none, *self._writes, strict=True)
            times, addresses, values = (np.concatenate(column) for column in columns)
            self._writes = [(times, addresses, values)]
        return self._writes[0]

    def held(self, size: int, when: int = NEVER, blank: int = 0) -> tuple[NDArray[Any], NDArray[np.bool_]]:
        """(size,) what the memory holds at a tick, `blank` where nothing was written; and where something was."""
        times, addresses, values = self.journal()
        upto = int(np.searchsorted(times, when, side="right"))
        out, written = np.full(size, blank, self.kind), np.zeros(size, bool)
        out[addresses[:upto]] = values[:upto]  # of equal addresses the last one stays
        written[addresses[:upto]] = True
        return out, written


MODELS = {
    "paged": ("paged", "Memory"),
    "character": ("character", "CharacterMemory"),
    "digit": ("digit", "DigitMemory"),
    "pixel": ("pixel", "PixelMemory"),
    "lcd": ("lcd", "LcdMemory"),
    "dimmed": ("dimmed", "DimmedMemory"),
    "chain": ("chained", "ChainMemory"),
    "lettered": ("lettered", "LetteredMemory"),
    "paper": ("paper", "PaperMemory"),
    "port": ("port", "Port"),
    "scanned": ("scanned", "ScannedMemory"),
    "unknown": ("port", "Port"),
}


def model_of(part: Part) -> type[Any]:
    """The model of a part's kind of memory."""
    module, name = MODELS["lcd" if part.memory.backplanes else part.memory.kind]
    found: type[Any] = getattr(importlib.import_module(f"{__package__}.{module}"), name)
    return found
