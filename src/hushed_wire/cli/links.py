"""Live buses within reach, what each can do, and why one cannot be used."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import TYPE_CHECKING, Any

from . import options, output

if TYPE_CHECKING:
    from ..link.discover import Found

EXAMPLES = """\
examples:
  hushed-wire links
  hushed-wire links --format json
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..link.discover import discover

    found = discover(Path(os.environ.get("HUSHED_WIRE_ROOT", "/")))
    records = [{**_record(entry), "functions": _functions(entry)} for entry in found]
    records.append({"kind": "i2c", "link": "desk", "name": "a rig's devices in software", "driver": "", "clock": None, "claimed": [],
                    "usable": "", "functions": ["transfer", "probe"]})  # fmt: skip
    if args.format == "json":
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes({"links": records}))
        return 0
    output.report(args, lambda out: _table(out, records))
    return 0


def _record(entry: Found) -> dict[str, Any]:
    return {name: getattr(entry, name) for name in ("kind", "link", "name", "driver", "clock", "claimed", "usable")}


def _functions(entry: Found) -> list[str]:
    """What the adapter of a usable I2C bus can do; asking needs it open."""
    if entry.kind != "i2c" or entry.usable:
        return []
    from ..errors import HushedError
    from ..link.i2c_dev import open_i2c_dev

    try:
        link = open_i2c_dev(entry.link)
    except HushedError as error:
        entry.usable = error.what
        return []
    out = [name for name, can in (("transfer", link.plain), ("probe", link.quick), ("read-probe", link.reads)) if can]
    link.close()
    return out


def _table(out: Any, records: list[dict[str, Any]]) -> None:
    from rich.text import Text

    from ..units import show
    from ..view.tables import plain_table

    table = plain_table()
    for head in ("link", "name", "driver", "clock", "can", "in use by drivers", "state"):
        table.add_column(head, overflow="fold")
    for entry in records:
        claimed = ", ".join(f"{address:#04x}" for address in entry["claimed"]) or "-"
        clock = show(entry["clock"], "Hz") if entry["clock"] else "-"
        state = Text(entry["usable"], style="warning") if entry["usable"] else Text("ready", style="good")
        table.add_row(
            entry["link"],
            entry["name"] or "-",
            entry["driver"] or "-",
            clock,
            ", ".join(entry["functions"]) or "-",
            claimed,
            state,
        )
    out.print(table)
    if len(records) == 1:
        out.print("\nNo bus of this machine was found: enable I2C or SPI for the board, and load i2c-dev or spidev.")
