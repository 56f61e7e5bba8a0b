"""What bytes mean to a part: pasted arrays, hex, or the commands of a capture; and the sequence that says the same by name.

Takes C, Python and assembler arrays with comments, bare hex and decimal, as arguments, from a file or from standard input.
Where a part tells commands from data by a line or a bit, the words 'command' and 'data' say which the bytes behind them are
(they are commands until told otherwise).
"""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from . import options, output

if TYPE_CHECKING:
    from ..part.describe import Part
    from ..part.wrap import Send
    from ..sequence.listing import Item

EXAMPLES = """\
examples:
  hushed-wire explain ssd1306 AE D5 80 A8 3F
  hushed-wire explain pcd8544 0x21 0xBF 0x20 0x0C data 0x1F 0x05 --state
  hushed-wire explain st7789 --file init.c --as hush -o init.hush
  hushed-wire explain ssd1306 --on-bus 00 AE 00 D5 80
  hushed-wire explain ssd1306 --capture healthy.vcd --as hush --stretch 10 -o slow.hush
"""


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    options.completes(parser.add_argument("part", metavar="PART", help="a part of the catalog, like ssd1306"), options.parts)
    parser.add_argument("bytes", nargs="*", metavar="BYTES", help="the bytes; '-' is standard input")
    parser.add_argument("--file", metavar="FILE", help="read them from a text file (an array, with comments)")
    parser.add_argument("--capture", metavar="CAPTURE", help="the commands that a capture holds for this part")
    parser.add_argument(
        "--on-bus", action="store_true", help="the bytes are as on the bus: with control bytes, an opcode, or as nibbles"
    )
    parser.add_argument("--framing", metavar="NAME", help="how the part is wired, where that matters, like dc-line")
    parser.add_argument("--state", action="store_true", help="also the registers that they lead to")
    parser.add_argument("--as", dest="kind", choices=("text", "hush"), default="text", help="hush: as a sequence (default: text)")
    parser.add_argument("--stretch", type=float, metavar="FACTOR", help="with --capture --as hush: rests so many times as long")
    options.add_catalog(parser)
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    from ..part.catalogs import load
    from ..sequence.listing import items_of, state_of, to_hush

    part = load(args.part)
    if sum((bool(args.bytes), bool(args.file), bool(args.capture))) != 1:
        raise HushedError(
            "no bytes to explain" if not args.bytes else "bytes come from one place", remedy="give BYTES, --file or --capture"
        )
    if args.stretch is not None and not (args.capture and args.kind == "hush" and 0 < args.stretch <= 1e6):
        raise HushedError("--stretch lengthens the rests of a capture", remedy="use it with --capture and --as hush, above 0")
    notes: list[str] = []
    waits: dict[int, str] = {}
    if args.capture:
        items, waits = _from_capture(args, part)
    else:
        sends, notes = _pasted(args, part)
        items = items_of(part, sends)
    strange = [item for item in items if item.kind in (-1, -3)]
    if args.kind == "hush":
        lines = [f"# {part.name}, from {args.capture or args.file or 'bytes'}", *to_hush(part, items, waits)]
        output.emit(args, ("\n".join(lines) + "\n").encode())
        return 0
    state = state_of(part, items) if args.state or args.format == "json" else {}
    if args.format == "json":
        from ..view.json_text import json_bytes

        commands = [
            {"bytes": list(item.raw), "name": item.name, "fields": item.fields, "note": item.note or None} for item in items
        ]
        output.emit(args, json_bytes({"commands": commands, "state": state, "notes": notes}))
    else:
        from ..view.explained import explained

        output.report(
            args, lambda out: explained(out, part, items, notes, state if args.state else None, args.verbose), light=True
        )
    return 1 if strange else 0


def _pasted(args: argparse.Namespace, part: Part) -> tuple[list[Send], list[str]]:
    from ..part.wrap import WRAPS, unwrap
    from ..sequence.paste import pasted
    from ..small_file import small_text

    switch = (part.halves.halves, part.halves.whole) if part.halves is not None else (-1, -1)
    if args.file:
        try:
            text = small_text(args.file)
        except (OSError, UnicodeDecodeError) as error:
            raise HushedError(
                f"cannot be read as text: {error}", where=args.file, remedy="give a text file with an array of bytes"
            ) from error
        where = args.file
    else:
        text = sys.stdin.read() if args.bytes == ["-"] else " ".join(args.bytes)
        where = "standard input" if args.bytes == ["-"] else ""
    found = pasted(text, where)
    framing = args.framing or part.framings[0]
    if framing not in WRAPS or framing not in part.framings:
        raise HushedError(
            f"{part.name} has no framing '{framing}'", where="--framing", remedy=f"it has {', '.join(part.framings)}"
        )
    raw = found.raw()
    if part.i2c is not None and len(raw) > 1 and raw[0] >> 1 in part.i2c.addresses and _framed(framing, raw[1]):
        found.notes.append(
            f"{raw[0]:#04x} looks like the 8-bit form of the address {raw[0] >> 1:#04x}: it is no byte for the part and was left out"
        )
        return unwrap(framing, raw[1:], *switch), found.notes
    if args.on_bus:
        return unwrap(framing, raw, *switch), found.notes
    return found.sends, found.notes


def _framed(framing: str, byte: int) -> bool:
    """Whether a byte can open a transaction's payload, so that the byte ahead of it was the address."""
    return byte & 0x3F == 0 if framing == "i2c-control-byte" else False


def _from_capture(args: argparse.Namespace, part: Part) -> tuple[list[Item], dict[int, str]]:
    """The commands that a capture holds for a part, and the rests between them that a person would notice."""
    from ..rig import Options, assume
    from ..sequence.listing import Item
    from ..trace import read_capture

    trace = read_capture(args.capture)
    reading = assume(trace, Options(part=part.name)).read(trace)
    if not reading.devices or not len(reading.devices[0].commands):
        raise HushedError(
            f"nothing in it speaks to a {part.name}", where=args.capture, remedy="hushed-wire scan CAPTURE tells who is called"
        )
    own: Any = reading.devices[0].commands
    items: list[Item] = []
    waits: dict[int, str] = {}
    before = None
    stretch = args.stretch or 1.0
    for index, _, raw in own.listed():
        fields, note = own.fields_of(index)
        first = int(own.first[index])
        rest = 0.0 if before is None else trace.seconds(int(own.payload.start[first]) - before)
        if rest * stretch >= 0.5e-3:
            waits[len(items)] = f"{rest * stretch * 1e3:.3g}ms"
        before = own.time_of(index)
        items.append(Item(own.name_of(index), raw, first, int(own.kind[index]), fields, note))
    return items, waits
