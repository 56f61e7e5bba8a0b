"""A picture or a text as the bytes that display memory wants, or as the commands that bring it to the panel."""

from __future__ import annotations

import argparse
import sys
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from . import drawing, options, output
from .said import say

if TYPE_CHECKING:
    from numpy.typing import NDArray

    from .drawing import Place

EXAMPLES = """\
examples:
  hushed-wire pack tide.pbm --part ssd1306                           look at it first
  hushed-wire pack tide.pbm --part ssd1306 -o tide.c
  hushed-wire pack gate.png --part pcd8544 --fit inside --shades diffuse --as hush -o gate.hush
  hushed-wire pack gate.png --layout "stand=flat first=low" --size 32x16 --fit inside --as hex
  hushed-wire pack --text "GATE OPEN" --font 8x8 --part max7219 --panel 8x8 --scroll left --as hush
"""

KINDS = ("view", "c", "python", "hex", "binary", "hush", "json")


def arguments(parser: argparse.ArgumentParser) -> None:
    """Adds the arguments."""
    parser.add_argument("image", nargs="?", metavar="IMAGE", help="PNG, PBM, PGM, PPM, BMP or GIF file; '-' is standard input")
    drawing.add_place(parser.add_argument_group("where the pixels go"))
    group = parser.add_argument_group("the picture")
    group.add_argument(
        "--fit",
        choices=("exact", "crop", "inside", "cover", "stretch"),
        default="exact",
        help="what to do with a picture of another size (default: exact, an error)",
    )
    group.add_argument(
        "--shades",
        choices=("plain", "ordered", "diffuse"),
        default="plain",
        help="how shades become what the panel has (default: plain steps)",
    )
    group.add_argument(
        "--lit-from", default="50%", metavar="PERCENT", help="brightness from which a pixel is lit (default: 50%%)"
    )
    group.add_argument("--negative", action="store_true", help="exchange light and dark")
    group.add_argument("--palette", metavar="COLOURS", help="pixels become numbers of these colours, like 0x000000,0xFFB030")
    group.add_argument("--frames", default="first", metavar="WHICH", help="of a moving picture: first, all, 5, or 0-9")
    group = parser.add_argument_group("a text instead of a picture")
    group.add_argument("--text", metavar="TEXT", help=r"the text; \n begins a new line")
    group.add_argument("--font", default="5x7", metavar="FONT", help="5x7, 8x8, or a font file, *.glyphs or *.bdf (default: 5x7)")
    group.add_argument("--scale", type=int, default=1, metavar="N", help="dots as squares of N (default: 1)")
    group.add_argument("--align", choices=("left", "center", "right"), default="left", help="within the panel (default: left)")
    group.add_argument("--apart", type=int, metavar="N", help="columns between glyphs (default: as the font has it)")
    group.add_argument("--wrap", action="store_true", help="begin a new line where the panel ends")
    group = parser.add_argument_group("motion")
    group.add_argument("--scroll", choices=("left", "right", "up", "down"), help="move the picture or text through the panel")
    group.add_argument("--by", type=int, default=1, metavar="N", help="pixels a frame (default: 1)")
    options.add_quantity(group, "--every", "s", "T", "time from frame to frame (default: 100ms)", default="100ms")
    group.add_argument(
        "--after", metavar="SEQUENCE", help="with --as hush: what was sent before (default: the part's ready bring-up)"
    )
    parser.add_argument(
        "--as", dest="kind", choices=KINDS, help="what is made (default: as -o's name tells, else view: a look at it)"
    )
    parser.add_argument("--name", metavar="NAME", help="name of the array (default: from the file's name)")
    parser.add_argument(
        "--picture", metavar="FILE", help="what the glass shows: a PNG (of several frames NAME-0000.png and so on), or a GIF"
    )
    parser.add_argument("--marks", action="store_true", help="mark the boundaries of bytes in the picture")
    options.add_text(parser)


