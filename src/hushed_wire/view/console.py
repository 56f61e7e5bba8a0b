"""The terminal: colour only where it is one (or where asked for), a width that fits, plain text in pipes."""

from __future__ import annotations

import io
import os
import sys
from collections.abc import Iterable
from typing import IO, NoReturn, cast

from rich.console import Console as RichConsole
from rich.console import ConsoleOptions, RenderableType
from rich.segment import Segment
from rich.theme import Theme

from ..harmless import harmless
from .pipe_console import WIDTH

__all__ = ["Tidy", "console", "writes_unicode"]


class Tidy(io.TextIOBase):
    """Passes text on without the spaces at the ends of lines that tables leave."""

    def __init__(self, file: IO[str]) -> None:
        self.file = file
        self.waiting = ""

    @property
    def encoding(self) -> str:  # type: ignore[override]
        """Of the file behind."""
        return getattr(self.file, "encoding", None) or "utf-8"

    def write(self, text: str) -> int:
        """Whole lines go on; the rest waits."""
        *lines, self.waiting = (self.waiting + text).split("\n")
        self.file.write("".join(line.rstrip() + "\n" for line in lines))
        return len(text)

    def flush(self) -> None:
        """Whatever waits goes on too."""
        if self.waiting:
            self.file.write(self.waiting.rstrip(" "))
            self.waiting = ""
        self.file.flush()

    def close(self) -> None:
        """The file behind is not ours, and may be closed by now: nothing is passed on as this goes (Python 3.13 tells of it)."""


class Console(RichConsole):
    """A reader of a pipe who has had enough is no error of the tool's: `main` ends quietly."""

    def on_broken_pipe(self) -> NoReturn:
        """Passes it on, where rich would end the program with status 1."""
        raise

    def render(self, renderable: RenderableType, options: ConsoleOptions | None = None) -> Iterable[Segment]:
        """Pieces of text with nothing in them that the terminal would obey; what rich itself sends is marked as control."""
        for piece in super().render(renderable, options):
            yield piece if piece.control else piece._replace(text=harmless(piece.text))


THEME = Theme(
    {
        "fault": "bold red",
        "warning": "bold yellow",
        "note": "cyan",
        "good": "bold green",
        "head": "bold",
        "quiet": "dim",
        "next": "bold green",
        "code": "bold cyan",
    }
)


def console(color: str = "auto", file: IO[str] | None = None) -> Console:
    """A rich console for text reports. color: auto, always or never."""
    out = file or sys.stdout
    wanted = color == "always" or (color == "auto" and out.isatty() and not os.environ.get("NO_COLOR"))
    width = None if out.isatty() else WIDTH
    return Console(
        file=out if wanted or out.isatty() else cast(IO[str], Tidy(out)),
        theme=THEME,
        force_terminal=wanted,
        color_system=("truecolor" if color == "always" else "auto") if wanted else None,
        no_color=not wanted,
        highlight=False,
        width=width,
        soft_wrap=False,
        emoji=False,
        markup=False,
    )


def writes_unicode(file: IO[str] | None = None) -> bool:
    """Whether block characters can be written."""
    return "utf" in (getattr(file or sys.stdout, "encoding", None) or "").lower()
