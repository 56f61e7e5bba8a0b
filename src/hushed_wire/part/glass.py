"""What panels show: text, pixels that are on or off, colours. Each kind answers the same questions, so that rules need not ask which it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

__all__ = ["ColourGlass", "Glass", "PaperGlass", "PixelGlass", "TextGlass"]

BRIGHT = 128  # of 255: a colour that counts as lit
LIGHT = 96  # of 255: the mean of red, green and blue from which a pixel is part of a figure


@dataclass
class TextGlass:
    """What a character or digit panel shows. lines: its text. codes: the characters' codes or the digits' segments.

    known: (rows, columns) bool, written since the capture began. shown: the controller drives the glass. cursor: (row, column)
    where one is shown, and how. glyphs: (8, 8) rows of the user's own characters, five bits each. backlight: None where no
    line tells.
    """

    unit: ClassVar[str] = "cells"

    lines: list[str]
    codes: NDArray[np.int64]
    known: NDArray[np.bool_]
    shown: bool
    cursor: tuple[int, int] | None = None
    cursor_kind: str = ""
    glyphs: NDArray[np.uint8] | None = None
    backlight: bool | None = None
    note: str = ""

    @property
    def anything(self) -> bool:
        """Whether there is something to see."""
        return any(line.strip() for line in self.lines)

    @property
    def visible(self) -> NDArray[np.bool_]:
        """(rows, columns) cells in which there is something."""
        return np.array([[not char.isspace() for char in line] for line in self.lines], bool)

    @property
    def pattern(self) -> NDArray[np.int64]:
        """What differs where it shows something else."""
        return self.codes

    @property
    def said(self) -> str:
        """In a few words."""
        text = next((line.strip() for line in self.lines if line.strip()), "")
        return f"'{text}'" + (" and more" if sum(bool(line.strip()) for line in self.lines) > 1 else "")


@dataclass
class PixelGlass:
    """What a panel of pixels shows. lit: (height, width) bool. known: (height, width) bool, its memory was written.

    shown: whether the controller drives the glass at all. scrolling: the picture moves, its phase is an estimate.
    light: (height, width) brightness from 0 to 1 of scanned LEDs, by how long each was on. backlight: None where no line tells.
    """

    unit: ClassVar[str] = "pixels"

    lit: NDArray[np.bool_]
    known: NDArray[np.bool_]
    shown: bool
    scrolling: bool = False
    light: NDArray[np.float32] | None = None
    backlight: bool | None = None

    @property
    def anything(self) -> bool:
        """Whether there is something to see."""
        return bool(self.lit.any())

    @property
    def visible(self) -> NDArray[np.bool_]:
        """(height, width) what is lit."""
        return self.lit

    @property
    def pattern(self) -> NDArray[np.bool_]:
        """What differs where it shows something else."""
        return self.lit

    @property
    def said(self) -> str:
        """In a few words."""
        return f"{int(np.count_nonzero(self.lit)):,} lit pixels"


@dataclass
class ColourGlass:
    """What a colour panel shows. rgb: (height, width, 3). known: (height, width), written. shown: the controller drives the glass."""

    unit: ClassVar[str] = "pixels"
    lit_are: ClassVar[str] = "pixels are bright"

    rgb: NDArray[np.uint8]
    known: NDArray[np.bool_]
    shown: bool
    scrolling: bool = False
    backlight: bool | None = None

    @property
    def lit(self) -> NDArray[np.bool_]:
        """(height, width) pixels brighter than half."""
        bright: NDArray[np.bool_] = self.rgb.max(axis=2) >= BRIGHT
        return bright

    @property
    def anything(self) -> bool:
        """Whether there is something to see: any colour but black."""
        return bool(self.rgb.any())

    @property
    def visible(self) -> NDArray[np.bool_]:
        """(height, width) what stands out as a figure."""
        out: NDArray[np.bool_] = self.rgb.mean(axis=2) > LIGHT
        return out

    @property
    def pattern(self) -> NDArray[np.uint8]:
        """What differs where it shows something else."""
        return self.rgb

    @property
    def said(self) -> str:
        """In a few words."""
        return f"a picture with {int(np.count_nonzero(self.lit)):,} bright pixels"


@dataclass
class PaperGlass(ColourGlass):
    """What e-paper shows: white where nothing is printed. shown: it was refreshed; what it showed before nobody knows."""

    lit_are: ClassVar[str] = "pixels are printed"

    @property
    def lit(self) -> NDArray[np.bool_]:
        """(height, width) pixels that are printed."""
        out: NDArray[np.bool_] = self.rgb.min(axis=2) < 255
        return out

    @property
    def anything(self) -> bool:
        """Whether anything is printed."""
        return bool(self.lit.any())

    @property
    def visible(self) -> NDArray[np.bool_]:
        """(height, width) what stands out as a figure."""
        return self.lit

    @property
    def said(self) -> str:
        """In a few words."""
        return f"a picture with {int(np.count_nonzero(self.lit)):,} printed pixels"


Glass = TextGlass | PixelGlass | ColourGlass
