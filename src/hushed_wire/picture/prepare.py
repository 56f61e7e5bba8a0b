"""A picture file made ready for a panel: frames, size, shades. Every choice that loses something is told in `notes`.

Strategy: Pillow opens, scales and diffuses errors; ordered dithering and the steps of a layout are NumPy, for all depths alike.
"""

from __future__ import annotations

from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.layout import Layout
from ..small_file import note_read
from .image import LARGEST, without_remarks

if TYPE_CHECKING:
    from PIL.Image import Image

__all__ = ["FITS", "SHADES", "Ready", "fitted", "frames_of", "shaded"]

FITS = ("exact", "crop", "inside", "cover", "stretch")
SHADES = ("plain", "ordered", "diffuse")
MOST_FRAMES = 10_000


class Ready(msgspec.Struct):
    """Frames as Pillow images (RGB or L, nothing transparent), and what was done to get them."""

    frames: list[Any]
    notes: list[str]


def frames_of(source: Path | bytes, name: str, wanted: str = "first") -> Ready:
    """The frames of a picture file. wanted: first, all, or numbers like 0-3 or 5. Raises HushedError where it is no picture."""
    from PIL import Image, ImageSequence, UnidentifiedImageError

    remedy = "PNG, PBM, PGM, PPM, BMP and GIF can be read; save it again as one of them"
    try:
        if not isinstance(source, bytes):
            note_read(source)
        with without_remarks(), Image.open(BytesIO(source) if isinstance(source, bytes) else source) as image:
            if image.width * image.height > LARGEST:
                raise HushedError(
                    f"it has {image.width}x{image.height} pixels", where=name, remedy="scale it down: no panel is so large"
                )
            if not image.width * image.height:
                raise HushedError("the picture has no pixels", where=name, remedy="check how it was made")
            count = int(getattr(image, "n_frames", 1))
            numbers = _numbers(wanted, count, name)
            notes = (
                [f"it has {count} frames; the first is taken (--frames all takes every one)"]
                if count > 1 and wanted == "first"
                else []
            )
            out, found = [], set()
            for number, frame in enumerate(ImageSequence.Iterator(image)):
                if number in numbers:
                    flat, note = _flat(frame)
                    out.append(flat)
                    found.update(note)
            return Ready(out, notes + sorted(found))
    except FileNotFoundError as error:
        raise HushedError("no such picture", where=name, remedy="check the path") from error
    except UnidentifiedImageError as error:
        raise HushedError("it is not a picture", where=name, remedy=remedy) from error
    except (OSError, SyntaxError, ValueError, EOFError, Image.DecompressionBombError) as error:
        raise HushedError(f"it cannot be read as a picture: {error}"[:200], where=name, remedy=remedy) from error


def _numbers(wanted: str, count: int, name: str) -> set[int]:
    if wanted == "first":
        return {0}
    if wanted == "all":
        if count > MOST_FRAMES:
            raise HushedError(f"it has {count} frames", where=name, remedy="name some of them, like --frames 0-99")
        return set(range(count))
    first, dash, last = wanted.partition("-")
    if not first.isdecimal() or (dash and not last.isdecimal()):
        raise HushedError(f"'{wanted}' names no frames", where="--frames", remedy="all, a number from 0 up, or a span like 0-3")
    numbers = set(range(int(first), min(int(last), count) + 1)) if dash else {int(first)}
    if not numbers or max(numbers) >= count:
        raise HushedError(
            f"frames {wanted}, where the picture has {count}", where="--frames", remedy=f"they are 0 to {count - 1}"
        )
    return numbers


def _flat(image: Image) -> tuple[Image, list[str]]:
    """RGB, or L where it has no colours; transparent pixels are black, 16-bit greys keep their high byte."""
    from PIL import Image as Images

    if image.mode.startswith("I"):  # 16 bits: Pillow would clip, not scale
        levels = np.asarray(image).astype(np.int64)
        return Images.fromarray((np.clip(levels, 0, 65535) >> 8).astype(np.uint8)), ["16-bit greys are taken by their high byte"]
    if image.mode in ("RGBA", "LA", "PA") or "transparency" in image.info:
        base = Images.new("RGBA", image.size, (0, 0, 0, 255))
        whole = image.convert("RGBA")
        base.alpha_composite(whole)
        clear = np.asarray(whole)[..., 3].min() < 255
        return base.convert("RGB"), ["transparent pixels are taken as black"] if clear else []
    if image.mode in ("1", "L"):
        return image.convert("L"), []
    return image.convert("RGB"), []


