"""Files that are written: whole or not at all."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterable
from pathlib import Path

from .errors import HushedError
from .small_file import READ, place_of

__all__ = ["replace_file"]


def replace_file(path: str | Path, pieces: Iterable[bytes], kept_up: bool = False) -> None:
    """Writes a file by way of a temporary one beside it, so that nothing is ever half-written. kept_up: it is one that the command reads to
    write it anew, with something more in it."""
    target = Path(path)
    folder = target.parent
    if not kept_up and target.is_file() and place_of(target) in (READ.get() or ()):
        raise HushedError(
            "would be overwritten, and is read by this command", where=str(path), remedy="name another file; nothing was written"
        )
    temporary = None
    try:
        if target.is_symlink():  # what it leads to is written; the link stays
            target = target.resolve()
            folder = target.parent
        if target.is_dir():
            raise HushedError("is a folder", where=str(path), remedy="name a file in it")
        if target.exists() and not target.is_file():  # a device or a pipe cannot be renamed over
            with target.open("wb") as file:
                for piece in pieces:
                    file.write(piece)
            return
        import tempfile

        handle, temporary = tempfile.mkstemp(prefix=f".{target.name}.", dir=folder)
        with os.fdopen(handle, "wb") as file:
            for piece in pieces:
                file.write(piece)
        umask = os.umask(0)
        os.umask(umask)
        mode = target.stat().st_mode & 0o777 if target.exists() else 0o666 & ~umask
        Path(temporary).chmod(mode)
        Path(temporary).replace(target)
        temporary = None
    except FileNotFoundError as error:
        if folder.is_dir():
            raise HushedError("cannot be written", where=str(path), remedy="choose another place") from error
        raise HushedError(
            f"the folder '{folder}' does not exist", where=str(path), remedy=f"make it first: mkdir -p {folder}"
        ) from error
    except OSError as error:
        reason = error.strerror or str(error)
        raise HushedError(f"cannot be written: {reason}", where=str(path), remedy="choose another place with -o") from error
    finally:
        if temporary is not None:
            with contextlib.suppress(OSError):
                Path(temporary).unlink()
