"""The parts known; one part's page: commands with bit patterns, memory, timing, addresses, rules; its ready bring-up; one position.

A page is meant to be worked from: every number has the datasheet's section beside it.
"""

from __future__ import annotations

import argparse
import re
from typing import TYPE_CHECKING

from ..errors import HushedError
from . import options, output

if TYPE_CHECKING:
    from ..sequence import Target

EXAMPLES = """\
examples:
  hushed-wire catalog
  hushed-wire catalog --find oled i2c 128x64
  hushed-wire catalog pcd8544
  hushed-wire catalog st7789 --panel 240x240 --start -o bring-up.hush
  hushed-wire catalog hd44780 --panel 20x4 --cell 0,2
  hushed-wire catalog hd44780 --panel 20x4 --address 0x54
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.completes(
        parser.add_argument("part", nargs="?", metavar="PART", help="one part's page (default: the list)"), options.parts
    )
    parser.add_argument("--find", nargs="+", default=[], metavar="WORD",
                        help="list only parts of which every word is true: a size, a bus, a colour, what it shows, a name")  # fmt: skip
    parser.add_argument("--panel", metavar="SIZE", help="one of its ready panels")
    parser.add_argument("--framing", metavar="NAME", help="how it is wired, where its bring-up depends on that, like nibbles")
    only = parser.add_mutually_exclusive_group()
    only.add_argument("--start", action="store_true", help="print a bring-up sequence for the panel")
    only.add_argument(
        "--cell", metavar="COLUMN,ROW", help="one position of the panel, from 0,0 at the top left, in every convention"
    )
    only.add_argument("--address", metavar="N", help="what an address of the memory shows")
    options.add_catalog(parser)
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..part import catalog_names, load
    from ..part.find import buses, found

    if args.part is None:
        for option in ("panel", "framing", "cell", "address"):
            if getattr(args, option):
                raise HushedError(f"--{option} wants a part", remedy="like: hushed-wire catalog hd44780 --panel 20x4")
        if args.start:
            raise HushedError("--start wants a part", remedy="like: hushed-wire catalog st7789 --start")
        parts = found([load(name) for name in catalog_names()], args.find)
        if args.format == "json":
            from ..view.json_text import json_bytes

            listed = [{"name": part.name, "also": part.also, "title": part.title, "buses": buses(part.framings),
                       "memory": part.memory.kind, "panels": panels} for part, panels in parts]  # fmt: skip
            output.emit(args, json_bytes({"parts": listed}))
            return 0
        from ..view.catalogued import part_list

        output.report(args, lambda out: part_list(out, parts), light=True)
        return 0
    if args.find:
        raise HushedError(
            f"--find lists parts, {args.part} is one", remedy=f"like: hushed-wire catalog --find {' '.join(args.find)}"
        )
    target = _target(args)
    if args.start:
        from ..sequence.start import start_text

        head = f"# {target.part.name}, panel {target.panel.name}, {target.framing}: a bring-up by {target.part.source}\n"
        output.emit(args, (head + start_text(target)).encode())
    elif args.cell or args.address:
        _position(args, target)
    elif args.format == "json":
        from ..view.catalogued import part_record
        from ..view.json_text import json_bytes

        output.emit(args, json_bytes(part_record(target.part)))
    else:
        from ..view.catalogued import part_page

        output.report(args, lambda out: part_page(out, target.part, args.verbose), light=True)
    return 0


def _target(args: argparse.Namespace) -> Target:
    from ..part import Panel, load
    from ..sequence import Target

    part = load(args.part)
    if args.framing and args.framing not in part.framings:
        raise HushedError(
            f"{part.name} has no framing '{args.framing}'", where="--framing", remedy=f"it has {', '.join(part.framings)}"
        )
    if args.panel or part.panels:
        panel = part.panel(args.panel or next(iter(part.panels)))
    else:
        panel = Panel(0, 0)
    return Target(part.name, part, panel, args.framing or "")


def _position(args: argparse.Namespace, target: Target) -> None:
    from ..sequence.position import position_at, position_of

    if args.cell:
        found = re.fullmatch(r"(\d+),(\d+)", args.cell)
        if not found:
            raise HushedError(
                f"'{args.cell}' is no position", where="--cell", remedy="COLUMN,ROW from 0,0 at the top left, like 0,2"
            )
        positions = [position_of(target, int(found[1]), int(found[2]))]
    else:
        from ..sequence.parse import number

        address = number(args.address)
        if address is None or address < 0:
            raise HushedError(f"'{args.address}' is no address", where="--address", remedy="like 0x54 or 84")
        positions = position_at(target, address)
        if not positions:
            raise HushedError(
                f"nothing of the panel {target.panel.name} shows address {address:#x}", where="--address",
                remedy="it may be in the memory and beside the glass: name another panel with --panel",
            )  # fmt: skip
    if args.format == "json":
        from ..view.json_text import json_bytes

        records = [{"column": p.column, "row": p.row, "unit": p.unit, "place": p.place, "address": p.address, "commands": list(p.go),
                    "bytes": [list(raw) for raw in p.raw]} for p in positions]  # fmt: skip
        output.emit(args, json_bytes({"part": target.part.name, "panel": target.panel.name, "positions": records}))
        return
    from ..view.catalogued import position_page

    output.report(args, lambda out: position_page(out, target, positions), light=True)
