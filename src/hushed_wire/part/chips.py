"""Several chips behind one glass, told apart by select lines: a model of each, and one glass of all.

Beside one another (KS0108: 64 columns each) pictures are joined; below one another (a character panel of four long lines on two
controllers) each gives its own rows.
"""

from __future__ import annotations

from typing import Any

import msgspec
import numpy as np

from .describe import Panel, Part, Value
from .engine import Commands
from .model import NEVER, Model, model_of
from .mounting import as_seen

__all__ = ["Chips", "model_for"]


def as_needed(part: Part, panel: Panel) -> dict[str, Value]:
    """Registers as a panel needs them: those that it names, and those that turn the picture upright."""
    return {
        **panel.needs,
        **{part.memory.registers[role]: state for role, state in panel.upright.items() if role in part.memory.registers},
    }


class Chips:
    """The models of several chips of one part, answering as one."""

    def __init__(self, models: list[Any]) -> None:
        self.models, self.part = models, models[0].part

    @property
    def registers(self) -> list[tuple[int, str, Value]]:
        """Of all chips, in order."""
        return sorted((entry for model in self.models for entry in model.registers), key=lambda entry: entry[0])

    @property
    def now(self) -> dict[str, Value]:
        """The registers at the end, the first chip's."""
        found: dict[str, Value] = self.models[0].now
        return found

    def register(self, name: str, when: int = NEVER) -> Value | None:
        """A register at a tick: where chips differ, that of a chip that was not told."""
        values = [model.register(name, when) for model in self.models]
        unset = [value for value in values if value is None or value == self.part.reset.get(name)]
        found: Value | None = unset[0] if unset else values[0]
        return found

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> Any:
        """What the whole panel shows at a tick."""
        if self.part.memory.kind == "character":
            glasses = [model.glass(panel, when, from_reset, number) for number, model in enumerate(self.models)]
            whole = glasses[0]
            for other in glasses[1:]:
                if other.cursor is not None and whole.cursor is None:
                    whole.cursor, whole.cursor_kind = (other.cursor[0] + len(whole.lines), other.cursor[1]), other.cursor_kind
                whole.lines += other.lines
                whole.codes, whole.known = np.vstack([whole.codes, other.codes]), np.vstack([whole.known, other.known])
                whole.shown = whole.shown and other.shown
            return whole
        if self.part.memory.kind == "digit":
            from .digit import shown_by

            return shown_by(self.models, panel, when, from_reset)
        width = self.part.memory.columns
        pieces = []
        for number, model in enumerate(self.models):
            own = msgspec.structs.replace(panel, width=min(width, panel.width - number * width), rotate=0, mirror=False)
            pieces.append(model.glass(own, when, from_reset))
        whole = pieces[0]
        for name in ("lit", "known"):
            plane = np.hstack([getattr(piece, name) for piece in pieces])
            setattr(whole, name, as_seen(plane, panel))
        whole.shown = all(piece.shown for piece in pieces)
        return whole


def model_for(
    part: Part, chips: list[Commands], tick: float = 1e-9, from_reset: bool = True, panel: Panel | None = None
) -> Model | Chips:
    """The model of a part from the commands of each of its chips. What was set ahead of the capture is taken as the panel needs it."""
    kind, presumed = model_of(part), {} if from_reset or panel is None else as_needed(part, panel)
    models = [kind.of(own, tick, from_reset, presumed) for own in chips]
    return models[0] if len(models) == 1 else Chips(models)