def run(args: argparse.Namespace) -> int:
    """Runs the command."""
    if (args.image is None) == (args.text is None):
        raise HushedError(
            "there has to be a picture, or a text", remedy='like: hushed-wire pack tide.pbm …, or pack --text "GATE OPEN" …'
        )
    for name, least in (("scale", 1), ("by", 1)):
        if not least <= getattr(args, name) <= 1000:
            raise HushedError(f"--{name} {getattr(args, name)}", remedy="from 1 to 1000")
    kind = drawing.kind_of(args, KINDS, "view")
    place = drawing.place_of(args)
    if place.part is not None and place.size is None:
        part = place.part.name
        raise HushedError(
            f"{part} shows characters, no pictures",
            remedy=f"its own characters come from: hushed-wire glyphs FONT --part {part} --as hush",
        )
    source = args.image or args.text
    frames, notes = _frames(args, place)
    if not args.quiet:
        for note in notes:
            say(f"note: {source if args.image else 'text'}: {note}")
    if args.picture:
        _picture(args, place, frames)
    if kind == "view":
        _view(args, place, frames)
    elif kind == "hush":
        output.emit(args, _hush(args, place, frames).encode())
    else:
        from ..picture.product import PRODUCTS

        sizes = frames[0].shape[:2]
        title = args.name or (args.image if args.image not in (None, "-") else "picture") or "picture"
        head = drawing.native(frames[0], place).shape[:2]
        from ..picture import layout as layouts

        words = layouts.in_words(place.layout, *head)
        raws = (layouts.pack(drawing.native(frame, place), place.layout) for frame in frames)
        output.emit(args, PRODUCTS[kind](list(raws), sizes, words, title))
    return 0


def _frames(args: argparse.Namespace, place: Place) -> tuple[list[NDArray[Any]], list[str]]:
    """The frames as a person sees them."""
    import numpy as np

    notes: list[str] = []
    if args.text is not None:
        pixels = _text(args, place)
        pictures = [pixels]
    else:
        pictures = _pictures(args, place, notes)
    if args.scroll:
        if len(pictures) > 1:
            raise HushedError("a moving picture that is moved", where="--scroll", remedy="name one frame with --frames")
        from ..picture.motion import windows

        if place.size is None:
            raise HushedError("how large is the window?", where="--scroll", remedy="give --size, or a part")
        pictures = list(windows(pictures[0], place.size, args.scroll, args.by))
    elif args.text is not None and place.size is not None:
        high, wide = place.size
        if pictures[0].shape[0] > high or pictures[0].shape[1] > wide:
            got = f"{pictures[0].shape[1]}x{pictures[0].shape[0]}"
            raise HushedError(
                f"the text is {got} pixels, the panel shows {wide}x{high}",
                where="--text",
                remedy="shorten it, --wrap it, or --scroll it",
            )
        edge = [(0, high - pictures[0].shape[0]), (0, wide - pictures[0].shape[1]), *[(0, 0)] * (pictures[0].ndim - 2)]
        pictures = [np.pad(pictures[0], edge)]
    if args.negative:
        top = 255 if place.layout.colours != "grey" else (1 << place.layout.bits) - 1
        pictures = [~frame if frame.dtype == bool else (top - frame).astype(np.uint8) for frame in pictures]
    return pictures, notes


def _text(args: argparse.Namespace, place: Place) -> NDArray[Any]:
    import numpy as np

    from ..picture.font import set_text
    from ..picture.font_file import font_named

    text = args.text.replace("\\n", "\n")
    if not text.strip("\n"):
        raise HushedError("the text is empty", where="--text", remedy='like: --text "GATE OPEN"')
    room = place.size[1] if place.size is not None and not args.scroll else None
    if args.apart is not None and not 0 <= args.apart <= 64:
        raise HushedError(f"--apart {args.apart}", remedy="from 0 to 64 columns")
    lit: NDArray[Any] = set_text(text, font_named(args.font), args.scale, args.align, room, args.wrap, apart=args.apart)
    if place.layout.colours != "grey":
        return np.repeat(lit[:, :, None], 3, axis=2).astype(np.uint8) * np.uint8(255)
    if place.layout.bits == 1:
        return lit
    return np.where(lit, (1 << place.layout.bits) - 1, 0).astype(np.uint8)


def _pictures(args: argparse.Namespace, place: Place, notes: list[str]) -> list[NDArray[Any]]:
    from pathlib import Path

    from ..picture.prepare import fitted, frames_of, shaded

    share = args.lit_from.removesuffix("%")
    if not share.replace(".", "", 1).isdecimal() or not 0 < float(share) <= 100:
        raise HushedError(f"'{args.lit_from}' is no brightness", where="--lit-from", remedy="a percentage above 0, like 40%")
    name = args.image if args.image != "-" else "standard input"
    ready = frames_of(sys.stdin.buffer.read() if args.image == "-" else Path(args.image), name, args.frames)
    notes += ready.notes
    palette = _palette(args.palette, place) if args.palette else None
    out = []
    for frame in ready.frames:
        if place.size is not None and not args.scroll:
            frame, said = fitted(frame, place.size, args.fit, name)
            if said and said not in notes:
                notes.append(said)
        out.append(shaded(frame, place.layout, args.shades, float(share) / 100, palette))
    return out