def fitted(image: Image, size: tuple[int, int], how: str, name: str) -> tuple[Image, str]:
    """A picture at (height, width), and what was done, empty where nothing was. Raises HushedError where exact does not fit."""
    from PIL import Image as Images
    from PIL import ImageOps

    high, wide = size
    if image.size == (wide, high):
        return image, ""
    said = f"{image.width}x{image.height}"
    if how == "exact":
        raise HushedError(
            f"the picture is {said}, the panel shows {wide}x{high}",
            where=name,
            remedy="say how it is to fit: --fit crop, inside (all of it, edges dark), cover (no edges, some cut off) or stretch",
        )
    if how == "stretch":
        return image.resize((wide, high), Images.Resampling.LANCZOS), f"{said} stretched to {wide}x{high}"
    if how == "cover":
        return ImageOps.fit(image, (wide, high), Images.Resampling.LANCZOS), f"{said} scaled and cut to {wide}x{high}"
    if how == "inside":
        return ImageOps.pad(image, (wide, high), Images.Resampling.LANCZOS, color=0), f"{said} scaled into {wide}x{high}"
    out = Images.new(image.mode, (wide, high))
    out.paste(image, ((wide - image.width) // 2, (high - image.height) // 2))
    return out, f"{said} cropped or edged to {wide}x{high}, about its middle"


def _bayer(shape: tuple[int, int]) -> NDArray[np.float64]:
    """Ordered thresholds from 0 to below 1, the 8x8 matrix of recursive halving, tiled."""
    tile = np.zeros((1, 1))
    for _ in range(3):
        tile = np.block([[4 * tile, 4 * tile + 2], [4 * tile + 3, 4 * tile + 1]])
    high, wide = shape
    return np.tile(tile / 64, (-(-high // 8), -(-wide // 8)))[:high, :wide]


def shaded(
    image: Image, layout: Layout, how: str = "plain", lit_from: float = 0.5, palette: NDArray[np.uint8] | None = None
) -> NDArray[Any]:
    """A picture as `layout.pack` takes it: bool, numbers, or colours.

    how: plain steps, ordered or diffused errors. lit_from: share of brightness from which a pixel of one bit is lit. palette: (n, 3)
    colours, whose numbers the pixels become.
    """
    from PIL import Image as Images

    if layout.colours != "grey":
        rgb = np.asarray(image.convert("RGB"))
        if how == "diffuse":
            raise HushedError("diffused errors are for at most 256 colours", where="--shades", remedy="take --shades ordered")
        if how == "ordered" and layout.bits < 24:
            steps = {8: (32, 32, 64), 12: (16, 16, 16), 16: (8, 4, 8), 18: (4, 4, 4)}[layout.bits]
            wide = rgb + np.floor(_bayer(rgb.shape[:2])[..., None] * steps)
            rgb = np.minimum(wide, 255).astype(np.uint8)
        return rgb
    count = 1 << layout.bits
    if palette is not None:
        return _indexed(image.convert("RGB"), palette, how)
    grey = np.asarray(image.convert("L"))
    if how == "diffuse":
        if count == 2:
            lifted = np.clip(grey + (0.5 - lit_from) * 255, 0, 255).astype(np.uint8)
            return np.asarray(Images.fromarray(lifted).convert("1")).astype(bool)
        if count < 256:
            levels = np.repeat((np.arange(count) * 255 // (count - 1)).astype(np.uint8)[:, None], 3, axis=1)
            return _indexed(image.convert("RGB"), levels, how)
    if count == 2:
        level: Any = lit_from * 255 if how == "plain" else (_bayer(grey.shape) + 1 / 128 + lit_from - 0.5) * 255
        lit: NDArray[np.bool_] = grey >= level
        return lit
    share = grey / 255 * (count - 1)
    return (
        np.floor(share + (0.5 if how == "plain" or count == 256 else _bayer(grey.shape) + 1 / 128))
        .clip(0, count - 1)
        .astype(np.uint8)
    )


def _indexed(image: Image, palette: NDArray[np.uint8], how: str) -> NDArray[np.uint8]:
    """The number of the nearest colour of the palette for each pixel."""
    from PIL import Image as Images

    if how == "diffuse":
        table = Images.new("P", (1, 1))
        whole = np.tile(palette[-1], (256, 1))
        whole[: len(palette)] = palette
        table.putpalette(whole.tobytes())
        numbers = np.asarray(image.quantize(palette=table, dither=Images.Dither.FLOYDSTEINBERG), np.uint8)
        return np.minimum(numbers, np.uint8(len(palette) - 1))
    rgb = np.asarray(image).astype(np.int32)
    if how == "ordered":
        spread = 255 / max(1, round(len(palette) ** (1 / 3)))
        rgb = rgb + ((_bayer(image.size[::-1]) - 0.5) * spread)[..., None].astype(np.int32)
    away = np.stack([((rgb - colour.astype(np.int32)) ** 2).sum(axis=2) for colour in palette])
    nearest: NDArray[np.uint8] = np.argmin(away, axis=0).astype(np.uint8)
    return nearest
