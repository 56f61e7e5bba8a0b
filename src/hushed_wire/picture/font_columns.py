"""A font that ships, column by column, for who wants no picture of it: drivers hold letters so. Read without NumPy."""

from __future__ import annotations

import msgspec

from ..compiled import fast_form, write_compiled
from .shipped_fonts import FOLDER

__all__ = ["columns_of", "compile_font", "font_columns"]


def font_columns(name: str) -> dict[int, list[int]]:
    """Code to columns from the left, the top dot of each in bit 0."""
    body = fast_form(FOLDER / f"{name}.glyphs")
    return columns_of(name) if body is None else msgspec.json.decode(body, type=dict[int, list[int]])


def compile_font(name: str) -> None:
    """Writes the fast form of a font."""
    write_compiled(FOLDER / f"{name}.glyphs", columns_of(name))


def columns_of(name: str) -> dict[int, list[int]]:
    """The same, worked out from the font's file."""
    from .font_file import shipped

    return {
        code: [
            sum(int(dot) << row for row, dot in enumerate(glyph.pixels[:, column].tolist()))
            for column in range(glyph.pixels.shape[1])
        ]
        for code, glyph in shipped(name).glyphs.items()
    }
