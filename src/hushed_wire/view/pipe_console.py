"""Reports for pipes and files: the little of a console that they use, without colour, and without the time that one takes to load.

A view asks `kit_of(out)` for texts and tables, and gets rich's on a terminal and these elsewhere. Columns are as wide as what is in
them; where a line would be wider than the console, the widest columns that may be folded are.
"""

from __future__ import annotations

import textwrap
from types import SimpleNamespace
from typing import IO, Any

from ..harmless import harmless

__all__ = ["WIDTH", "Plain", "kit_of"]

GAP = "  "
WIDTH = 132
LEAST = 10  # columns are folded no narrower than this


class Text:
    """A piece of text; styles are dropped."""

    def __init__(self, text: str = "", style: str = "") -> None:
        self.plain = text

    def append(self, text: str, style: str = "") -> Text:
        """More text behind it."""
        self.plain += text
        return self

    def stylize(self, style: str) -> None:
        """Nothing."""

    def __str__(self) -> str:
        return self.plain


class Table:
    """Columns that line up, with heads or without."""

    def __init__(self, heads: bool = True) -> None:
        self.heads: list[str] = []
        self.right: list[bool] = []
        self.firm: list[bool] = []
        self.rows: list[list[str]] = []
        self.with_heads = heads

    def add_column(self, head: str = "", justify: str = "left", no_wrap: bool = False, **_: Any) -> None:
        """One more column."""
        self.heads.append(head)
        self.right.append(justify == "right")
        self.firm.append(no_wrap)

    def add_row(self, *cells: Any) -> None:
        """One more row."""
        while len(self.heads) < len(cells):
            self.add_column()
        self.rows.append([harmless(str(cell)) for cell in cells])

    def lines(self, width: int) -> list[str]:
        """The table as lines of text."""
        rows = [self.heads, *self.rows] if self.with_heads else self.rows
        rows = [[*row, *[""] * (len(self.heads) - len(row))] for row in rows]
        widths = [max((len(line) for row in rows for line in row[k].split("\n")), default=0) for k in range(len(self.heads))]
        while sum(widths) + len(GAP) * (len(widths) - 1) > width:
            loose = [k for k in range(len(widths)) if not self.firm[k] and widths[k] > LEAST]
            if not loose:
                break
            widths[max(loose, key=lambda k: widths[k])] -= 1
        out = []
        for row in rows:
            cells = [_folded(cell, wide) for cell, wide in zip(row, widths, strict=True)]
            for number in range(max(map(len, cells), default=1)):
                parts = [cell[number] if number < len(cell) else "" for cell in cells]
                parts = [
                    part.rjust(wide) if right else part.ljust(wide)
                    for part, wide, right in zip(parts, widths, self.right, strict=True)
                ]
                out.append(GAP.join(parts).rstrip())
        return out


def _folded(cell: str, width: int) -> list[str]:
    out: list[str] = []
    for line in cell.split("\n"):
        out += [line] if len(line) <= width else textwrap.wrap(line, max(1, width), break_on_hyphens=False) or [""]
    return out


class Plain:
    """A console for pipes."""

    def __init__(self, file: IO[str], width: int) -> None:
        self.file, self.width = file, width

    def print(self, what: Any = "", style: str = "") -> None:
        """Prints a text or a table."""
        lines = what.lines(self.width) if isinstance(what, Table) else _folded(harmless(str(what)), self.width)
        self.file.write("".join(f"{line.rstrip()}\n" for line in lines))


def kit_of(out: Any) -> Any:
    """Text, table and grid for a console."""
    if isinstance(out, Plain):
        return SimpleNamespace(Text=Text, table=Table, grid=lambda: Table(heads=False))
    from rich.table import Table as RichTable
    from rich.text import Text as RichText

    from .tables import plain_table

    return SimpleNamespace(Text=RichText, table=plain_table, grid=lambda: RichTable.grid(padding=(0, 2, 0, 0)))
