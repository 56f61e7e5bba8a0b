"""Pixels to the bytes of display memory and back: every layout in both directions, vectorised, exact inverses.

Strategy: a picture goes through three steps, each with its twin. It is arranged (turned, put in its frame, cut into modules, its rows
interleaved), which only moves pixels; its colours become numbers of so many bits; and lines of numbers become lines of bytes. What
moves pixels moves anything, so the same step over byte numbers tells which byte holds a pixel.
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.describe import Panel, Part
from ..part.layout import Layout

__all__ = [
    "as_mounted", "as_seen", "byte_map", "in_words", "layout_for", "length_of", "pack", "pack_pages", "rows_for", "unpack", "unpack_pages",
]  # fmt: skip

Order = Literal["big", "little"]


def pack_pages(pixels: NDArray[np.bool_]) -> NDArray[np.uint8]:
    """(height, width) pixels to (pages, width) bytes: eight rows a byte, bit 0 uppermost; the last page is padded dark."""
    short = -pixels.shape[0] % 8
    return np.packbits(np.pad(pixels, ((0, short), (0, 0))), axis=0, bitorder="little")


def unpack_pages(pages: NDArray[np.uint8], height: int) -> NDArray[np.bool_]:
    """(pages, width) bytes to (height, width) pixels; the twin of `pack_pages`."""
    return np.unpackbits(pages, axis=0, bitorder="little")[:height].astype(bool)


def as_mounted(pixels: NDArray[Any], panel: Panel) -> NDArray[Any]:
    """A picture as a person sees it, turned to how it lies in memory on this panel."""
    turned = np.rot90(pixels, panel.rotate // 90)
    return turned[:, ::-1] if panel.mirror else turned


def as_seen(pixels: NDArray[Any], panel: Panel) -> NDArray[Any]:
    """The twin of `as_mounted`."""
    return np.rot90(pixels[:, ::-1] if panel.mirror else pixels, -(panel.rotate // 90))


def layout_for(part: Part, panel: Panel | None = None) -> Layout:
    """A part's own layout, with what the panel says of it; raises HushedError where a part holds no pixels."""
    import msgspec

    layout = part.memory.layout
    if layout is None:
        raise HushedError(f"{part.name} holds no pixels", remedy="take a graphic part, or spell the layout out with --layout")
    if panel is not None and panel.form == "matrix":
        layout = msgspec.structs.replace(layout, first="high" if "msb-left" in panel.segments else "low")
    return layout


# ---- the two verbs ---------------------------------------------------------------------------------------------------


def pack(pixels: NDArray[Any], layout: Layout) -> bytes:
    """(height, width) numbers or (height, width, 3) colours to bytes. Of colours the high bits of each channel are kept."""
    if layout.invert:
        pixels = ~pixels if layout.colours != "grey" or pixels.dtype == bool else (1 << layout.bits) - 1 - pixels
    placed = _arranged(pixels, layout)
    if layout.bits < 8:
        return _narrow(placed, layout)
    lines = placed.swapaxes(0, 1) if layout.runs == "columns" else placed
    if layout.stride:
        return b"".join(_strided(_wide(line[None], layout), layout) for line in lines)
    return _wide(lines, layout).tobytes()


def unpack(raw: bytes, layout: Layout, height: int, width: int) -> NDArray[Any]:
    """Bytes to (height, width) numbers, or (height, width, 3) colours with their low bits filled up; the twin of `pack`.

    Raises HushedError where there are too few or too many bytes.
    """
    wanted = length_of(layout, height, width)
    if len(raw) != wanted:
        few = "few" if len(raw) < wanted else "many"
        raise HushedError(
            f"too {few} bytes: {len(raw)}, where {width}x{height} pixels in this layout take {wanted}",
            remedy="give another --size, or --guess draws every likely one",
        )
    data = np.frombuffer(raw, np.uint8)
    high, wide = _arranged_size(layout, height, width)
    if layout.bits < 8:
        placed = _from_narrow(data, layout, high, wide)
    else:
        lines, across = (wide, high) if layout.runs == "columns" else (high, wide)
        if layout.stride:
            room = _line_bytes(layout, across)
            data = data.reshape(lines, layout.stride)[:, :room]
            rows = [_from_wide(line, layout, across) for line in data]
            flat: NDArray[Any] = np.stack(rows)
        else:
            flat = _from_wide(data.reshape(-1), layout, lines * across)
            flat = flat.reshape(lines, across, *flat.shape[1:])
        placed = flat.swapaxes(0, 1) if layout.runs == "columns" else flat
    pixels = _restored(placed, layout, height, width)
    if layout.invert:
        pixels = ~pixels if layout.colours != "grey" else (1 << layout.bits) - 1 - pixels
    return pixels.astype(bool) if layout.bits == 1 else pixels


