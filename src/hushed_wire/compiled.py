"""Tables that ship as TOML and are read as JSON, which takes a tenth of the time.

The TOML counts: a JSON beside it whose first line is not the checksum of the TOML and of all that it stands on, which that line names, is
passed over.
`make catalog` writes them.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar

import msgspec

__all__ = ["compiled_path", "read_compiled", "write_compiled"]

T = TypeVar("T")


def compiled_path(table: Path) -> Path:
    """Where the fast form of a table is."""
    return table.parent / "compiled" / f"{table.stem}.json"


def _checksum(table: Path, under: Sequence[Path]) -> bytes:
    total = zlib.crc32(table.read_bytes())
    for below in under:
        total = zlib.crc32(below.read_bytes(), total)
    return b"%08x" % total


def fast_form(table: Path) -> bytes | None:
    """The JSON of a table, None where there is none that is up to date."""
    try:
        first, _, body = compiled_path(table).read_bytes().partition(b"\n")
        checksum, *under = first.split()
        return body if checksum == _checksum(table, [table.parent / name.decode() for name in under]) else None
    except (OSError, ValueError):
        return None


def read_compiled(table: Path, kind: type[T]) -> T:
    """A table as what it holds."""
    body = fast_form(table)
    if body is not None:
        return msgspec.json.decode(body, type=kind)
    import tomllib

    with table.open("rb") as file:
        return msgspec.convert(tomllib.load(file), kind)


def write_compiled(table: Path, value: Any, under: Sequence[Path] = ()) -> None:
    """Writes the fast form of a table. under: other files that it stands on, beside it or in a folder there."""
    path = compiled_path(table)
    path.parent.mkdir(exist_ok=True)
    names = [below.relative_to(table.parent).as_posix().encode() for below in under]
    path.write_bytes(b" ".join([_checksum(table, under), *names]) + b"\n" + msgspec.json.encode(value) + b"\n")
