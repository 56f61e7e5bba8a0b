"""Fonts as tables of glyph bytes for a layout, and back; truth tables of segment digits; characters of one's own for character displays."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import HushedError
from . import drawing, options, output
from .said import say

if TYPE_CHECKING:
    from ..picture.font import Font

EXAMPLES = """\
examples:
  hushed-wire glyphs 5x7                                             look at a font that ships
  hushed-wire glyphs 8x8 --chars 0x20-0x7E --layout "stand=flat first=high" -o large.c
  hushed-wire glyphs marks.glyphs --part hd44780 --as hush           up to eight characters of your own
  hushed-wire glyphs strip.png --cell 8x8 --chars 0-9 -o digits.glyphs
  hushed-wire glyphs table.c --cell 5x8 --chars 0x20-0x7E --layout "stand=upright first=low" -o old.bdf
  hushed-wire glyphs seven-segments --wiring "g f e d c b a dp" --common anode --as c
"""

KINDS = ("view", "c", "python", "hex", "binary", "hush", "json", "art", "bdf", "strip")
DIGITS = {"seven-segments": 7, "fourteen-segments": 14, "sixteen-segments": 16}


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("font", metavar="FONT", help="5x7, 8x8, a file (*.glyphs, *.bdf, a picture, a table of bytes), or "
                        "seven-segments, fourteen-segments, sixteen-segments")  # fmt: skip
    drawing.add_place(parser.add_argument_group("how glyphs lie in bytes (default: upright, lowest bit on top)"))
    group = parser.add_argument_group("which glyphs")
    group.add_argument(
        "--chars", metavar="CHARS", help="like 0x20-0x7E,A-Z,U+00B0; the characters of cells in a picture or table"
    )
    group.add_argument(
        "--holes", choices=("told", "blank"), default="told", help="characters that the font lacks (default: told and left out)"
    )
    group.add_argument("--proportional", action="store_true", help="without the dark columns beside each glyph")
    group.add_argument("--cell", metavar="WxH", help="size of a glyph, in a picture or a table of bytes")
    group.add_argument("--skip", type=int, default=0, metavar="N", help="bytes ahead of a table that belong to no glyph")
    group = parser.add_argument_group("segments")
    group.add_argument(
        "--wiring", metavar="WORDS", default="", help='segment of each bit, bit 0 first, - for none, like "g f e d c b a dp"'
    )
    group.add_argument(
        "--common", choices=("cathode", "anode"), default="cathode", help="which side the digit shares (default: cathode)"
    )
    group.add_argument("--inverting", action="store_true", help="there is an inverting driver between")
    group.add_argument("--text", metavar="TEXT", help="only what these characters need, digit by digit")
    group.add_argument("--places", type=int, metavar="N", help="digits that there are")
    group.add_argument(
        "--digits", choices=("left-to-right", "right-to-left"), default="left-to-right", help="order of the digits"
    )
    group.add_argument(
        "--point",
        choices=("left", "right"),
        default="left",
        help="a point belongs to the digit on its left, or right (default: left)",
    )
    parser.add_argument(
        "--as", dest="kind", choices=KINDS, help="what is made (default: as -o's name tells, else view: a look at it)"
    )
    parser.add_argument("--name", metavar="NAME", help="name of the table (default: from the font's name)")
    parser.add_argument("--picture", metavar="FILE", help="all glyphs as a PNG with a grid")
    parser.add_argument("--marks", action="store_true", help="mark the boundaries of bytes in the picture")
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    kind = drawing.kind_of(args, KINDS, "view")
    if args.font in DIGITS:
        return _segments(args, kind)
    from ..picture import table as tables
    from ..picture.font import codes_in

    place = drawing.place_of(args, "stand=upright first=low")
    codes = codes_in(args.chars) if args.chars else None
    font = _font(args, place, codes)
    font, lacking = tables.chosen(font, codes, args.holes)
    if args.proportional:
        font = font.proportional()
    notes = list(font.notes)
    if lacking:
        treated = "left out" if args.holes == "told" else "drawn blank"
        notes.append(f"the font lacks {tables.spans(lacking)}: {treated}")
    if not args.quiet:
        for note in notes:
            say(f"note: {args.font}: {note}")
    if args.picture:
        _picture(args, place, font)
    _product(args, kind, place, font, codes)
    return 0


def _font(args: argparse.Namespace, place: drawing.Place, codes: list[int] | None) -> Font:
    from ..picture import table as tables
    from ..picture.font_file import SHIPPED, font_named

    suffix = Path(args.font).suffix.lower()
    if args.font in SHIPPED or suffix in (".glyphs", ".bdf") or (not suffix and not Path(args.font).is_file()):
        return font_named(args.font)
    if not args.cell:
        raise HushedError(
            "how large is a glyph?", where="--cell", remedy="a picture or a table of bytes needs --cell, like --cell 5x8"
        )
    from ..part.layout import size_of

    size = size_of(args.cell, "--cell", "a glyph")
    if suffix in (".png", ".pbm", ".pgm", ".bmp", ".gif"):
        from ..picture.image import load

        pixels = load(Path(args.font), args.font)
        count = pixels.shape[0] // size[0] * (pixels.shape[1] // size[1])
        return tables.from_strip(pixels, size, codes or list(range(0x20, 0x20 + count)), Path(args.font).stem)
    from ..small_file import small_file
    from .unpack import _decoded

    try:
        data = small_file(args.font, 64 << 20)
    except OSError as error:
        raise HushedError(f"cannot be read: {error.strerror}", where=args.font, remedy="check the path") from error
    raw, _ = _decoded(data, args.font, "bytes" if suffix in (".bin", ".raw") else None)
    if not 0 <= args.skip < len(raw):
        raise HushedError(f"--skip {args.skip} of {len(raw)} bytes", where=args.font, remedy="leave some bytes")
    return tables.from_bytes(raw[args.skip :], place.layout, size, codes or [], Path(args.font).stem)


def _product(args: argparse.Namespace, kind: str, place: drawing.Place, font: Font, codes: list[int] | None) -> None:
    from ..picture import table as tables
    from ..picture.source import identifier

    title = args.name or Path(args.font).stem
    if kind == "art":
        from ..picture.text_art import write_art

        output.emit(args, write_art(font).encode())
    elif kind == "bdf":
        from ..picture.bdf import write_bdf

        output.emit(args, write_bdf(font).encode())
    elif kind == "strip":
        from .unpack import _file

        output.emit(args, _file(tables.strip(font), 1, args.output or "strip.png"))
    elif kind == "hush":
        output.emit(args, _own(args, place, font, codes).encode())
    elif kind in ("c", "python", "hex", "binary"):
        table = tables.table_of(font, place.layout, identifier(title, "font"))
        output.emit(args, getattr(table, kind)(title))
    elif kind == "json":
        from ..view.json_text import json_bytes

        table = tables.table_of(font, place.layout, title)
        glyphs = [
            {"code": code, "character": chr(code), "width": width, "bytes": list(raw)}
            for code, width, raw in zip(table.codes, table.widths, table.raw, strict=True)
        ]
        output.emit(args, json_bytes({"name": title, "height": font.height, "layout": table.words, "glyphs": glyphs}))
    else:
        from ..picture import layout as layouts
        from ..view.drawn import font_view

        words = layouts.in_words(place.layout, font.height, font.width)
        output.report(args, lambda out: font_view(out, font, words, args.quiet))


def _own(args: argparse.Namespace, place: drawing.Place, font: Font, codes: list[int] | None) -> str:
    """Characters of one's own, as `glyph` statements, in the order of --chars."""
    from ..picture.font import char_of
    from ..picture.source import comment

    if place.part is None or place.part.memory.kind != "character":
        raise HushedError(
            "characters of one's own are for character displays",
            where="--as hush",
            remedy="add --part hd44780, or take --as c, hex, …",
        )
    order = [code for code in codes or sorted(font.glyphs) if code in font.glyphs]
    if len(order) > 8:
        raise HushedError(
            f"{len(order)} characters, the display has room for eight of one's own", remedy="pick them with --chars"
        )
    out = [f"# {comment(args.font)}: made by hushed-wire glyphs; {{0}} to {{{len(order) - 1}}} in a text show them"]
    for number, code in enumerate(order):
        pixels = font.glyphs[code].pixels
        if pixels.shape[1] > 5 or pixels.shape[0] > 8:
            raise HushedError(
                f"{char_of(code)} is {pixels.shape[1]}x{pixels.shape[0]}, a cell has 5x8 dots",
                where=args.font,
                remedy="draw it smaller",
            )
        rows = [f"0b{sum(1 << 4 - x for x in range(len(row)) if row[x]):05b}" for row in pixels.tolist()]
        out.append(f"glyph {number} {' '.join(rows + ['0b00000'] * (8 - len(rows)))}  # {comment(char_of(code))}")
    return "\n".join(out) + "\n"


