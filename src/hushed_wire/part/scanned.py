"""Scanned LEDs as a memory: the picture is the driver's own, and every scan shows it. What is kept is each picture there was.

From a sequence the pictures are data runs; from a capture they come with the light of every LED (`scan`), which is the share of a
frame for which it was on.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part
from .glass import ColourGlass, PixelGlass, TextGlass
from .model import NEVER, Journal
from .mounting import as_seen
from .segments import character

__all__ = ["ScannedMemory", "from_bytes", "picture_said", "shape_of", "to_bytes"]


class ScannedMemory(Journal):
    """The journal of pictures. scan: where it was read from a capture, the frames and the light in them."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.scan: Any = None
        self.pictures: list[tuple[int, NDArray[np.uint8]]] = []

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        self.pictures.append((int(times[0]), values))
        self._write(times, np.arange(len(values)), values)

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> TextGlass | PixelGlass | ColourGlass:
        """What the panel shows at a tick: the frame it falls into, or the last whole one."""
        if panel.form == "colours":
            rgb = as_seen(self._colours(panel, when), panel)
            return ColourGlass(rgb, np.ones(rgb.shape[:2], bool), bool(rgb.any()))
        light, shown = self._light(panel, when)
        most = float(light.max()) if light.size else 0.0
        lit = (light > most / 8) & (light > 0)
        if panel.form == "digits":
            codes = np.array([to_bytes(lit, panel)], np.int64)[:, panel.cells[0]]
            text = "".join(character(_names(int(code), panel.segments)) for code in codes[0])
            return TextGlass([text], codes, np.ones(codes.shape, bool), shown)
        lit = as_seen(lit, panel)
        return PixelGlass(lit, np.ones(lit.shape, bool), shown, light=as_seen(light / most if most else light, panel))

    def _frame(self, when: int) -> tuple[int, bool]:
        """The frame that a tick falls into, and whether the panel is dark then."""
        scan = self.scan
        frame = min(max(int(np.searchsorted(scan.frames, when, side="right")) - 1, 0), len(scan.light) - 1)
        usual = int(np.median(np.diff(scan.frames)))
        return frame, when < scan.frames[0] or (when < NEVER and when > scan.frames[-1] + 2 * usual)

    def _sent(self, when: int) -> NDArray[np.uint8] | None:
        """The picture that was sent last by a tick."""
        return next((value for time, value in reversed(self.pictures) if time <= when), None)

    def _colours(self, panel: Panel, when: int) -> NDArray[np.uint8]:
        if self.scan is not None and self.scan.colours is not None:
            frame, dark = self._frame(when)
            out: NDArray[np.uint8] = self.scan.colours[frame] * np.uint8(0 if dark else 1)
            return out
        raw = self._sent(when)
        return np.zeros((*shape_of(panel), 3), np.uint8) if raw is None else from_bytes(raw, panel)

    def _light(self, panel: Panel, when: int) -> tuple[NDArray[np.float32], bool]:
        if self.scan is not None:
            frame, dark = self._frame(when)
            light: NDArray[np.float32] = self.scan.light[frame] * (0 if dark else 1)
            return light, bool(light.any())
        raw = self._sent(when)
        lit = np.zeros(shape_of(panel), bool) if raw is None else from_bytes(raw, panel)
        return lit.astype(np.float32), raw is not None


def _names(code: int, segments: list[str]) -> list[str]:
    return [name for bit, name in enumerate(segments) if code >> bit & 1]


def shape_of(panel: Panel) -> tuple[int, int]:
    """(rows, columns) of the LEDs as they are scanned; digits are rows, segments a to dp columns."""
    return (panel.width, 8) if panel.form == "digits" else (panel.height, panel.width)


def size_of(panel: Panel) -> int:
    """Bytes of a picture."""
    rows, columns = shape_of(panel)
    return {"colours": 3 * rows * columns, "digits": rows}.get(panel.form, rows * -(-columns // 8))


def to_bytes(lit: NDArray[Any], panel: Panel) -> NDArray[np.uint8]:
    """The bytes of a picture: of digits one each, as the panel's `segments` say, of colours three a LED, else rows of eight columns a byte, bit 7 leftmost."""
    if panel.form == "colours":
        return np.asarray(lit, np.uint8).reshape(-1)
    if panel.form == "digits":
        order = [SEGMENT_COLUMNS[name] for name in panel.segments]
        padded = np.pad(lit, ((0, 0), (0, 8 - lit.shape[1])))
        return np.packbits(padded[:, order], axis=1, bitorder="little")[:, 0]
    return np.packbits(lit, axis=1).reshape(-1)


def picture_said(raw: bytes, panel: Panel) -> str:
    """A picture in words."""
    values = np.frombuffer(raw, np.uint8)
    if panel.form == "digits":
        text = "".join(character(_names(int(values[at]), panel.segments)) for at in panel.cells[0])
        return f'shows "{text}"'
    lit = from_bytes(values, panel)
    return f"a picture with {int(np.count_nonzero(lit.any(axis=2) if panel.form == 'colours' else lit)):,} LEDs lit"


def from_bytes(raw: NDArray[np.uint8], panel: Panel) -> NDArray[Any]:
    """The twin of `to_bytes`."""
    rows, columns = shape_of(panel)
    if panel.form == "colours":
        return raw.reshape(rows, columns, 3)
    if panel.form == "digits":
        bits = np.unpackbits(raw[:rows, None], axis=1, bitorder="little").astype(bool)
        out = np.zeros((rows, 8), bool)
        for bit, name in enumerate(panel.segments):
            out[:, SEGMENT_COLUMNS[name]] = bits[:, bit]
        return out
    wide = -(-columns // 8)
    return np.unpackbits(raw.reshape(rows, wide), axis=1)[:, :columns].astype(bool)


SEGMENT_COLUMNS = {name: number for number, name in enumerate(("a", "b", "c", "d", "e", "f", "g", "dp"))}
