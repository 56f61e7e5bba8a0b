"""Pixels change their places on the way into memory: turned, put in a frame, cut into chained modules, rows interleaved; and back.

What moves pixels moves anything: the same over the numbers of bytes tells which byte holds a pixel.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.layout import Layout

__all__ = ["arranged", "arranged_size", "restored"]


def _turned(values: NDArray[Any], degrees: int) -> NDArray[Any]:
    """Clockwise."""
    return np.rot90(values, -(degrees // 90)) if degrees else values


def _framed_size(layout: Layout, height: int, width: int) -> tuple[int, int]:
    if layout.turn % 180:
        height, width = width, height
    frame = layout.frame_size
    if frame is None:
        if layout.left or layout.top:
            raise HushedError("left and top without a frame", remedy="say how large the memory is, like frame=132x64")
        return height, width
    if layout.top + height > frame[0] or layout.left + width > frame[1]:
        raise HushedError(
            f"{width}x{height} pixels at {layout.left},{layout.top} do not fit the frame of {layout.frame}",
            remedy="crop the picture, or mend frame, left and top",
        )
    return frame


def arranged_size(layout: Layout, height: int, width: int) -> tuple[int, int]:
    """(height, width) of the memory picture."""
    high, wide = _framed_size(layout, height, width)
    module = layout.module_size
    if module is not None:
        if high % module[0] or wide % module[1]:
            raise HushedError(
                f"{wide}x{high} pixels are no whole modules of {layout.module}", remedy="crop or pad the picture to whole modules"
            )
        count = high // module[0] * (wide // module[1])
        tall, broad = module if layout.module_turn % 180 == 0 else module[::-1]
        high, wide = (tall * count, broad) if layout.join == "below" else (tall, broad * count)
    if layout.scan:
        run = layout.scan_run or wide
        if high % layout.scan or wide % run:
            raise HushedError(
                f"{wide}x{high} pixels do not divide into {layout.scan} groups of rows and runs of {run}",
                remedy="mend scan and scan_run, or the picture's size",
            )
        high, wide = layout.scan, wide * (high // layout.scan)
    return high, wide


def arranged(values: NDArray[Any], layout: Layout) -> NDArray[Any]:
    """(height, width, …) as a person sees it to the memory picture; raises HushedError where it does not fit."""
    high, wide = _framed_size(layout, *values.shape[:2])
    arranged_size(layout, *values.shape[:2])
    values = _turned(values, layout.turn)
    if layout.mirror:
        values = values[:, ::-1]
    if layout.frame:
        whole = np.zeros((high, wide, *values.shape[2:]), values.dtype)
        if layout.invert:
            whole[:] = (
                ((1 << layout.bits) - 1) if layout.colours == "grey" and values.dtype != bool else ~np.zeros(1, values.dtype)
            )
        whole[layout.top : layout.top + values.shape[0], layout.left : layout.left + values.shape[1]] = values
        values = whole
    if layout.module_size is not None:
        values = _chained(values, layout)
    if layout.scan:
        run = layout.scan_run or values.shape[1]
        groups = values.shape[0] // layout.scan
        cut = values.reshape(groups, layout.scan, values.shape[1] // run, run, *values.shape[2:])
        if layout.scan_first == "bottom":
            cut = cut[::-1]
        values = np.moveaxis(cut, 0, 2).reshape(layout.scan, -1, *values.shape[2:])
    return values


def restored(values: NDArray[Any], layout: Layout, height: int, width: int) -> NDArray[Any]:
    """The twin of `arranged`, for a picture of (height, width)."""
    high, wide = _framed_size(layout, height, width)
    rest = values.shape[2:]
    if layout.scan:
        tall, broad = _chained_size(layout, high, wide)
        run = layout.scan_run or broad
        cut = np.moveaxis(values.reshape(layout.scan, broad // run, tall // layout.scan, run, *rest), 2, 0)
        if layout.scan_first == "bottom":
            cut = cut[::-1]
        values = cut.reshape(tall, broad, *rest)
    if layout.module_size is not None:
        values = _unchained(values, layout, high, wide)
    if layout.frame:
        tall, broad = (width, height) if layout.turn % 180 else (height, width)
        values = values[layout.top : layout.top + tall, layout.left : layout.left + broad]
    if layout.mirror:
        values = values[:, ::-1]
    return _turned(values, -layout.turn % 360)


def _chained_size(layout: Layout, high: int, wide: int) -> tuple[int, int]:
    module = layout.module_size
    if module is None:
        return high, wide
    count = high // module[0] * (wide // module[1])
    tall, broad = module if layout.module_turn % 180 == 0 else module[::-1]
    return (tall * count, broad) if layout.join == "below" else (tall, broad * count)


def _snaked(blocks: NDArray[Any], layout: Layout) -> NDArray[Any]:
    """(lines, modules in a line, rows, columns, …) with every second line back to front; its own twin."""
    if layout.serpentine == "no":
        return blocks
    out = blocks.copy()
    out[1::2] = blocks[1::2, ::-1]
    if layout.serpentine == "turned":
        out[1::2] = out[1::2, :, ::-1, ::-1]
    return out


def _corner(blocks: NDArray[Any], layout: Layout) -> NDArray[Any]:
    """The chain's beginning to the front; its own twin."""
    if "bottom" in layout.start:
        blocks = blocks[::-1]
    return blocks[:, ::-1] if "right" in layout.start else blocks


def _chained(values: NDArray[Any], layout: Layout) -> NDArray[Any]:
    assert layout.module_size is not None
    (tall, broad), rest = layout.module_size, values.shape[2:]
    blocks = values.reshape(values.shape[0] // tall, tall, values.shape[1] // broad, broad, *rest).swapaxes(1, 2)
    blocks = _corner(blocks, layout)
    if layout.chain == "columns":
        blocks = blocks.swapaxes(0, 1)
    blocks = _snaked(blocks, layout)
    blocks = blocks.reshape(-1, tall, broad, *rest)
    blocks = np.rot90(blocks, -(layout.module_turn // 90), axes=(1, 2))
    if layout.join == "below":
        return blocks.reshape(-1, blocks.shape[2], *rest)
    return blocks.swapaxes(0, 1).reshape(blocks.shape[1], -1, *rest)


def _unchained(values: NDArray[Any], layout: Layout, high: int, wide: int) -> NDArray[Any]:
    assert layout.module_size is not None
    (tall, broad), rest = layout.module_size, values.shape[2:]
    lines, each = high // tall, wide // broad
    t, b = (tall, broad) if layout.module_turn % 180 == 0 else (broad, tall)
    if layout.join == "below":
        blocks = values.reshape(-1, t, b, *rest)
    else:
        blocks = values.reshape(t, -1, b, *rest).swapaxes(0, 1)
    blocks = np.rot90(blocks, layout.module_turn // 90, axes=(1, 2))
    if layout.chain == "columns":
        lines, each = each, lines
    blocks = _snaked(blocks.reshape(lines, each, tall, broad, *rest), layout)
    if layout.chain == "columns":
        blocks = blocks.swapaxes(0, 1)
    return _corner(blocks, layout).swapaxes(1, 2).reshape(high, wide, *rest)
