"""What the drawing commands share: which layout and size are meant, which kind of product, where several go."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING, Any, NamedTuple

from ..errors import HushedError, nearest

if TYPE_CHECKING:
    from ..part.describe import Panel, Part
    from ..sequence.target import Target

SUFFIXES = {".c": "c", ".h": "c", ".py": "python", ".bin": "binary", ".raw": "binary", ".hex": "hex", ".txt": "hex", ".hush": "hush",
            ".json": "json", ".bdf": "bdf", ".glyphs": "art", ".png": "strip"}  # fmt: skip


class Place(NamedTuple):
    """Where pixels go. size: (height, width) as a person sees it, None where the picture decides. part, panel: if it is for one."""

    layout: Any
    size: tuple[int, int] | None
    part: Any = None
    panel: Any = None
    framing: str = ""

    @property
    def target(self) -> Target:
        """What a sequence would speak to; only where there is a part."""
        from ..sequence.target import Target

        return Target(self.part.name, self.part, self.panel, self.framing)


def add_place(parser: Any) -> None:
    """Which memory the pixels are for."""
    from .options import add_catalog

    parser.add_argument("--part", metavar="PART", help="the part, whose layout and panel are taken")
    parser.add_argument("--panel", metavar="SIZE", help="its panel (default: the usual one)")
    parser.add_argument("--rig", metavar="FILE", help="instead of a part: a rig file")
    parser.add_argument("--device", metavar="NAME", help="the rig's device, where it has several")
    parser.add_argument(
        "--layout", metavar="WORDS", help='how pixels lie in bytes, like "stand=upright first=low"; see docs/drawing.md'
    )
    parser.add_argument("--size", metavar="WxH", help="size of the picture in pixels, where nothing else tells it")
    add_catalog(parser)


def place_of(args: argparse.Namespace, default: str = "") -> Place:
    """The layout and size that the options name. default: layout words where they name none."""
    from ..part.layout import layout_of, size_of
    from ..picture.layout import layout_for

    size = size_of(args.size, "--size", "the picture") if args.size else None
    named = [option for option in ("part", "rig") if getattr(args, option)]
    if len(named) > 1:
        raise HushedError("--part and --rig both say what it is for", remedy="leave one of them")
    if not named:
        if args.panel or args.device:
            raise HushedError("--panel and --device need a part or a rig", remedy="add --part PART or --rig FILE")
        if not args.layout and not default:
            raise HushedError(
                "how are the pixels to lie?", remedy='give --part PART, --rig FILE, or --layout "stand=upright first=low"'
            )
        return Place(layout_of(args.layout or default), size)
    part, panel, framing = _part(args)
    own = layout_of(args.layout) if args.layout else layout_for(part, panel)
    if size is not None and part.memory.kind != "character":
        raise HushedError("--size and a panel both say how large it is", where="--size", remedy="leave it out, or name --panel")
    if part.memory.kind != "character" and panel.form != "digits":
        size = (panel.height, panel.width) if panel.rotate % 180 == 0 else (panel.width, panel.height)
    return Place(own, size, part, panel, framing)


def _part(args: argparse.Namespace) -> tuple[Part, Panel, str]:
    """The part, its panel and how it is wired."""
    if args.part:
        from ..part.catalogs import load

        part = load(args.part)
        if not part.panels:
            raise HushedError(f"{part.name} drives no panel", where="--part", remedy="name a display controller")
        return part, part.panel(args.panel or next(iter(part.panels))), ""
    from ..rig import load_rig

    rig = load_rig(args.rig)
    names = [device.name for device in rig.device]
    if not names:
        raise HushedError("the rig has no device", where=args.rig, remedy="add a [[device]] to it")
    if args.device and args.device not in names:
        raise HushedError(f"the rig has no device '{args.device}'", where="--device", remedy=nearest(args.device, names))
    if len(names) > 1 and not args.device:
        raise HushedError(f"the rig has several devices: {', '.join(names)}", where=args.rig, remedy="pick one with --device")
    target = rig.target(rig.device[names.index(args.device) if args.device else 0])
    return target.part, target.panel, target.framing


def kind_of(args: argparse.Namespace, kinds: tuple[str, ...], default: str) -> str:
    """What is made: as --as says, else as the name of -o tells, else the default."""
    if args.kind:
        return str(args.kind)
    if args.format == "json":
        return "json" if "json" in kinds else default
    if args.output and args.output != "-":
        from pathlib import Path

        kind = SUFFIXES.get(Path(args.output).suffix.lower(), "")
        if kind in kinds:
            return kind
        raise HushedError("what is to be written there?", where=args.output, remedy=f"say it with --as: {', '.join(kinds)}")
    return default


def native(pixels: Any, place: Place) -> Any:
    """Pixels as a person sees them, as they lie on the panel."""
    from ..part.mounting import as_mounted

    return as_mounted(pixels, place.panel) if place.panel is not None and place.size is not None else pixels
