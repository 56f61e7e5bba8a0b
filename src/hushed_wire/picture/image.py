"""Picture files to pixels and back, by way of Pillow. Bright pixels are lit pixels."""

from __future__ import annotations

import contextlib
import warnings
from collections.abc import Iterator
from io import BytesIO
from pathlib import Path
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..small_file import note_read

if TYPE_CHECKING:
    from ..part.describe import Panel
    from ..part.glass import PixelGlass

__all__ = ["COLOURS", "glass_png", "load", "load_colour", "without_remarks"]

# What panels look like, lit and dark, as (red, green, blue).
COLOURS = {
    "white": (236, 244, 255),
    "blue": (96, 178, 255),
    "yellow": (255, 214, 64),
    "green": (120, 240, 130),
    "amber": (255, 176, 48),
    "red": (255, 64, 48),
}
DARK = (12, 15, 20)
BEZEL = (32, 37, 46)
LARGEST = 1 << 24  # pixels; a larger file is no picture for a panel


@contextlib.contextmanager
def without_remarks() -> Iterator[None]:
    """Within it nothing is printed of what is odd in a picture file: what cannot be read is an error of ours."""
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        yield


def load(path: Path, where: str = "") -> NDArray[np.bool_]:
    """The pixels of a picture file, (height, width) bool, lit where brighter than half; transparent is dark."""
    lit: NDArray[np.bool_] = _opened(path, where, "L") >= 128
    return lit


def load_colour(path: Path, where: str = "") -> NDArray[np.uint8]:
    """The pixels of a picture file, (height, width, 3); transparent is black."""
    return _opened(path, where, "RGB")


def _opened(path: Path, where: str, mode: str) -> NDArray[np.uint8]:
    from PIL import Image, UnidentifiedImageError

    try:
        note_read(path)
        with without_remarks(), Image.open(path) as image:
            if image.width * image.height > LARGEST:
                raise HushedError(
                    f"'{path}' has {image.width}x{image.height} pixels", where=where, remedy="no panel is that large"
                )
            if image.mode in ("RGBA", "LA", "P", "PA"):
                base = Image.new("RGBA", image.size, (0, 0, 0, 255))
                base.alpha_composite(image.convert("RGBA"))
                return np.asarray(base.convert(mode))
            if image.mode == "I;16":
                return np.asarray(image.point(lambda v: v / 256).convert("L").convert(mode))
            return np.asarray(image.convert(mode))
    except FileNotFoundError as error:
        raise HushedError(
            f"no such picture: '{path}'", where=where, remedy="paths are taken from the sequence's folder"
        ) from error
    except UnidentifiedImageError as error:
        raise HushedError(f"'{path}' is not a picture", where=where, remedy="PNG, PBM, PGM, BMP and GIF can be read") from error
    except (OSError, SyntaxError, ValueError, Image.DecompressionBombError) as error:
        raise HushedError(f"'{path}' cannot be read as a picture: {error}", where=where, remedy="save it again") from error


def line_colours(panel: Panel) -> NDArray[np.uint8]:
    """(height, 3) colour of lit pixels of each line of the glass as a person sees it, colour bands included."""
    colours = np.tile(np.array(COLOURS.get(panel.colour, COLOURS["white"]), dtype=np.uint8), (panel.height, 1))
    for band in panel.bands:
        colours[band.first : band.last + 1] = COLOURS.get(band.colour, COLOURS["white"])
    return colours


def glass_png(glass: PixelGlass, panel: Panel, scale: int = 8) -> bytes:
    """The picture on the glass as PNG: square pixels of `scale`, a thin grid, the bands' colours, a bezel around."""
    from PIL import Image

    height, width = glass.lit.shape
    picture = np.empty((height, width, 3), dtype=np.uint8)
    picture[:] = DARK
    colours = line_colours(panel)
    if panel.rotate % 180:  # bands belong to the glass and turn with it
        tint = np.rot90(np.broadcast_to(colours[:, None], (panel.height, panel.width, 3)), -panel.rotate // 90)
    else:
        tint = np.broadcast_to((colours[::-1] if panel.rotate == 180 else colours)[:, None], picture.shape)
    lit = glass.lit
    picture[lit] = tint[lit] if glass.shown else (tint[lit] * 0.22).astype(np.uint8)
    if glass.light is not None:  # what is on for half as long is about three quarters as bright to the eye
        share = glass.light[..., None] ** 0.45
        picture = (np.array(DARK) * (1 - share) + tint * share).astype(np.uint8)
    large = picture.repeat(scale, axis=0).repeat(scale, axis=1)
    if scale >= 4:
        large[scale - 1 :: scale] = (large[scale - 1 :: scale] * 0.6).astype(np.uint8)
        large[:, scale - 1 :: scale] = (large[:, scale - 1 :: scale] * 0.6).astype(np.uint8)
    framed = np.empty((large.shape[0] + 4 * scale, large.shape[1] + 4 * scale, 3), dtype=np.uint8)
    framed[:] = BEZEL
    framed[2 * scale : -2 * scale, 2 * scale : -2 * scale] = large
    out = BytesIO()
    Image.fromarray(framed).save(out, "PNG", optimize=True)
    return out.getvalue()
