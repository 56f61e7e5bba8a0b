"""Tables as all reports have them."""

from __future__ import annotations

from typing import Any

from rich.table import Table
from rich.text import Text

from ..harmless import harmless

__all__ = ["plain_table"]


class _Harmless(Table):
    """A table whose cells are escaped before their widths are measured."""

    def add_row(self, *cells: Any, **options: Any) -> None:
        """One more row."""
        super().add_row(*(_escaped(cell) for cell in cells), **options)


def _escaped(cell: Any) -> Any:
    if isinstance(cell, Text) and cell.plain != (plain := harmless(cell.plain)):
        return Text(plain, cell.style)
    return harmless(cell) if isinstance(cell, str) else cell


def plain_table() -> Table:
    """A table without rules: columns that line up, heads that stand out."""
    return _Harmless(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="head", show_edge=False)
