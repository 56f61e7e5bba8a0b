"""What a command makes, to standard output or to where -o says."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

__all__ = ["emit", "report"]


@contextmanager
def whoever_listens() -> Iterator[None]:
    """What is said to a pipe whose reader has left is lost; the command goes on, and its status says what it found."""
    try:
        yield
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)


def emit(args: argparse.Namespace, data: bytes) -> None:
    """Writes a product to -o or standard output."""
    if args.output and args.output != "-":
        from ..written_file import replace_file

        replace_file(args.output, [data])
        return
    with whoever_listens():
        sys.stdout.flush()
        sys.stdout.buffer.write(data)
        sys.stdout.buffer.flush()


def report(args: argparse.Namespace, write: Any, light: bool = False) -> None:
    """Runs `write(console)` on the terminal, or into the file that -o names. light: it can do with a plain console."""
    if light and args.color != "always" and (bool(args.output and args.output != "-") or not sys.stdout.isatty()):
        import io

        from ..view.pipe_console import WIDTH, Plain

        plain = io.StringIO()
        write(Plain(plain, WIDTH))
        emit(args, plain.getvalue().encode((sys.stdout.encoding or "utf-8") if not args.output else "utf-8", "replace"))
        return
    from ..view.console import console

    if args.output and args.output != "-":
        import io

        from ..written_file import replace_file

        text = io.TextIOWrapper(io.BytesIO(), encoding="utf-8")
        out = console("always" if args.color == "always" else "never", text)
        write(out)
        out.file.flush()
        text.flush()
        replace_file(args.output, [text.buffer.getvalue()])
        return
    out = console(args.color)
    with whoever_listens():
        write(out)
        out.file.flush()
