"""Lines of pixel numbers to lines of bytes and back: 1, 2 and 4 bits a pixel, and words of 12 to 24."""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.layout import Layout

__all__ = ["from_narrow", "from_wide", "line_bytes", "narrow", "stride_of", "strided", "wide_line"]

Order = Literal["big", "little"]


def stride_of(layout: Layout, room: int) -> int:
    """Bytes from one line to the next, where a line has `room`; raises HushedError where the layout says fewer."""
    if layout.stride and layout.stride < room:
        raise HushedError(f"a stride of {layout.stride} bytes, where a line has {room}", remedy="make it larger, or leave it out")
    return layout.stride or room


def strided(line: NDArray[np.uint8], layout: Layout) -> bytes:
    """A line filled up to the stride."""
    stride_of(layout, line.size)
    return line.tobytes().ljust(layout.stride, b"\xff" if layout.padding else b"\0")


def narrow(values: NDArray[Any], layout: Layout) -> bytes:
    """(height, width) pixels of 1, 2 or 4 bits as bytes, in the order of sending."""
    axis, per = (0, 8 // layout.bits) if layout.stand == "upright" else (1, 8 // layout.bits)
    short = -values.shape[axis] % per
    fill = (1 << layout.bits) - 1 if layout.padding else 0
    if short:
        pads = [(0, 0), (0, 0)]
        pads[axis] = (short, 0) if layout.spare == "before" else (0, short)
        values = np.pad(values, pads, constant_values=fill)
    if layout.bits == 1:
        packed = np.packbits(values.astype(bool, copy=False), axis=axis, bitorder="big" if layout.first == "high" else "little")
    else:
        shape = list(values.shape)
        shape[axis : axis + 1] = [values.shape[axis] // per, per]
        split = np.moveaxis(values.astype(np.uint8).reshape(shape), axis + 1, 0)
        packed = np.zeros(split.shape[1:], np.uint8)
        for k in range(per):  # two or four pixels a byte
            packed |= split[k] << (layout.bits * (per - 1 - k if layout.first == "high" else k))
    lines = packed if layout.runs == "rows" else packed.T
    stride = stride_of(layout, lines.shape[1])
    if stride > lines.shape[1]:
        lines = np.pad(lines, ((0, 0), (0, stride - lines.shape[1])), constant_values=0xFF if layout.padding else 0)
    return lines.tobytes()


def from_narrow(data: NDArray[np.uint8], layout: Layout, high: int, wide: int) -> NDArray[np.uint8]:
    """The twin of `narrow`: (high, wide) numbers."""
    axis, per = (0, 8 // layout.bits) if layout.stand == "upright" else (1, 8 // layout.bits)
    rows, columns = (-(-high // per), wide) if axis == 0 else (high, -(-wide // per))
    lines, room = (rows, columns) if layout.runs == "rows" else (columns, rows)
    packed = data.reshape(lines, -1)[:, :room]
    packed = packed if layout.runs == "rows" else packed.T
    if layout.bits == 1:
        values = np.unpackbits(packed, axis=axis, bitorder="big" if layout.first == "high" else "little")
    else:
        mask = (1 << layout.bits) - 1
        shifts = [layout.bits * (per - 1 - k if layout.first == "high" else k) for k in range(per)]
        split = np.stack([packed >> shift & mask for shift in shifts], axis=axis + 1)
        values = split.reshape(rows * per, columns) if axis == 0 else split.reshape(rows, columns * per)
    skip = values.shape[axis] - (high if axis == 0 else wide) if layout.spare == "before" else 0
    return values[skip:][:high] if axis == 0 else values[:, skip:][:, :wide]


def line_bytes(layout: Layout, pixels: int) -> int:
    """Bytes of so many pixels of a byte or more."""
    return {8: pixels, 12: -(-pixels // 2) * 3, 16: 2 * pixels, 18: 3 * pixels, 24: 3 * pixels}[layout.bits]


def wide_line(values: NDArray[Any], layout: Layout) -> NDArray[Any]:
    """Pixels of a byte or more, in the order of sending; an array whose memory is the bytes."""
    if layout.colours == "grey":
        return values.astype(np.uint8)
    red, blue = (0, 2) if layout.colours == "rgb" else (2, 0)
    if layout.bits == 16:
        # In place, channel after channel: no array is made that is not needed.
        out = values[..., red].astype(np.uint16)
        out &= 0xF8
        out <<= 5
        out |= values[..., 1] & np.uint8(0xFC)
        out <<= 3
        out |= values[..., blue] >> np.uint8(3)
        return out if layout.bytes == "low-first" else out.byteswap(inplace=True)
    if layout.bits == 8:
        return values[..., red] & 0xE0 | (values[..., 1] & 0xE0) >> 3 | values[..., blue] >> 6
    ordered = values if layout.colours == "rgb" else values[..., ::-1]
    if layout.bits == 12:
        nibbles = (ordered >> 4).reshape(-1)
        if len(nibbles) % 2:
            nibbles = np.append(nibbles, np.zeros(3, np.uint8))
        return (nibbles[0::2] << 4 | nibbles[1::2]).astype(np.uint8)
    return np.ascontiguousarray(ordered & 0xFC if layout.bits == 18 else ordered)


def from_wide(data: NDArray[np.uint8], layout: Layout, pixels: int) -> NDArray[np.uint8]:
    """The twin of `wide_line`: (pixels,) or (pixels, 3), low bits filled with the high ones."""
    if layout.colours == "grey":
        return data
    if layout.bits == 16:
        word = data.view("<u2" if layout.bytes == "low-first" else ">u2")
        five, six, last = word >> 11, word >> 5 & 63, word & 31
        channels = [five << 3 | five >> 2, six << 2 | six >> 4, last << 3 | last >> 2]
    elif layout.bits == 8:
        three, next_three, two = data >> 5, data >> 2 & 7, data & 3
        channels = [v << 5 | v << 2 | v >> 1 for v in (three, next_three)] + [two * np.uint8(85)]
    elif layout.bits == 12:
        nibbles = np.stack([data >> 4, data & 15], axis=1).reshape(-1)[: 3 * pixels].reshape(-1, 3)
        channels = list((nibbles * np.uint8(17)).T)
    else:
        three_bytes = data.reshape(-1, 3)
        whole = three_bytes & np.uint8(0xFC) | three_bytes >> np.uint8(6) if layout.bits == 18 else three_bytes
        channels = list(whole.T)
    out: NDArray[np.uint8] = np.stack(channels, axis=1).astype(np.uint8)
    return out if layout.colours == "rgb" else out[:, ::-1]


# ---- in words ------------------------------------------------------------------------------------------------------------
