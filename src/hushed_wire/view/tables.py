"""Tables as all reports have them."""

from __future__ import annotations

from rich.table import Table

__all__ = ["plain_table"]


def plain_table() -> Table:
    """A table without rules: columns that line up, heads that stand out."""
    return Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), header_style="head", show_edge=False)
