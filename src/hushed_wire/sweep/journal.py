"""What was found so far, kept in a file as it comes: who goes on later does not look again at captures that have not changed.

One JSON object a line; a line that was cut off when somebody pulled the plug is passed over. The first line says how captures were looked at:
what was found under other options counts for nothing.
"""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from ..errors import HushedError
from .found import Swept

__all__ = ["Journal"]


class _How(msgspec.Struct, tag="how", tag_field="record"):
    options: str


class _One(Swept, tag="capture", tag_field="record"):
    pass


class Journal:
    """A file of results. known: by path, what stands there already and still holds."""

    def __init__(self, path: str, options: str) -> None:
        """options: how captures are looked at, in words. Raises HushedError where the file cannot be written, or holds something else."""
        self.path = path
        self.known: dict[str, Swept] = {}
        how = _How(options)
        try:
            text = Path(path).read_bytes() if Path(path).exists() else b""
            if not self._read(text, how):
                Path(path).write_bytes(_line(how))
            elif not text.endswith(b"\n"):  # it ended in the middle of a line
                self._append(b"\n")
        except OSError as error:
            raise HushedError(
                f"cannot be written: {error.strerror}", where=path, remedy="name another place with --resume"
            ) from error

    def _read(self, text: bytes, how: _How) -> bool:
        """Whether what stands there was found under the same options."""
        lines = text.splitlines()
        if not lines:
            return False
        try:
            first = msgspec.json.decode(lines[0], type=_How)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
            raise HushedError("is no file of results", where=self.path, remedy="name a new file; nothing was written") from error
        if first != how:
            return False
        for line in lines[1:]:
            try:
                one = msgspec.json.decode(line, type=_One)
            except (msgspec.DecodeError, UnicodeDecodeError):
                continue  # it was being written when the end came
            if stamp(one.path) == (one.size, one.changed):
                self.known[one.path] = one
        return True

    def add(self, one: Swept) -> None:
        """Keeps a result."""
        self._append(_line(_One(**msgspec.structs.asdict(one))))

    def _append(self, line: bytes) -> None:
        with Path(self.path).open("ab") as file:
            file.write(line)


def _line(record: _How | _One) -> bytes:
    return msgspec.json.encode(record) + b"\n"


def stamp(path: str) -> tuple[int, int]:
    """Size and time of the last change of a file; (-1, -1) where it is not there."""
    try:
        found = os.stat(path)  # noqa: PTH116 - of many files
    except OSError:
        return -1, -1
    return found.st_size, found.st_mtime_ns
