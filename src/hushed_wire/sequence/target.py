"""What a sequence speaks to, and what it becomes: targets and steps."""

from __future__ import annotations

from fractions import Fraction

import msgspec

from ..part.describe import Panel, Part, Value
from ..part.wrap import BUS_OF, Send

__all__ = ["Step", "Target"]


class Target(msgspec.Struct, frozen=True):
    """A device that a sequence may speak to. framing: how it is wired; the part's first one where nothing tells.

    position, chain: where it sits among how many of its kind that share one select (0 is nearest to the driver).
    """

    name: str
    part: Part
    panel: Panel
    framing: str = ""
    position: int = 0
    chain: int = 1

    def __post_init__(self) -> None:
        if not self.framing:
            msgspec.structs.force_setattr(self, "framing", self.part.framings[0])
        msgspec.structs.force_setattr(self, "part", self.part.fitted(self.panel))

    @property
    def chips(self) -> int:
        """How many of the part share the glass."""
        memory = self.part.memory
        if memory.kind == "character":
            return 1 + max((cells[0] >> 8 for cells in self.panel.cells), default=0)
        return -(-self.panel.width // memory.columns) if memory.chips > 1 else 1

    @property
    def bus_kind(self) -> str:
        """The kind of bus it is wired to."""
        return BUS_OF[self.framing]


class Step(msgspec.Struct, frozen=True):
    """One statement's effect. sends: what the part is sent. wait: seconds of rest behind it. levels: lines that are set,

    (role, high). takes: seconds for which the part is busy with it.
    """

    place: str
    text: str
    device: str
    name: str
    sends: tuple[Send, ...] = ()
    wait: Fraction = Fraction(0)
    levels: tuple[tuple[str, bool], ...] = ()
    takes: Fraction = Fraction(0)
    fields: dict[str, Value] = {}