def _palette(text: str, place: Place) -> NDArray[Any]:
    import numpy as np

    colours = []
    for word in text.split(","):
        value = word.strip().removeprefix("0x").removeprefix("0X")
        if len(value) != 6 or any(char not in "0123456789abcdefABCDEF" for char in value):
            raise HushedError(f"'{word}' is no colour", where="--palette", remedy="like 0x000000,0xFFB030")
        colours.append(list(bytes.fromhex(value)))
    room = 1 << place.layout.bits
    if place.layout.colours != "grey" or not 2 <= len(colours) <= room:
        raise HushedError(
            f"{len(colours)} colours for {place.layout.bits} bits a pixel",
            where="--palette",
            remedy=f"from 2 to {room}, with colours=grey",
        )
    return np.array(colours, np.uint8)


def _picture(args: argparse.Namespace, place: Place, frames: list[NDArray[Any]]) -> None:
    from ..picture import layout as layouts
    from ..picture.preview import gif, grid_png, rgb_of
    from ..written_file import replace_file

    bits, lower = place.layout.bits, args.picture.lower()
    if lower.endswith(".gif"):
        every = args.every
        replace_file(args.picture, [gif([rgb_of(frame, bits) for frame in frames], max(20, int((every or 0) * 1000)))])
    elif lower.endswith(".png"):
        owner = None
        if args.marks:
            owner = layouts.byte_map(place.layout, *drawing.native(frames[0], place).shape[:2])
            if place.part is not None:
                from ..part.mounting import as_seen

                owner = as_seen(owner, place.panel)
        from pathlib import Path

        target = Path(args.picture)
        for number, frame in enumerate(frames):
            name = target if len(frames) == 1 else target.with_name(f"{target.stem}-{number:04d}{target.suffix}")
            replace_file(name, [grid_png(frame, bits, owner)])
    else:
        raise HushedError("a picture is a PNG, or a GIF of all frames", where=args.picture, remedy="end its name in .png or .gif")


def _costs(args: argparse.Namespace, place: Place, frames: list[NDArray[Any]]) -> list[int] | None:
    """Words of each frame when only what changed is sent; None where no part tells how."""
    if place.part is None:
        return None
    from ..sequence.moving import frame_sends, ready_state

    state = ready_state(place.target, _after(args))
    return [sum(len(send.raw) for send in sends) for sends in frame_sends(state, frames)]


def _after(args: argparse.Namespace) -> Any:
    from pathlib import Path

    return Path(args.after) if args.after else None


def _hush(args: argparse.Namespace, place: Place, frames: list[NDArray[Any]]) -> str:
    every = args.every
    if every < 0:
        raise HushedError(f"--every {args.every}", remedy="a time, like 100ms")
    from fractions import Fraction

    from ..picture import layout as layouts
    from ..picture.source import comment

    title = f"{comment(args.image or args.text or '')}: made by hushed-wire pack"
    if place.part is None:
        from ..sequence.listing import packed

        words = layouts.in_words(place.layout, *frames[0].shape[:2])
        lines = [f"# {title}", f"# {words}"]
        for number, frame in enumerate(frames):
            if number:
                lines.append(f"wait {float(every) * 1e3:g}ms")
            lines.append(f"data {packed(layouts.pack(frame, place.layout))}")
        return "\n".join(lines) + "\n"
    from ..sequence.moving import frame_sends, hush_of, ready_state

    state = ready_state(place.target, _after(args))
    before = (
        f"after {comment(args.after)}"
        if args.after
        else f"after the ready bring-up: hushed-wire catalog {place.part.name} --start"
    )
    head = [title, f"for {place.part.name}, {place.panel.name}; {before}"]
    return hush_of(place.target, frame_sends(state, frames), Fraction(every), head)


def _view(args: argparse.Namespace, place: Place, frames: list[NDArray[Any]]) -> None:
    from ..picture import layout as layouts
    from ..view.drawn import packed_view

    words = layouts.in_words(place.layout, *drawing.native(frames[0], place).shape[:2])
    costs = _costs(args, place, frames) if len(frames) > 1 else None
    output.report(args, lambda out: packed_view(out, frames, place.layout.bits, words, costs, args.quiet))
