"""The fonts that ship, and fonts from files: text-art (docs/drawing.md) and BDF."""

from __future__ import annotations

from functools import lru_cache
from pathlib import Path

from ..errors import HushedError, nearest
from ..small_file import small_text
from .bdf import read_bdf
from .font import Font
from .shipped_fonts import FOLDER, SHIPPED
from .text_art import read_art

__all__ = ["SHIPPED", "font_named", "shipped"]


@lru_cache(maxsize=4)
def shipped(name: str) -> Font:
    """One of the fonts that ship."""
    return read_art((FOLDER / f"{name}.glyphs").read_text(encoding="utf-8"), f"{name}.glyphs")


def font_named(name: str, folder: Path | None = None) -> Font:
    """A font that ships, or a file of text-art or BDF; raises HushedError with what there is."""
    if name in SHIPPED:
        return shipped(name)
    path = (folder or Path()) / name
    lower = name.lower()
    if not lower.endswith((".glyphs", ".bdf")):
        remedy = nearest(name, SHIPPED) + "; or the name of a file, *.glyphs or *.bdf"
        raise HushedError(f"there is no font '{name}'", remedy=remedy)
    text = text_of(path, name)
    if lower.endswith(".bdf"):
        return read_bdf(text, name)
    return read_art(text, name)


def text_of(path: Path, name: str) -> str:
    """A font file's text."""
    try:
        return small_text(path)
    except FileNotFoundError as error:
        raise HushedError("no such font", where=name, remedy="check the path") from error
    except UnicodeDecodeError as error:
        raise HushedError(
            "it is not text", where=name, remedy="fonts are text-art (*.glyphs) or BDF; pictures need --cell"
        ) from error
    except OSError as error:
        raise HushedError(f"it cannot be read: {error.strerror}", where=name, remedy="check the file") from error
