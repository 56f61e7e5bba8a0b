"""What a sequence leaves behind on its way: registers, chips that are selected, counters, canvases; and a command's words."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from ..errors import HushedError
from ..part.describe import Command, Part, Value
from ..part.wrap import Send
from . import parse
from .parse import Statement
from .target import Target

if TYPE_CHECKING:
    from numpy.typing import NDArray

__all__ = ["Canvas", "Counter", "State", "command_sends"]


@dataclass
class Canvas:
    """pixels: (height, width) bool, or (height, width, 3) uint8 for colour panels, as a person sees them. on, off: the colours of what is drawn,

    and of what it is drawn on.
    """

    pixels: NDArray[Any]
    on: str = "white"
    off: str = "black"


class Counter(msgspec.Struct):
    """A number that runs, wraps and pads."""

    value: int
    first: int
    last: int
    step: int
    width: int
    pad: str

    def text(self) -> str:
        """As it is shown."""
        return str(self.value).rjust(self.width, self.pad)

    def advance(self) -> None:
        """One step on; behind the last value comes the first again."""
        self.value += self.step
        if (self.value > self.last) if self.step > 0 else (self.value < self.last):
            self.value = self.first


class State(msgspec.Struct):
    """What statements leave behind for those after them. registers: by device, as the sequence set them."""

    targets: dict[str, Target]
    folder: Path
    target: Target
    registers: dict[str, dict[str, Value]] = {}
    chips: dict[str, int] = {}
    counters: dict[str, Counter] = {}
    canvases: dict[str, Canvas] = {}
    digits: dict[str, bytearray] = {}
    steps: int = 0
    bytes: int = 0  # that were sent
    most: int = 1 << 62  # of them

    def register(self, name: str) -> Value:
        """A register of the current device as the sequence set it, else its reset value."""
        own = self.registers.get(self.target.name, {})
        return own.get(name, self.target.part.reset.get(name, 0))

    def role(self, role: str, default: Value = "") -> Value:
        """The register that plays a role in the memory of the current device's part."""
        register = self.target.part.memory.registers.get(role, "")
        return self.register(register) if register else default

    def note(self, command: Command, fields: dict[str, Value]) -> None:
        """Remembers what a command sets."""
        own = self.registers.setdefault(self.target.name, {})
        if command.effect == "reset":
            own.clear()
        for name, value in fields.items():
            own[f"{command.owner}.{name}"] = value

    @property
    def chip_mask(self) -> int:
        """The chips that are selected, 0 for all."""
        return self.chips.get(self.target.name, 0)


def command_sends(part: Part, statement: Statement, chips: int = 0) -> tuple[tuple[Send, ...], dict[str, Value]]:
    """What a command statement sends, and its fields."""
    command = part.find(statement.verb)
    fields, words = dict(statement.fields), statement.words
    if words and not command.data:
        # A command of one field takes its value bare: `display on`, `multiplex-ratio 64`.
        asked = [field for field in command.fields.values() if field.default is None]
        if len(words) > 1 or len(asked) != 1 or asked[0].name in fields:
            raise HushedError(f"'{words[0]}' names no field", remedy=_usage(command))
        bare = parse.number(words[0])
        fields[asked[0].name] = words[0] if bare is None else bare
        words = ()
    raw = command.encode(fields)
    if part.parameters == "data":
        sends = [Send(False, raw[:1], chips), *([Send(True, raw[1:], chips)] if raw[1:] else [])]
    else:
        sends = [Send(False, raw, chips)]
    if words:
        tail = parse.bytes_of(statement, words)
        if sends[-1].data:
            sends[-1] = Send(True, sends[-1].raw + tail, chips)
        else:
            sends.append(Send(True, tail, chips))
    return tuple(sends), fields


def _usage(command: Command) -> str:
    names = [field.name for field in command.fields.values()]
    return f"write {command.name} " + " ".join(f"{name}=…" for name in names) if names else f"write {command.name} alone"
