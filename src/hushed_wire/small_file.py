"""Files that people write: rigs, sequences, parts, fonts. They are read whole, so that what has no end (a device, a capture by mistake) is refused."""

from __future__ import annotations

from pathlib import Path

from .errors import HushedError

__all__ = ["small_file", "small_text"]

MOST = 8 << 20  # bytes; the longest sequence in use draws a whole colour glass as bytes, in half a megabyte


def small_file(path: str | Path, most: int = MOST) -> bytes:
    """What is in the file, at most `most` bytes; raises HushedError where there is more, and OSError where it cannot be read."""
    with Path(path).open("rb") as file:
        data = file.read(most + 1)
    if len(data) > most:
        raise HushedError(
            f"more than {most >> 20} MB, which no file of this kind has", where=str(path), remedy="is it another file?"
        )
    return data


def small_text(path: str | Path) -> str:
    """The same as text in UTF-8, ends of lines as they are; raises UnicodeDecodeError where it is none."""
    return small_file(path).decode("utf-8").replace("\r\n", "\n").replace("\r", "\n")
