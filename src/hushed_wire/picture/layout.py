"""Pixels to the bytes of display memory and back: every layout in both directions, vectorised, exact inverses.

Strategy: a picture goes through two steps, each with its twin. It is arranged (`arrange`: turned, put in its frame, cut into modules, its
rows interleaved), which only moves pixels; and lines of numbers become lines of bytes (`numbers`).
"""

from __future__ import annotations

from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.describe import Panel, Part
from ..part.layout import Layout
from .arrange import arranged, arranged_size, restored
from .numbers import from_narrow, from_wide, line_bytes, narrow, stride_of, strided, wide_line

__all__ = [
    "byte_map", "in_words", "layout_for", "length_of", "pack", "pack_pages", "rows_for", "unpack", "unpack_pages",
]  # fmt: skip


def pack_pages(pixels: NDArray[np.bool_], top_bit: Literal["little", "big"] = "little") -> NDArray[np.uint8]:
    """(height, width) pixels to (pages, width) bytes: eight rows a byte, bit 0 uppermost (little); the last page is padded dark."""
    short = -pixels.shape[0] % 8
    return np.packbits(np.pad(pixels, ((0, short), (0, 0))), axis=0, bitorder=top_bit)


def unpack_pages(pages: NDArray[np.uint8], height: int) -> NDArray[np.bool_]:
    """(pages, width) bytes to (height, width) pixels; the twin of `pack_pages`."""
    return np.unpackbits(pages, axis=0, bitorder="little")[:height].astype(bool)


def layout_for(part: Part, panel: Panel | None = None) -> Layout:
    """A part's own layout, with what the panel says of it; raises HushedError where a part holds no pixels."""
    import msgspec

    layout = part.memory.layout
    if part.memory.kind == "chain":
        raise HushedError(
            f"{part.name} takes updates of a whole chain, not bytes of a memory",
            remedy="say 'picture FILE' in a sequence, and hushed-wire build --as c; or spell the layout out with --layout",
        )
    if layout is None:
        raise HushedError(f"{part.name} holds no pixels", remedy="take a graphic part, or spell the layout out with --layout")
    if panel is not None and part.memory.kind == "digit" and panel.form == "matrix":
        layout = msgspec.structs.replace(layout, first="high" if "msb-left" in panel.segments else "low")
    return layout


# ---- the two verbs ---------------------------------------------------------------------------------------------------


def pack(pixels: NDArray[Any], layout: Layout) -> bytes:
    """(height, width) numbers or (height, width, 3) colours to bytes. Of colours the high bits of each channel are kept."""
    if layout.invert:
        pixels = ~pixels if layout.colours != "grey" or pixels.dtype == bool else (1 << layout.bits) - 1 - pixels
    placed = arranged(pixels, layout)
    if layout.bits < 8:
        return narrow(placed, layout)
    lines = placed.swapaxes(0, 1) if layout.runs == "columns" else placed
    if layout.stride:
        return b"".join(strided(wide_line(line[None], layout), layout) for line in lines)
    return wide_line(lines, layout).tobytes()


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
    high, wide = arranged_size(layout, height, width)
    if layout.bits < 8:
        placed = from_narrow(data, layout, high, wide)
    else:
        lines, across = (wide, high) if layout.runs == "columns" else (high, wide)
        if layout.stride:
            room = line_bytes(layout, across)
            data = data.reshape(lines, layout.stride)[:, :room]
            rows = [from_wide(line, layout, across) for line in data]
            flat: NDArray[Any] = np.stack(rows)
        else:
            flat = from_wide(data.reshape(-1), layout, lines * across)
            flat = flat.reshape(lines, across, *flat.shape[1:])
        placed = flat.swapaxes(0, 1) if layout.runs == "columns" else flat
    pixels = restored(placed, layout, height, width)
    if layout.invert:
        pixels = ~pixels if layout.colours != "grey" else (1 << layout.bits) - 1 - pixels
    return pixels.astype(bool) if layout.bits == 1 else pixels


def length_of(layout: Layout, height: int, width: int) -> int:
    """Bytes that a picture takes."""
    high, wide = arranged_size(layout, height, width)
    if layout.bits < 8:
        per = 8 // layout.bits
        rows, columns = (-(-high // per), wide) if layout.stand == "upright" else (high, -(-wide // per))
        lines, room = (rows, columns) if layout.runs == "rows" else (columns, rows)
        return lines * stride_of(layout, room)
    lines, across = (wide, high) if layout.runs == "columns" else (high, wide)
    if layout.stride:
        return lines * stride_of(layout, line_bytes(layout, across))
    return line_bytes(layout, lines * across)


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
    high, wide = arranged_size(layout, height, width)
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
    return restored((line * stride + at * each).astype(np.int64), layout, height, width)


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
