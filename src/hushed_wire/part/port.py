"""Bridges as parts: the levels of their pins over time. What hangs on the pins is the rig's business."""

from __future__ import annotations

from .model import Model

__all__ = ["Port"]


class Port(Model):
    """The journal of a port's registers; a bridge has no glass."""
