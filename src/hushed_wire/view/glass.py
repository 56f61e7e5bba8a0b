"""The picture on the glass, in the terminal: half blocks where they fit, else braille dots, else # and dots."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from rich.console import Console
from rich.style import Style
from rich.text import Text

from ..part.describe import Panel
from ..part.glass import ColourGlass, PixelGlass, TextGlass
from ..picture.image import line_colours
from .console import writes_unicode

__all__ = ["draw", "draw_colour", "draw_text", "rows_of_text"]

SHADES = " ░▒▓█"
HALVES = np.array([" ", "▀", "▄", "█"])
BRAILLE = np.array([[0x01, 0x08], [0x02, 0x10], [0x04, 0x20], [0x40, 0x80]], dtype=np.uint16)


def half_blocks(lit: NDArray[np.bool_]) -> list[str]:
    """Two rows a line of text, so that pixels are about square."""
    even = np.pad(lit, ((0, lit.shape[0] % 2), (0, 0))).astype(np.uint8)
    return ["".join(row) for row in HALVES[even[0::2] + 2 * even[1::2]].tolist()]


def braille(lit: NDArray[np.bool_]) -> list[str]:
    """Four rows and two columns a character."""
    padded = np.pad(lit, ((0, -lit.shape[0] % 4), (0, -lit.shape[1] % 2)))
    cells = padded.reshape(padded.shape[0] // 4, 4, padded.shape[1] // 2, 2)
    codes = 0x2800 + np.einsum("yaxb,ab->yx", cells.astype(np.uint16), BRAILLE)
    return ["".join(map(chr, row)) for row in codes.tolist()]


def rows_of_text(lit: NDArray[np.bool_], room: int, unicode: bool = True) -> tuple[list[str], int]:
    """The picture as lines of text for `room` columns, and how many rows of pixels a line holds."""
    if not unicode:
        return ["".join(row) for row in np.where(lit, "#", ".").tolist()], 1
    if lit.shape[1] + 2 <= room:
        return half_blocks(lit), 2
    return braille(lit), 4


def shaded(light: NDArray[np.float32]) -> list[str]:
    """Scanned LEDs by their brightness, two characters each, so that they are about square."""
    level = np.where(light > 0.02, np.clip(np.ceil(light * 4 - 1e-3), 1, 4), 0).astype(np.int64)
    return ["".join(SHADES[value] * 2 for value in row) for row in level.tolist()]


def draw(out: Console, glass: PixelGlass, panel: Panel) -> None:
    """Prints the glass in a frame, its lines in the colours of the panel's bands, dimmed when it is dark."""
    unicode = writes_unicode(out.file)
    lines, step = rows_of_text(glass.lit, out.width, unicode)
    if glass.light is not None and unicode and 2 * glass.lit.shape[1] + 2 <= out.width:
        lines, step = shaded(glass.light), 1
    colours = line_colours(panel) if panel.rotate % 180 == 0 else np.tile(line_colours(panel)[-1], (glass.lit.shape[0], 1))
    if panel.rotate == 180:
        colours = colours[::-1]
    edge = ("┌", "┐", "└", "┘", "─", "│") if unicode else ("+", "+", "+", "+", "-", "|")
    width = len(lines[0]) if lines else 0
    frame = Style(dim=True)
    out.print(Text(edge[0] + edge[4] * width + edge[1], style=frame), soft_wrap=True)
    for number, line in enumerate(lines):
        red, green, blue = (int(part) for part in colours[min(number * step, len(colours) - 1)])
        text = Text(edge[5], style=frame)
        text.append(line, style=Style(color=f"rgb({red},{green},{blue})", dim=not glass.shown))
        text.append(edge[5], style=frame)
        out.print(text, soft_wrap=True)
    out.print(Text(edge[2] + edge[4] * width + edge[3], style=frame), soft_wrap=True)


EDGES = {True: ("┌", "┐", "└", "┘", "─", "│"), False: ("+", "+", "+", "+", "-", "|")}


def _framed(out: Console, lines: list[Text], width: int, unicode: bool) -> None:
    edge, frame = EDGES[unicode], Style(dim=True)
    out.print(Text(edge[0] + edge[4] * width + edge[1], style=frame), soft_wrap=True)
    for line in lines:
        out.print(Text(edge[5], style=frame).append_text(line).append(edge[5], style=frame), soft_wrap=True)
    out.print(Text(edge[2] + edge[4] * width + edge[3], style=frame), soft_wrap=True)


def draw_text(out: Console, glass: TextGlass, panel: Panel) -> None:
    """Prints the characters of a panel in a frame, those that are not known as blanks."""
    unicode = writes_unicode(out.file)
    red, green, blue = (int(part) for part in line_colours(panel)[0])
    style = Style(color=f"rgb({red},{green},{blue})", dim=not glass.shown or glass.backlight is False)
    lines = glass.lines
    if panel.form == "digits":
        lines = [" ".join(cells_of(line)) for line in lines]
    width = max(len(line) for line in lines)
    _framed(out, [Text(line.ljust(width), style=style) for line in lines], width, unicode)


def cells_of(line: str) -> list[str]:
    """The digits of a line, each with its point."""
    out: list[str] = []
    for char in line:
        if char == "." and out and len(out[-1]) == 1:
            out[-1] += char
        else:
            out.append(char)
    return out


def draw_colour(out: Console, glass: ColourGlass, panel: Panel) -> None:
    """Prints a colour panel, scaled to the terminal: two pixels a character."""
    unicode = writes_unicode(out.file)
    height, width = glass.rgb.shape[:2]
    step = max(1, -(-width // max(8, min(out.width - 2, 100))))
    if out.is_terminal:  # the whole panel at one look
        step = max(step, -(-height // (2 * max(8, out.height - 6))))
    high, wide = height // step // 2 * 2, width // step
    small = glass.rgb[: high * step, : wide * step].reshape(high, step, wide, step, 3).mean(axis=(1, 3)).astype(int)
    if not glass.shown:
        small //= 4
    brightest = max(1, 2 * int(small.sum(axis=2).max(initial=0)))
    lines = []
    for y in range(0, high, 2):
        text = Text()
        for x in range(wide):
            upper, lower = small[y, x], small[y + 1, x]
            if not unicode or out.color_system not in ("256", "truecolor"):  # too few colours: brightness then
                ramp = SHADES if unicode else " .:*#"
                share = (int(upper.sum() + lower.sum()) / brightest) ** 0.6  # as eyes see it
                text.append(ramp[min(len(ramp) - 1, int(share * len(ramp)))])
                continue
            text.append(
                "▀", style=Style(color=f"rgb({upper[0]},{upper[1]},{upper[2]})", bgcolor=f"rgb({lower[0]},{lower[1]},{lower[2]})")
            )
        lines.append(text)
    _framed(out, lines, wide, unicode)
