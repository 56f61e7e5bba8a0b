"""Text of `lines` and `decode`: what is on the wires, as tables that line up."""

from __future__ import annotations

from typing import Any

import numpy as np
from rich.console import Console
from rich.table import Table
from rich.text import Text

from ..bus.i2c_timing import Margin
from ..bus.words import BEGAN, CUT, ENDED
from ..finding import CODES
from ..rig import Reading, Setup
from ..sequence.listing import as_hush
from ..trace import Trace
from ..units import counted, show, time_column
from .radix import spelled
from .tables import plain_table

__all__ = ["decoded", "lines", "timing"]

ROWS = 40
SHOWN_BYTES = 12


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
    notes(out, trace)
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


def notes(out: Console, trace: Trace) -> None:
    """What the reader of the file met."""
    for note in trace.notes:
        style = "warning" if CODES.get(note.code, ("note",))[0] != "note" else "note"
        out.print(Text().append(f"{style:<9}", style=style).append(note.text))


def decoded(
    out: Console,
    reading: Reading,
    plan: Setup,
    path: str,
    clock: float | None,
    mode: str,
    every: bool,
    brief: bool = False,
    radix: str = "hex",
) -> None:
    """Summary first, then the transactions with what they mean to the parts. radix: of the words."""
    trace = reading.trace
    scl, sda = trace.names[reading.scl], trace.names[reading.sda]
    plain = "scl" in scl.lower() and "sda" in sda.lower()
    where = f"on {scl} and {sda}" if plain else f"SCL on {scl}, SDA on {sda}"
    out.print(Text(f"{path}: {show(trace.duration, 's')} of I2C, {where}", style="head"))
    notes(out, trace)
    assumed(out, plan)
    grid = Table.grid(padding=(0, 3, 0, 0))
    grid.add_row("clock", f"{show(clock, 'Hz')} ({mode})" if clock else "none seen")
    grid.add_row("transactions", f"{len(reading.transactions):,} with {len(reading.decoded.words):,} words")
    for address in np.unique(reading.addresses.address).tolist():
        mask = reading.addresses.address == address
        count, answered = int(np.count_nonzero(mask)), int(np.count_nonzero(mask & reading.addresses.answered))
        name = f"{address:#04x}" if address >= 0 else "cut off"
        called = next((d.device.name for d in reading.devices if d.device.address == address), "")
        how = "all answered" if answered == count else "none answered" if not answered else f"{answered:,} answered"
        grid.add_row(
            f"  {name}",
            ("once" if count == 1 else f"{count:,} times")
            + (f", {how}" if address >= 0 else ", address not captured")
            + (f": {called}" if called else ""),
        )
    extra = [f"{n:,} spikes on {line} ignored" for n, line in zip(reading.decoded.spikes, (scl, sda), strict=True) if n]
    if reading.decoded.stray:
        extra.append(f"{reading.decoded.stray:,} clocks outside transactions")
    for device in reading.devices:
        data = int(np.count_nonzero(device.commands.payload.data))
        grid.add_row(
            device.device.name,
            f"{device.part.name}: {int(np.count_nonzero(device.commands.kind >= 0)):,} commands, {data:,} data bytes",
        )
    if extra:
        grid.add_row("besides", "; ".join(extra))
    out.print(grid)
    if not brief:
        out.print()
        _transactions(out, reading, every, radix)


def meanings(reading: Reading) -> dict[int, list[str]]:
    """What each transaction says to its part, by the transaction that holds the last word of a command."""
    out: dict[int, list[str]] = {}
    for device in reading.devices:
        own = device.commands
        for index in range(len(own)):
            last = int(own.first[index]) + int(own.count[index]) - 1
            name = own.name_of(index)
            fields, note = own.fields_of(index)
            text = f"{fields['count']:,} bytes of data" if name == "data" else as_hush(name, fields)
            out.setdefault(int(own.payload.transaction[last]), []).append(text + (f" ({note})" if note else ""))
    return out


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


def _transactions(out: Console, reading: Reading, every: bool, radix: str) -> None:
    trace, words, table, who = reading.trace, reading.decoded.words, reading.transactions, reading.addresses
    count = len(table)
    if not count:
        out.print("No transaction was seen.")
        return
    said, unanswered = meanings(reading), reading.refused()
    shown = range(count) if every or count <= ROWS else [*range(ROWS - 8), *range(count - 8, count)]
    starts = [trace.seconds(int(table.start[index])) for index in shown]
    times = time_column(starts, max(trace.seconds(trace.resolution()), 1e-7))
    listing = plain_table()
    listing.add_column("at", justify="right", no_wrap=True)
    listing.add_column("to / from", no_wrap=True)
    listing.add_column("bytes", overflow="fold", ratio=3)
    listing.add_column("meaning", overflow="fold", ratio=3)
    refused = False
    for position, index in enumerate(shown):
        if position == ROWS - 8 and len(shown) != count:
            listing.add_row(
                "…", f"{count - len(shown):,} more", Text("--all shows them, --from and --to pick a part", style="quiet"), ""
            )
        first, last = int(who.first[index]), int(table.last[index])
        address = int(who.address[index])
        target = "?" if address < 0 else f"{address:#05x}" if who.ten_bit[index] else f"{address:#04x}"
        way = Text(f"{'from' if who.read[index] else 'to'} {target}" if address >= 0 else "not captured")
        if address >= 0 and not who.answered[index]:
            way.append(" ✗", style="fault")
            refused = True
        cells = [spelled(byte, 8, radix) for byte in words.value[first : min(last, first + SHOWN_BYTES)].tolist()]
        text = Text(" ".join(cells))
        if last - first > SHOWN_BYTES:
            text.append(f" … {last - first:,} in all", style="quiet")
        naks = np.flatnonzero(unanswered[first:last])
        if len(naks):
            text.append(f" ✗ byte {naks[0]}", style="fault")
            refused = True
        ending = []
        if table.began[index] == CUT:
            ending.append("its beginning was not captured")
        if ENDED[int(table.ended[index])] == "cut":
            ending.append(
                "broken off" + (f" in mid-word ({counted(int(table.spare[index]), 'bit')})" if table.spare[index] else "")
            )
        elif BEGAN[int(table.began[index])] == "restart":
            ending.append("repeated START")
        said_here = said.get(index, [])
        sense = "; ".join(said_here[:6]) + (f"; {len(said_here) - 6} more" if len(said_here) > 6 else "")
        listing.add_row(times[position], way, text, "; ".join(part for part in [sense, *ending] if part))
    out.print(listing)
    if refused:
        out.print(Text("✗ not acknowledged", style="fault"))
