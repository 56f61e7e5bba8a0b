"""Files that people write: rigs, sequences, parts, fonts. They are read whole, so that what has no end (a device, a capture by mistake) is refused."""

from __future__ import annotations

import os
from contextvars import ContextVar
from pathlib import Path

from .errors import HushedError

__all__ = ["READ", "note_read", "place_of", "small_file", "small_text"]

# Where what was read lies on its disks, since somebody asked for it to be noted: what is included by other files has no name on a command line.
READ: ContextVar[set[tuple[int, int]] | None] = ContextVar("read", default=None)


def place_of(path: str | Path) -> tuple[int, int] | None:
    """What tells a file from others; None where it is not there."""
    try:
        found = os.stat(path)  # noqa: PTH116 - of whatever names a file
    except (OSError, ValueError):
        return None
    return found.st_dev, found.st_ino


def note_read(path: str | Path) -> None:
    """Notes that a file is read, where that is asked for."""
    noted, place = READ.get(), place_of(path)
    if noted is not None and place is not None:
        noted.add(place)


MOST = 8 << 20  # bytes; the longest sequence in use draws a whole colour glass as bytes, in half a megabyte


def small_file(path: str | Path, most: int = MOST) -> bytes:
    """What is in the file, at most `most` bytes; raises HushedError where there is more, and OSError where it cannot be read."""
    note_read(path)
    with Path(path).open("rb") as file:
        data = file.read(most + 1)
    if len(data) > most:
        raise HushedError(
            f"more than {most >> 20} MB, which no file of this kind has", where=str(path), remedy="is it another file?"
        )
    return data


def small_text(path: str | Path) -> str:
    """The same as text in UTF-8, ends of lines as they are; raises UnicodeDecodeError, or HushedError at a zero byte, where it is none."""
    data = small_file(path)
    if b"\0" in data:  # no name of a file can hold one, and nothing else of these files may
        what = f"cannot be read as text: byte {data.index(0)} is zero"
        raise HushedError(what, where=str(path), remedy="is it another file?")
    return data.decode("utf-8").replace("\r\n", "\n").replace("\r", "\n")
