"""Bytes of an unknown picture: every likely layout and width, the most orderly first, so that an eye can choose.

What is right looks orderly: neighbours are alike. For each candidate the share of neighbours that differ, across and down, is set
against what pixels of the same brightness strewn at random would give. Fonts' headers are recognised by their numbers alone: they
must account for every byte.
"""

from __future__ import annotations

from collections.abc import Iterator

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..part.layout import Layout
from . import layout as layouts

__all__ = ["Candidate", "Header", "guesses", "header_of"]

WIDTHS = (5, 6, 7, 8, 10, 12, 16, 20, 24, 32, 40, 48, 64, 72, 80, 84, 96, 100, 102, 104, 120, 122, 128, 132, 135, 144, 160, 170,
          176, 192, 200, 240, 250, 256, 264, 280, 296, 320, 360, 400, 480, 640, 800)  # fmt: skip
PANELS = {
    (128, 64),
    (128, 32),
    (84, 48),
    (8, 8),
    (16, 8),
    (16, 16),
    (32, 16),
    (240, 320),
    (240, 240),
    (128, 160),
    (128, 128),
    (320, 240),
}
MOST_BYTES = 1 << 20


class Candidate(msgspec.Struct):
    """layout and (height, width) that fit the bytes; order: 1 for perfect order, 0 for none."""

    layout: Layout
    height: int
    width: int
    order: float

    def options(self) -> str:
        """As the command line takes it."""
        fresh = Layout()
        words = [
            f"{key}={_word(value)}" for key, value in msgspec.structs.asdict(self.layout).items() if value != getattr(fresh, key)
        ]
        return f'--layout "{" ".join(words) or "bits=1"}" --size {self.width}x{self.height}'


def _word(value: object) -> str:
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


class Header(msgspec.Struct):
    """Numbers ahead of a font table's bytes that account for its length."""

    length: int
    width: int
    height: int
    first: int
    count: int

    def text(self) -> str:
        """In words."""
        return (
            f"the first {self.length} bytes look like a header: glyphs of {self.width}x{self.height}, "
            f"{self.count} of them from 0x{self.first:02X} on"
        )


def header_of(raw: bytes) -> Header | None:
    """Width, height, first character and count (or last character) in the first bytes, in any order, if they fit to the byte."""
    for length in (3, 4, 5, 6, 8):
        head = list(raw[:length])
        if len(raw) <= length:
            break
        body = len(raw) - length
        for w in (v for v in head if 3 <= v <= 64):
            for h in (v for v in head if 5 <= v <= 64):
                each = {w * -(-h // 8), h * -(-w // 8)}
                for first in (v for v in head if v in (0x00, 0x20, 0x21, 0x30)):
                    for number in head:
                        for count in (number, number - first + 1):
                            if count >= 2 and count * min(each) <= body and any(count * one == body for one in each):
                                spare = [w, h, first, number]
                                if all(head.count(v) >= spare.count(v) for v in spare):
                                    return Header(length, w, h, first, count)
    return None


def candidates(count: int, deep: bool) -> Iterator[tuple[Layout, int, int]]:
    """Layouts and sizes that take exactly so many bytes."""
    kinds = [
        Layout(stand=stand, first=first, runs=runs)
        for stand in ("flat", "upright")
        for first in ("high", "low")
        for runs in ("rows", "columns")
    ]
    if deep:
        kinds += [Layout(bits=bits, first=first) for bits in (2, 4) for first in ("high", "low")]
        kinds += [
            Layout(bits=8),
            Layout(bits=16, colours="rgb"),
            Layout(bits=16, colours="rgb", bytes="low-first"),
            Layout(bits=24, colours="rgb"),
        ]
    for layout in kinds:
        for width in WIDTHS:
            height = layouts.rows_for(layout, width, count)
            if 4 <= height <= 1024 and layouts.length_of(layout, height, width) == count:
                yield layout, height, width


def orderly(pixels: NDArray[np.bool_] | NDArray[np.uint8]) -> float:
    """How much more alike neighbours are than at random, from 0 to 1; by the worse of the two directions, mostly."""
    values = pixels.astype(np.int16)
    if values.ndim == 2:
        values = values[..., None]
    spread = float(np.mean([_apart(values[..., k]) for k in range(values.shape[2])]))
    if spread == 0:
        return 0.0
    across = float(np.abs(np.diff(values, axis=1)).mean()) if values.shape[1] > 1 else spread
    down = float(np.abs(np.diff(values, axis=0)).mean()) if values.shape[0] > 1 else spread
    shares = sorted((max(0.0, 1 - across / spread), max(0.0, 1 - down / spread)))
    return 0.7 * shares[0] + 0.3 * shares[1]


def _apart(channel: NDArray[np.int16]) -> float:
    """Mean difference of two pixels picked at random."""
    share = np.bincount(channel.ravel() - channel.min())
    below = np.cumsum(share) / channel.size
    return float(2 * np.sum(below * (1 - below)))


def guesses(raw: bytes, most: int = 24) -> list[Candidate]:
    """The most orderly candidates, best first. Of pictures that differ by a turn or a mirror alone, one stands for all."""
    raw = raw[:MOST_BYTES]
    out: list[Candidate] = []
    seen: set[bytes] = set()
    for layout, height, width in candidates(len(raw), deep=len(raw) >= 64):
        pixels = layouts.unpack(raw, layout, height, width)
        key = f"{height}x{width}".encode() + np.ascontiguousarray(pixels).tobytes()
        if key in seen:
            continue
        seen.add(key)
        order = orderly(pixels)
        order += 0.03 * ((width, height) in PANELS) - 0.06 * (height > 4 * width or width > 8 * height)
        order -= 0.05 * (1 < layout.bits < 8)  # few panels have so few greys
        order -= 0.15 * (
            layout.bits > 1 and order < 0.7
        )  # bytes of one-bit pictures are alike too, as numbers, but not that much
        out.append(Candidate(layout, height, width, max(0.0, min(1.0, order))))
    out.sort(key=lambda candidate: -candidate.order)
    return out[:most]
