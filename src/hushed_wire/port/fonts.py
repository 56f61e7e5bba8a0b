"""What the font costs that drivers draw with: from space to tilde, five columns each."""

from __future__ import annotations

__all__ = ["FONT_BYTES"]

FONT_BYTES = 95 * 5
