"""Parts without a glass of their own: bridges, of which the levels of their pins are kept (what hangs on the pins is the rig's business), and
those of which nobody knows where a picture lies."""

from __future__ import annotations

from .model import Model

__all__ = ["Port"]


class Port(Model):
    """The journal of a part's registers; it has no glass."""
