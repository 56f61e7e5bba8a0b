"""Text of the drawing commands: pixels in a frame, their layout in words, what frames cost."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray
from rich.console import Console
from rich.text import Text

from ..part.describe import Panel
from ..part.glass import ColourGlass, PixelGlass
from ..picture.preview import rgb_of
from . import glass as drawing
from .tables import plain_table

__all__ = ["guess_list", "packed_view", "pixels"]

MOST_SHOWN = 4


def pixels(out: Console, picture: NDArray[Any], bits: int = 1) -> None:
    """Pixels in a frame; greys and colours as colours."""
    high, wide = picture.shape[:2]
    known = np.ones((high, wide), bool)
    panel = Panel(wide, high)
    if bits == 1 and picture.ndim == 2:
        drawing.draw(out, PixelGlass(picture.astype(bool), known, True), panel)
    else:
        drawing.draw_colour(out, ColourGlass(rgb_of(picture, bits), known, True), panel)


def packed_view(out: Console, frames: list[NDArray[Any]], bits: int, words: str, costs: list[int] | None, quiet: bool) -> None:
    """A look at what `pack` makes: some frames, the layout, the cost of each frame."""
    step = max(1, len(frames) // MOST_SHOWN)
    shown = list(range(0, len(frames), step))[:MOST_SHOWN]
    for number in shown:
        if len(frames) > 1:
            out.print(Text(f"frame {number} of {len(frames)}", style="head"))
        pixels(out, frames[number], bits)
    out.print(Text().append("layout  ", style="head").append(words))
    if costs is not None:
        every = costs[1:] or costs
        said = f"{len(costs)} frames; the first costs {costs[0]:,} bytes, those after it {min(every):,} to {max(every):,}, "
        said += f"{sum(every) / len(every):,.0f} on average, where only what changed is sent"
        out.print(Text().append("cost    ", style="head").append(said))
    if not quiet:
        out.print(
            Text("-o FILE.c, .py, .hex, .bin or .hush writes it; --picture FILE.png --marks shows the bytes", style="quiet")
        )


def guess_list(out: Console, found: list[Any], header: str) -> None:
    """Candidates of `unpack --guess`, best first, with the options that take each."""
    if header:
        out.print(Text().append("note  ", style="note").append(header))
    rows = plain_table()
    for head, side in (("choose", "right"), ("size", "left"), ("order", "right"), ("as options", "left")):
        rows.add_column(head, justify=side, no_wrap=True)  # type: ignore[arg-type]
    for number, candidate in enumerate(found, 1):
        rows.add_row(str(number), f"{candidate.width}x{candidate.height}", f"{candidate.order * 100:.0f} %", candidate.options())
    out.print(rows)


def font_view(out: Console, font: Any, words: str, quiet: bool) -> None:
    """All glyphs as a picture of text, as wide as the terminal allows, and what they are."""
    from ..picture.table import spans, strip

    columns = max(1, min(32, (min(out.width, 110) - 2) // (font.width + 1)))
    spaced = type(font)(font.name, font.height + 1, font.baseline, {}, [])
    for code, glyph in font.glyphs.items():
        pixels_now = np.pad(glyph.pixels, ((0, 1), (0, 1 + font.width - glyph.width)))
        spaced.glyphs[code] = type(glyph)(pixels_now, 0)
    pixels(out, strip(spaced, columns))
    widths = sorted({glyph.width for glyph in font.glyphs.values()})
    size = f"{widths[0]}x{font.height}" if len(widths) == 1 else f"{widths[0]} to {widths[-1]} wide, {font.height} high"
    out.print(
        Text().append("font    ", style="head").append(f"{font.name}: {len(font.glyphs)} glyphs, {size}: {spans(font.glyphs)}")
    )
    out.print(Text().append("layout  ", style="head").append(words))
    if not quiet:
        out.print(Text("-o FILE.c, .py, .hex, .bin, .bdf, .glyphs or .png writes them", style="quiet"))


def segments_view(out: Console, wiring: Any, entries: list[tuple[str, int]]) -> None:
    """The truth table: a column for each output, highest bit on the left, as registers are written."""
    out.print(Text().append("wiring  ", style="head").append(wiring.words()))
    rows = plain_table()
    rows.add_column("shows")
    for name in reversed(wiring.bits):
        rows.add_column(name, justify="center")
    rows.add_column("value")
    for char, value in entries:
        bits = [str(value >> bit & 1) for bit in reversed(range(len(wiring.bits)))]
        rows.add_row(char if char.strip() else "blank", *bits, f"0x{value:0{wiring.digits}X}")
    out.print(rows)
