"""Bytes of display memory back to a picture: from a file, from pasted source, or as arguments; --guess where nobody knows the layout."""

from __future__ import annotations

import argparse
import re
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from ..errors import HushedError, located
from . import drawing, options, output
from .said import say

EXAMPLES = """\
examples:
  hushed-wire unpack tide.bin --part ssd1306
  hushed-wire unpack tide.c --layout "stand=upright first=low" --size 128x64 --picture tide.png --marks
  hushed-wire unpack 0x18 0x3C 0x7E 0xFF 0xFF 0x7E 0x3C 0x18 --layout first=high --size 8x8
  hushed-wire unpack unknown.h --guess --picture sheet.png       every likely layout, the most orderly first
  hushed-wire unpack unknown.h --guess --choose 2 -o found.png
"""

KINDS = ("view", "text", "json", "picture")
PICTURES = (".png", ".pbm", ".pgm", ".ppm", ".bmp", ".gif")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument(
        "bytes", nargs="+", metavar="BYTES", help="a file (raw bytes, hex, or source with an array), '-', or the bytes themselves"
    )
    drawing.add_place(parser.add_argument_group("how the pixels lie"))
    parser.add_argument("--read", choices=("bytes", "text"), help="how the file is read (default: text where it holds numbers)")
    parser.add_argument("--skip", type=int, default=None, metavar="N", help="leave out so many bytes at the front, like a header")
    parser.add_argument("--guess", action="store_true", help="try every likely layout and width, the most orderly first")
    parser.add_argument("--choose", type=int, metavar="N", help="with --guess: take that one")
    parser.add_argument("--as", dest="kind", choices=KINDS, help="what is made (default: view, or a picture where -o names one)")
    parser.add_argument("--picture", metavar="FILE", help="a PNG with a grid; with --guess a sheet of all candidates")
    parser.add_argument("--marks", action="store_true", help="mark the boundaries of bytes in the picture")
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    raw, name = _bytes(args)
    if args.skip is not None:
        if not 0 <= args.skip < len(raw):
            raise HushedError(f"--skip {args.skip} of {len(raw)} bytes", where=name, remedy="leave some bytes")
        raw = raw[args.skip :]
    if args.guess:
        return _guess(args, raw, name)
    if args.choose is not None:
        raise HushedError("--choose picks one of the guesses", remedy="add --guess")
    width_only = args.size if args.size and args.size.isdecimal() else ""
    if width_only:
        args.size = None
    place = drawing.place_of(args)
    size = place.size
    from ..picture import layout as layouts

    if width_only:
        high = layouts.rows_for(place.layout, int(width_only), len(raw)) if int(width_only) else 0
        if not high:
            raise HushedError(
                f"{len(raw)} bytes are no whole picture {width_only} pixels wide",
                where=name,
                remedy="--guess draws every likely one",
            )
        size = high, int(width_only)
    if size is None:
        raise HushedError(
            "how large is the picture?", where="--size", remedy="give --size 128x64, or the width alone; or --guess"
        )
    native = size[::-1] if place.part is not None and place.panel.rotate % 180 else size
    with located(name):
        pixels = layouts.unpack(raw, place.layout, *native)
    owner = layouts.byte_map(place.layout, *native) if args.marks else None
    if place.part is not None:
        from ..part.mounting import as_seen

        pixels = as_seen(pixels, place.panel)
        owner = as_seen(owner, place.panel) if owner is not None else None
    _product(args, pixels, place.layout.bits, owner, layouts.in_words(place.layout, *native))
    return 0


def _bytes(args: argparse.Namespace) -> tuple[bytes, str]:
    """The bytes, and where they come from."""
    from ..small_file import small_file

    words = args.bytes
    if len(words) == 1 and words[0] == "-":
        return _decoded(sys.stdin.buffer.read(), "standard input", args.read)
    path = Path(words[0])
    if len(words) == 1 and (path.suffix or path.is_file()):
        try:
            return _decoded(
                small_file(path, 64 << 20), words[0], args.read or ("bytes" if path.suffix.lower() in (".bin", ".raw") else None)
            )
        except OSError as error:
            remedy = "check the path; bytes are written like 0x18 0x3C"
            raise HushedError(f"cannot be read: {error.strerror}", where=words[0], remedy=remedy) from error
    from ..sequence.paste import pasted

    return pasted(" ".join(words), "arguments").raw(), "arguments"


