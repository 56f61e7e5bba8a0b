"""Bridges as parts: the levels of their pins over time. What hangs on the pins is the rig's business."""

from __future__ import annotations

from .describe import Value
from .model import NEVER, Model

__all__ = ["Port"]


class Port(Model):
    """The journal of a port's registers."""

    def pins(self, when: int = NEVER) -> dict[str, Value]:
        """Every register at a tick, reset values where nothing set them."""
        return (
            {**self.part.reset, **{name: value for name, value in self.now.items() if when >= NEVER}}
            if when >= NEVER
            else {
                name: value if (found := self.register(name, when)) is None else found for name, value in self.part.reset.items()
            }
        )

    def glass(self, *_: object, **__: object) -> None:
        """A bridge has none."""
