"""What a sequence speaks to, and what it becomes: targets and steps."""

from __future__ import annotations

from collections.abc import Sequence
from fractions import Fraction

import msgspec

from ..part.describe import Panel, Part, Value, chips_of
from ..part.wrap import BUS_OF, NO_ROOM, WRAPS, Send, Transfer, transfers

__all__ = ["MARGIN", "Step", "Target"]

MARGIN = Fraction(11, 10)  # by which whoever sends keeps a part's times: a datasheet gives many as typical for some oscillator


class Target(msgspec.Struct, frozen=True):
    """A device that a sequence may speak to. framing: how it is wired; the part's first one where nothing tells.

    selected_apart: of an unknown part, how many chips have selects of their own.

    position, chain: where it sits among how many of its kind that share one select (0 is nearest to the driver).
    """

    name: str
    part: Part
    panel: Panel
    framing: str = ""
    position: int = 0
    chain: int = 1
    selected_apart: int = 0

    def __post_init__(self) -> None:
        if not self.framing:
            msgspec.structs.force_setattr(self, "framing", self.part.framings[0])
        msgspec.structs.force_setattr(self, "part", self.part.fitted(self.panel))
        if self.chain < self.position + self.chips and WRAPS[self.framing].chains:
            msgspec.structs.force_setattr(self, "chain", self.position + self.chips)

    @property
    def chips(self) -> int:
        """How many of the part share the glass."""
        memory = self.part.memory
        if self.selected_apart:
            return self.selected_apart
        if memory.kind in ("character", "digit"):
            return chips_of(self.panel)
        return -(-self.panel.width // memory.columns) if memory.chips > 1 else 1

    def transfers(self, sends: Sequence[Send], address: int = 0, room: int = NO_ROOM) -> list[Transfer]:
        """What its bus moves for it; in a chain the others get no-ops, and the word for the last of them goes first."""
        plain = transfers(self.framing, sends, address, room)
        if self.chain == 1 or not WRAPS[self.framing].chains:
            return plain
        out = []
        for transfer in plain:
            words = [b"\x00\x00"] * self.chain
            for chip in range(self.chips):
                if not transfer.chips or transfer.chips >> chip & 1:
                    words[self.chain - 1 - self.position - chip] = transfer.pieces[0][1]
            out.append(Transfer(((False, b"".join(words)),), 0 if self.chips > 1 else transfer.chips))
        return out

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
