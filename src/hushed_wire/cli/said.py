"""What goes to standard error beside errors: notes, warnings, what was done."""

from __future__ import annotations

import sys

from ..harmless import harmless

__all__ = ["say"]


def say(text: str) -> None:
    """One line, or more, with nothing in it that a terminal would obey."""
    sys.stderr.write(f"hushed-wire: {harmless(text)}\n")
