"""Which fonts ship, and where they are."""

from __future__ import annotations

from pathlib import Path

__all__ = ["FOLDER", "SHIPPED"]

FOLDER = Path(__file__).parent / "fonts"
SHIPPED = ("5x7", "8x8")
