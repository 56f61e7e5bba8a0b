"""Text of `lines`, and of what was assumed, noted and timed: tables that line up."""

from __future__ import annotations

from typing import Any

from rich.console import Console
from rich.table import Table
from rich.text import Text

from ..bus.i2c_timing import Margin
from ..finding import codes
from ..rig import Setup
from ..trace import Trace
from ..trace.model import Note
from ..units import counted, show
from .tables import plain_table

__all__ = ["assumed", "lines", "notes", "timing"]


def assumed(out: Console, plan: Setup) -> None:
    """What was taken for granted, ahead of the results."""
    if not plan.assumed:
        return
    grid = Table.grid(padding=(0, 2, 0, 0))
    for number, text in enumerate(plan.assumed.values()):
        grid.add_row(Text("assumed" if number == 0 else "", style="note"), text)
    out.print(grid)
    out.print()


def lines(out: Console, trace: Trace, path: str, rows: list[dict[str, Any]]) -> None:
    """The table of `lines`."""
    sampled = f", sampled at {show(float(1 / (trace.sample * trace.tick)), 'Hz')}" if trace.sample else ""
    out.print(Text(f"{path}: {show(trace.duration, 's')}, {counted(len(trace.names), 'line')}{sampled}", style="head"))
    notes(out, trace.notes)
    out.print()
    table = plain_table()
    heads = ["line", "idles", "rises", "falls", "shortest high", "shortest low", "rate", "likely"]
    if trace.volts:
        heads.insert(2, "levels")
    for head in heads:
        table.add_column(head, justify="right" if head in ("rises", "falls", "shortest high", "shortest low", "rate") else "left")
    for number, row in enumerate(rows):
        cells = [
            row["name"],
            row["idle"] or "unknown",
            f"{row['rises']:,}",
            f"{row['falls']:,}",
            "-" if row["shortest_high"] is None else show(row["shortest_high"], "s"),
            "-" if row["shortest_low"] is None else show(row["shortest_low"], "s"),
            "-" if row["rate"] is None else show(row["rate"], "Hz"),
            ", ".join(row["likely"]) or "-",
        ]
        if trace.volts:
            low, high, threshold = trace.volts[number]
            cells.insert(2, f"{low + 0.0:.2f} V, {high:.2f} V (threshold {threshold:.2f} V)")
        table.add_row(*cells)
    out.print(table)


def notes(out: Console, noted: tuple[Note, ...]) -> None:
    """What the reader of the file met."""
    for note in noted:
        style = "warning" if note.code and codes()[note.code].severity != "note" else "note"
        out.print(Text().append(f"{style:<9}", style=style).append(note.text))


def timing(out: Console, margins: list[Margin]) -> None:
    """The timing table of the I2C-bus specification: its limits in a mode, and what was measured."""
    if not margins:
        return
    out.print()
    table = plain_table()
    for head in (f"{margins[0].mode}", "least", "usual", "most", "allowed", "measured", "beyond"):
        table.add_column(head, justify="left" if head == margins[0].mode else "right")
    for margin in margins:
        unit = "Hz" if margin.symbol == "fSCL" else "s"
        limit = [f"from {show(margin.minimum, unit)}"] if margin.minimum else []
        limit += [f"up to {show(margin.maximum, unit)}"] if margin.maximum is not None else []
        beyond = Text(f"{margin.beyond:,}", style="warning" if margin.beyond else "default")
        measured = (show(value, unit) for value in (margin.least, margin.typical, margin.most))
        table.add_row(margin.symbol, *measured, " ".join(limit) or "0 s or more", f"{margin.measurements:,}", beyond)
    out.print(table)
