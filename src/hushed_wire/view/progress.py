"""Progress of long reading, on standard error and on a terminal only: bytes, rate, time left."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from typing import Any, TypeVar

from ..trace import Source

__all__ = ["Bar", "counted", "watched"]

Piece = TypeVar("Piece")
LARGE = 64 << 20  # bytes below which nobody waits for it
MANY = 8  # things below which nobody waits for them


class Bar:
    """A bar from the first look at a capture to the last, where somebody watches. `went` moves it, from wherever the reading is done."""

    def __init__(self, quiet: bool = False) -> None:
        self.quiet, self.total = quiet, 0
        self._progress: Any = None

    def __enter__(self) -> Bar:
        return self

    def __exit__(self, *_: object) -> None:
        if self._progress is not None:
            self._progress.stop()
            self._progress = None

    def over(self, pieces: Iterator[Piece], source: Source) -> Iterator[Piece]:
        """The pieces of a source as they come."""
        self.total = source.position()[1]
        if not self.quiet and self.total >= LARGE and sys.stderr.isatty():
            self._show()
        for piece in pieces:
            yield piece
            if self.total:
                self.went(source.position()[0] / self.total)
        self.__exit__()

    def went(self, share: float) -> None:
        """Moves it to a share of the whole."""
        if self._progress is not None:
            self._progress.update(self._progress.tasks[0].id, completed=int(share * self.total))

    def _show(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, DownloadColumn, Progress, TimeRemainingColumn, TransferSpeedColumn

        columns = BarColumn(), DownloadColumn(), TransferSpeedColumn(), TimeRemainingColumn()
        self._progress = Progress(*columns, console=Console(stderr=True), transient=True)
        self._progress.add_task("", total=self.total)
        self._progress.start()


def watched(pieces: Iterator[Piece], source: Source, quiet: bool = False) -> Iterator[Piece]:
    """The pieces of a source as they come, with a bar beside them where somebody watches."""
    with Bar(quiet) as bar:
        yield from bar.over(pieces, source)


def counted(pieces: Iterator[Piece], total: int, quiet: bool = False) -> Iterator[Piece]:
    """Pieces as they come, of so many, with a bar beside them where somebody watches."""
    if quiet or total < MANY or not sys.stderr.isatty():
        yield from pieces
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TimeRemainingColumn

    with Progress(
        BarColumn(), MofNCompleteColumn(), TimeRemainingColumn(), console=Console(stderr=True), transient=True
    ) as progress:
        yield from progress.track(pieces, total=total)
