"""How scanned LEDs are driven, in words and as a table: frames, refresh rate, on-time of each row, rows that overlap."""

from __future__ import annotations

from fractions import Fraction

import numpy as np
from rich.console import Console

from ..bus.scan import Scan
from ..units import show
from .tables import plain_table

__all__ = ["rows_table", "scan_said"]


def scan_said(tick: float, scan: Scan, digits: bool = False) -> str:
    """One clause on a scan. tick: seconds."""
    rate = scan.rate(tick)
    count = scan.on.shape[1]
    what = "row groups" if scan.lamps.block else "digits" if digits else "rows"
    if not rate:
        return f"{count} {what}, not scanned: what is on stays on"
    used = np.flatnonzero(scan.on.max(axis=0) > 0)
    share = np.median(scan.on[:, used], axis=0) if len(used) else np.zeros(1)
    each = (
        f"each on for {share.min():.1%}" + (f" to {share.max():.1%}" if share.max() - share.min() > 0.001 else "") + " of a frame"
    )
    text = f"{len(used)} of {count} {what} scanned, {rate:.4g} frames a second, {each}"
    over = int(np.count_nonzero(scan.overlap()))
    return text + (f"; several {what} on at once in {over:,} places" if over else "")


def rows_table(out: Console, tick: Fraction, scan: Scan) -> None:
    """Each row: how long it is on in a frame, and its brightest LED."""
    table = plain_table()
    for name in ("row group" if scan.lamps.block else "row", "on in a frame", "share", "least", "most"):
        table.add_column(name, justify="right")
    frame = float(np.median(np.diff(scan.frames))) * float(tick)
    for row in range(scan.on.shape[1]):
        share = scan.on[:, row]
        middle = float(np.median(share))
        table.add_row(str(row), show(middle * frame, "s"), f"{middle:.2%}", f"{share.min():.2%}", f"{share.max():.2%}")
    out.print(table)