def _picture(args: argparse.Namespace, place: drawing.Place, font: Font) -> None:
    import numpy as np

    from ..picture import layout as layouts
    from ..picture import table as tables
    from ..picture.preview import grid_png
    from ..written_file import replace_file

    if not args.picture.lower().endswith(".png"):
        raise HushedError("a picture of a font is a PNG", where=args.picture, remedy="end its name in .png")
    sheet, owner = tables.strip(font, 19), None
    if args.marks:
        own = layouts.byte_map(place.layout, font.height, font.width)
        high, wide = sheet.shape[0] // font.height, sheet.shape[1] // font.width
        number = np.arange(high * wide).reshape(high, wide).repeat(font.height, axis=0).repeat(font.width, axis=1)
        owner = np.tile(own, (high, wide)) + number * (int(own.max()) + 1)
    replace_file(args.picture, [grid_png(sheet, 1, owner)])


def _segments(args: argparse.Namespace, kind: str) -> int:
    from ..picture.truth import as_source, in_digits, wiring_of

    if kind in ("art", "bdf", "strip"):
        raise HushedError(f"segments are no {kind}", where="--as", remedy="take c, python, hex, hush or json")
    if args.places is not None and not 1 <= args.places <= 64:
        raise HushedError(f"--places {args.places}", remedy="from 1 to 64")
    wiring = wiring_of(DIGITS[args.font], args.wiring, args.common, args.inverting)
    if args.text is None:
        entries = wiring.table()
    else:
        digits = in_digits(args.text, args.places, args.point)
        entries = [(char + ("." if point else ""), wiring.value(char, point)) for char, point in digits]
        if args.digits == "right-to-left":
            entries.reverse()
    if kind == "binary":
        output.emit(args, b"".join(value.to_bytes(wiring.digits // 2, "little") for _, value in entries))
    elif kind == "json":
        from ..view.json_text import json_bytes

        record = {"wiring": wiring.words(), "table": [{"character": char, "value": value} for char, value in entries]}
        output.emit(args, json_bytes(record))
    elif kind != "view":
        output.emit(args, as_source(wiring, entries, kind, args.name or args.font))
    else:
        from ..view.drawn import segments_view

        output.report(args, lambda out: segments_view(out, wiring, entries))
    return 0
