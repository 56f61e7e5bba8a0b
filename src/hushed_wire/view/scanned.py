"""Text of `scan`: the addresses that answered, in every form in which they are written, and what each could be."""

from __future__ import annotations

from typing import Any

from ..link.scan import Scan
from ..part.catalogs import catalog_names
from .pipe_console import kit_of

__all__ = ["record", "report"]

FEW = 2  # parts that an address could be, up to which each is told with what it is


def report(out: Any, scan: Scan, known: dict[int, str], assumed: str = "") -> None:
    """Prints a scan. known: names that the rig gives to addresses."""
    kit = kit_of(out)
    if assumed:
        out.print(kit.Text().append("assumed  ", style="note").append(assumed))
    tried = sum(1 for row in scan.rows if row.tried)
    answered = len(scan.answered)
    out.print(
        kit.Text(f"{scan.source}: {tried} address{'' if tried == 1 else 'es'} tried, {answered or 'none'} answered", style="head")
    )
    if scan.stopped:
        out.print(kit.Text().append("stopped  ", style="warning").append(f"{scan.stopped}; what is known by then follows"))
    if answered:
        out.print()
        table = kit.table()
        for head in ("7-bit", "8-bit write, read", "answers", "probe", "could be"):
            table.add_column(head, overflow="fold")
        for row in scan.rows:
            if not row.answers:
                continue
            always = row.answers == row.tried
            share = kit.Text("always" if always and row.tried > 1 else "yes" if always else f"{row.answers:,} of {row.tried:,}")
            share.stylize("default" if always else "warning")
            names = list(row.candidates)
            own = known.get(row.address)
            sense = (
                kit.Text().append(f"{own}, as the rig says", style="good")
                if own
                else kit.Text(_named(names) or "nothing that is known here")
            )
            others = [name for name in names if own and f"({name.split()[0]})" not in own]
            if others:
                sense.append(f"; others here: {_named(others)}", style="quiet")
            table.add_row(f"{row.address:#04x}", f"{2 * row.address:#04x}, {2 * row.address + 1:#04x}", share, row.probe, sense)
        out.print(table)
    for entry in scan.missing:
        out.print()
        out.print(kit.Text().append("MISSING", style="fault").append(f"  {entry.device} at {entry.address:#04x}"))
        out.print(kit.Text().append("  next   ", style="next").append(entry.hint))
    if scan.flaky:
        out.print()
        shown = ", ".join(f"{address:#04x}" for address in scan.flaky)
        out.print(
            kit.Text()
            .append("LOOSE", style="warning")
            .append(f"    {shown} answers only sometimes: reseat its wires and look at its supply")
        )
    for address, why in scan.skipped:
        out.print(kit.Text().append("skipped  ", style="note").append(f"{address:#04x}: {why}"))


def _named(names: list[str]) -> str:
    """What an address could be; parts of the catalog, which has their titles, by their names alone where there are many."""
    own = catalog_names()
    if len(names) > FEW:
        names = [name.partition(" (")[0] if name.partition(" (")[0] in own else name for name in names]
    return "; ".join(names)


def record(scan: Scan, kind: str) -> dict[str, Any]:
    """The JSON of a scan. kind: "link" or "capture"."""
    return {
        kind: scan.source,
        "answered": scan.answered,
        "devices": [
            {"address": row.address, "tried": row.tried, "answers": row.answers, "probe": row.probe, "candidates": row.candidates}
            for row in scan.rows
        ],
        "expected_missing": [{"device": m.device, "address": m.address, "hint": m.hint} for m in scan.missing],
        "skipped": [{"address": address, "why": why} for address, why in scan.skipped],
        "stopped": scan.stopped or None,
    }
