"""Progress of long reading, on standard error and on a terminal only: bytes, rate, time left."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from typing import TypeVar

from ..trace import Source

__all__ = ["watched"]

Piece = TypeVar("Piece")
LARGE = 64 << 20  # bytes below which nobody waits for it


def watched(pieces: Iterator[Piece], source: Source, quiet: bool = False) -> Iterator[Piece]:
    """The pieces as they come, with a bar beside them where somebody watches."""
    total = source.position()[1]
    if quiet or total < LARGE or not sys.stderr.isatty():
        yield from pieces
        return
    from rich.console import Console
    from rich.progress import BarColumn, DownloadColumn, Progress, TimeRemainingColumn, TransferSpeedColumn

    columns = BarColumn(), DownloadColumn(), TransferSpeedColumn(), TimeRemainingColumn()
    with Progress(*columns, console=Console(stderr=True), transient=True) as bar:
        task = bar.add_task("", total=total)
        for piece in pieces:
            yield piece
            bar.update(task, completed=source.position()[0] or total)