def _decoded(raw: bytes, name: str, how: str | None) -> tuple[bytes, str]:
    from ..sequence.paste import pasted

    if not raw:
        raise HushedError("it is empty", where=name, remedy="check how it was made")
    if how != "bytes":
        try:
            text = raw.decode("utf-8")
            arrays = re.findall(r"=\s*\{(.*?)\}\s*;", text, re.DOTALL)
            if len(arrays) > 1:  # a table with an index, say: the glyphs are the longest
                text = "{" + max(arrays, key=lambda body: body.count(",")) + "}"
                say(f"note: {name}: it has {len(arrays)} arrays; the longest is taken")
            return pasted(text, name).raw(), name
        except (HushedError, UnicodeDecodeError) as error:
            if how == "text":
                if isinstance(error, HushedError):
                    raise
                raise HushedError("it is not text", where=name, remedy="leave --read text out") from error
            if isinstance(error, HushedError) and all(32 <= byte < 127 or byte in b"\r\n\t" for byte in raw):
                raise
    return raw, name


def _product(args: argparse.Namespace, pixels: Any, bits: int, owner: Any, words: str) -> None:
    from ..picture.preview import grid_png
    from ..written_file import replace_file

    if args.picture:
        if not args.picture.lower().endswith(".png"):
            raise HushedError("a picture with a grid is a PNG", where=args.picture, remedy="end its name in .png")
        replace_file(args.picture, [grid_png(pixels, bits, owner)])
    picture_named = bool(args.output) and args.output.lower().endswith(PICTURES)
    kind = args.kind or ("json" if args.format == "json" else "picture" if picture_named else "view")
    if kind == "picture":
        output.emit(args, _file(pixels, bits, args.output or "x.png"))
    elif kind == "text":
        lit = pixels.astype(bool) if pixels.ndim == 2 else pixels.max(axis=2) >= 128
        output.emit(args, ("\n".join("".join(".#"[dot] for dot in row) for row in lit.tolist()) + "\n").encode())
    elif kind == "json":
        from ..view.json_text import json_bytes

        rows = ["".join(".#"[dot] for dot in row) for row in pixels.tolist()] if bits == 1 else None
        record = {"width": pixels.shape[1], "height": pixels.shape[0], "layout": words, "rows": rows}
        if rows is None:
            record["pixels"] = pixels.tolist()
        output.emit(args, json_bytes(record))
    else:
        from rich.text import Text

        from ..view.drawn import pixels as show

        def view(out: Any) -> None:
            show(out, pixels, bits)
            out.print(Text().append("layout  ", style="head").append(words))

        output.report(args, view)


