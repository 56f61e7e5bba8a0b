"""The picture on the glass, in the terminal: half blocks where they fit, else braille dots, else # and dots."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from rich.console import Console
from rich.style import Style
from rich.text import Text

from ..part.describe import Panel
from ..part.paged import Glass
from ..picture.image import line_colours
from .console import writes_unicode

__all__ = ["draw", "rows_of_text"]

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


def draw(out: Console, glass: Glass, panel: Panel) -> None:
    """Prints the glass in a frame, its lines in the colours of the panel's bands, dimmed when it is dark."""
    unicode = writes_unicode(out.file)
    lines, step = rows_of_text(glass.lit, out.width, unicode)
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