def length_of(layout: Layout, height: int, width: int) -> int:
    """Bytes that a picture takes."""
    high, wide = _arranged_size(layout, height, width)
    if layout.bits < 8:
        per = 8 // layout.bits
        rows, columns = (-(-high // per), wide) if layout.stand == "upright" else (high, -(-wide // per))
        lines, room = (rows, columns) if layout.runs == "rows" else (columns, rows)
        return lines * _stride(layout, room)
    lines, across = (wide, high) if layout.runs == "columns" else (high, wide)
    if layout.stride:
        return lines * _stride(layout, _line_bytes(layout, across))
    return _line_bytes(layout, lines * across)


def rows_for(layout: Layout, width: int, count: int) -> int:
    """The height of a picture of that width that takes so many bytes; 0 where there is none."""
    guess = max(1, count * 8 // max(1, layout.bits * width))
    for height in range(max(1, guess - 8), guess + 9):
        try:
            if length_of(layout, height, width) == count:
                per = 8 // layout.bits if layout.bits < 8 and layout.stand == "upright" else 1
                return -(-height // per) * per if not (layout.module or layout.scan or layout.frame) else height
        except HushedError:
            continue
    return 0


def byte_map(layout: Layout, height: int, width: int) -> NDArray[np.int64]:
    """(height, width) number of the (first) byte that holds each pixel."""
    high, wide = _arranged_size(layout, height, width)
    per_x = per_y = 1
    if layout.bits < 8:
        per = 8 // layout.bits
        per_x, per_y = (1, per) if layout.stand == "upright" else (per, 1)
    short_x = -wide % per_x if layout.spare == "before" else 0
    short_y = -high % per_y if layout.spare == "before" else 0
    x, y = (np.arange(wide) + short_x) // per_x, (np.arange(high) + short_y) // per_y
    across, down = -(-wide // per_x), -(-high // per_y)
    each = layout.bits / 8 if layout.bits in (12, 16, 24) else 3 if layout.bits == 18 else 1
    if layout.runs == "rows":
        line, at, room = y[:, None], x[None, :], across
    else:
        line, at, room = x[None, :], y[:, None], down
    stride = layout.stride or room * each
    return _restored((line * stride + at * each).astype(np.int64), layout, height, width)


# ---- arranging: pixels change their places ------------------------------------------------------------------------------


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


def _arranged_size(layout: Layout, height: int, width: int) -> tuple[int, int]:
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


def _arranged(values: NDArray[Any], layout: Layout) -> NDArray[Any]:
    high, wide = _framed_size(layout, *values.shape[:2])
    _arranged_size(layout, *values.shape[:2])
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


def _restored(values: NDArray[Any], layout: Layout, height: int, width: int) -> NDArray[Any]:
    """The twin of `_arranged`, for a picture of (height, width)."""
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


# ---- numbers to bytes ----------------------------------------------------------------------------------------------------


def _stride(layout: Layout, room: int) -> int:
    if layout.stride and layout.stride < room:
        raise HushedError(f"a stride of {layout.stride} bytes, where a line has {room}", remedy="make it larger, or leave it out")
    return layout.stride or room


def _strided(line: NDArray[np.uint8], layout: Layout) -> bytes:
    _stride(layout, line.size)
    return line.tobytes().ljust(layout.stride, b"\xff" if layout.padding else b"\0")


def _narrow(values: NDArray[Any], layout: Layout) -> bytes:
    """Pixels of 1, 2 or 4 bits."""
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
    stride = _stride(layout, lines.shape[1])
    if stride > lines.shape[1]:
        lines = np.pad(lines, ((0, 0), (0, stride - lines.shape[1])), constant_values=0xFF if layout.padding else 0)
    return lines.tobytes()


def _from_narrow(data: NDArray[np.uint8], layout: Layout, high: int, wide: int) -> NDArray[np.uint8]:
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


def _line_bytes(layout: Layout, pixels: int) -> int:
    return {8: pixels, 12: -(-pixels // 2) * 3, 16: 2 * pixels, 18: 3 * pixels, 24: 3 * pixels}[layout.bits]


def _wide(values: NDArray[Any], layout: Layout) -> NDArray[Any]:
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


def _from_wide(data: NDArray[np.uint8], layout: Layout, pixels: int) -> NDArray[np.uint8]:
    """The twin of `_wide`: (pixels,) or (pixels, 3), low bits filled with the high ones."""
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


def in_words(layout: Layout, height: int, width: int) -> str:
    """A layout as a sentence."""
    said = [f"{width}x{height} pixels", "1 bit a pixel" if layout.bits == 1 else f"{layout.bits} bits a pixel"]
    if layout.colours != "grey":
        said[-1] += f" ({layout.colours})"
    if layout.bits < 8:
        per = 8 // layout.bits
        end = "highest" if layout.first == "high" else "lowest"
        if layout.stand == "upright":
            said.append(f"bytes stand upright ({per} rows each), {end} bit on top")
            said.append(
                "bytes run along rows, page after page" if layout.runs == "rows" else "bytes run down, column after column"
            )
        else:
            said.append(f"bytes lie flat ({per} columns each), {end} bit on the left")
            said.append("bytes run along rows" if layout.runs == "rows" else "bytes run down columns")
        if layout.spare == "before":
            said.append("unused bits come first")
    else:
        said.append("row after row" if layout.runs == "rows" else "column after column")
    if layout.bits == 16:
        said.append("high byte first" if layout.bytes == "high-first" else "low byte first")
    if layout.invert:
        said.append("inverted")
    if layout.turn:
        said.append(f"turned by {layout.turn} degrees clockwise")
    if layout.mirror:
        said.append("mirrored left to right")
    if layout.frame:
        said.append(f"at {layout.left},{layout.top} of a memory of {layout.frame}")
    if layout.module:
        snake = {"no": "", "plain": ", every second line backwards", "turned": ", every second line backwards and on its head"}
        turned = f", each turned by {layout.module_turn} degrees" if layout.module_turn else ""
        said.append(
            f"modules of {layout.module} chained along {layout.chain} from {layout.start}{snake[layout.serpentine]}{turned}"
        )
    if layout.scan:
        run = f"{layout.scan_run} pixels of each" if layout.scan_run else "a whole row of each"
        said.append(f"rows {layout.scan} apart together, {run} in turn, {layout.scan_first} row first")
    if layout.stride:
        said.append(f"{layout.stride} bytes from line to line")
    said.append(f"{length_of(layout, height, width)} bytes")
    return "; ".join(said)