def _file(pixels: Any, bits: int, name: str) -> bytes:
    """A picture file of one pixel a pixel."""
    from io import BytesIO

    import numpy as np
    from PIL import Image

    if pixels.ndim == 2:
        pixels = (pixels.astype(np.uint16) * 255 // ((1 << bits) - 1)).astype(np.uint8)
    image = Image.fromarray(np.ascontiguousarray(pixels))
    suffix = Path(name).suffix.lower()
    if bits == 1:
        image = image.convert("1")
    out = BytesIO()
    try:
        image.save(out, {".pbm": "PPM", ".pgm": "PPM", ".ppm": "PPM"}.get(suffix, suffix.strip(".").upper()))
    except (OSError, ValueError, KeyError) as error:
        raise HushedError("the picture cannot be written so", where=name, remedy="end its name in .png") from error
    return out.getvalue()


def _guess(args: argparse.Namespace, raw: bytes, name: str) -> int:
    from ..picture import layout as layouts
    from ..picture.guess import guesses, header_of
    from ..units import counted

    if any(getattr(args, option) for option in ("part", "rig", "layout", "size")):
        raise HushedError("a guess and a layout", remedy="leave --guess, or --part, --layout and --size, out")
    header = header_of(raw) if args.skip is None else None
    said = f"{header.text()}; --skip {header.length} leaves them out (done here)" if header else ""
    body = raw[header.length :] if header else raw
    found = guesses(body)
    if not found:
        raise HushedError(
            f"{counted(len(body), 'byte')} make no picture of a likely size",
            where=name,
            remedy="try --skip N, for a header of N bytes",
        )
    for candidate in _as_headed(header, len(body)) if header else []:
        found.insert(0, candidate)
    pictures = [layouts.unpack(body, one.layout, one.height, one.width) for one in found]
    if args.choose is not None:
        return _chosen(args, found, pictures, header)
    if args.picture:
        _sheet(args, found, pictures)
    if args.format == "json" or args.kind == "json":
        from ..view.json_text import json_bytes

        record = [
            {"width": one.width, "height": one.height, "order": round(one.order, 3), "options": one.options()} for one in found
        ]
        output.emit(args, json_bytes({"guesses": record, "header": said or None}))
        return 0
    return _listed(args, found, pictures, said)


def _as_headed(header: Any, count: int) -> Iterator[Any]:
    """The pictures that a header of bytes tells."""
    from ..part.layout import Layout
    from ..picture import layout as layouts
    from ..picture.guess import Candidate

    for stand, each in (("upright", header.width * -(-header.height // 8)), ("flat", header.height * -(-header.width // 8))):
        high = header.height if stand == "flat" else -(-header.height // 8) * 8
        shape = Layout(stand=stand, first="low" if stand == "upright" else "high")  # type: ignore[arg-type]
        if each * header.count == count == layouts.length_of(shape, high * header.count, header.width):
            yield Candidate(shape, high * header.count, header.width, 1.0)


def _chosen(args: argparse.Namespace, found: list[Any], pictures: list[Any], header: Any) -> int:
    """One of the guesses, as a product."""
    from ..picture import layout as layouts

    if not 1 <= args.choose <= len(found):
        raise HushedError(f"--choose {args.choose}", remedy=f"there are guesses 1 to {len(found)}")
    one = found[args.choose - 1]
    if not args.quiet:
        say(f"chosen: {one.options()}{f' --skip {header.length}' if header else ''}")
    owner = layouts.byte_map(one.layout, one.height, one.width) if args.marks else None
    _product(args, pictures[args.choose - 1], one.layout.bits, owner, layouts.in_words(one.layout, one.height, one.width))
    return 0


def _sheet(args: argparse.Namespace, found: list[Any], pictures: list[Any]) -> None:
    """All guesses on one picture."""
    from ..picture.preview import rgb_of, sheet_png
    from ..written_file import replace_file

    if not args.picture.lower().endswith(".png"):
        raise HushedError("the sheet is a PNG", where=args.picture, remedy="end its name in .png")
    captions = []
    for number, one in enumerate(found, 1):
        how = (
            f"{one.layout.stand} {one.layout.first} {one.layout.runs}"
            if one.layout.bits == 1
            else f"{one.layout.bits} bits {one.layout.bytes}"
        )
        captions.append(f"{number}  {one.width}x{one.height}, {one.order * 100:.0f} %\n{how}")
    drawn = [rgb_of(picture, one.layout.bits) for picture, one in zip(pictures, found, strict=True)]
    replace_file(args.picture, [sheet_png(list(zip(captions, drawn, strict=True)))])


def _listed(args: argparse.Namespace, found: list[Any], pictures: list[Any], said: str) -> int:
    """The guesses as a table, the first one drawn."""
    from rich.text import Text

    from ..view.drawn import guess_list
    from ..view.drawn import pixels as show

    def view(out: Any) -> None:
        guess_list(out, found[:12], said)
        out.print(Text("\nthe first:", style="head"))
        show(out, pictures[0], found[0].layout.bits)
        out.print(Text("--picture SHEET.png draws them all; --choose N takes one", style="quiet"))

    output.report(args, view)
    return 0
