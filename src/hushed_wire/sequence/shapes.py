"""Shapes, sprites and set text on a graphic panel: each becomes a mask of pixels, painted on the canvas, and its box is sent.

Pillow draws the shapes. What lies outside the panel is cut, and the step says so; what lies outside wholly is an error.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable
from typing import Any

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError, nearest
from ..part.describe import Value
from ..picture.font import set_text
from ..picture.font_file import font_named
from ..picture.image import without_remarks
from ..small_file import note_read
from .canvas import canvas_of, colour_of, must_show_pixels, sent
from .parse import Statement
from .state import State
from .target import Step

__all__ = ["SHAPES", "TEXT_FIELDS", "paint", "set_words"]

TEXT_FIELDS = ("font", "scale", "align", "width", "wrap", "clip", "colour", "ground", "apart")
Mask = NDArray[np.bool_]
Point = tuple[float, float]


def yes(fields: dict[str, Value], name: str) -> bool:
    """Whether a field says yes."""
    value = str(fields.get(name, "no"))
    if value not in ("yes", "no"):
        raise HushedError(f"{name}={value}", remedy=f"{name}=yes, or leave it out")
    return value == "yes"


def known(statement: Statement, names: tuple[str, ...]) -> None:
    """Raises HushedError for a field that the verb does not know."""
    for name in statement.fields:
        if name not in names:
            raise HushedError(f"'{statement.verb}' has no '{name}'", remedy=nearest(name, names))


def whole(fields: dict[str, Value], name: str, default: int, most: int = 4096, least: int = 1) -> int:
    """A whole number of a field."""
    value = fields.get(name, default)
    if not isinstance(value, int) or not least <= value <= most:
        raise HushedError(f"{name}={value}", remedy=f"from {least} to {most}")
    return value


def paint(state: State, statement: Statement, mask: Mask, corner: tuple[int, int], colours: NDArray[Any] | None = None) -> Step:
    """Paints a mask with its corner at (x, y), and sends the box. colours: what each pixel becomes; the field `colour` otherwise."""
    canvas = canvas_of(state).pixels
    high, wide = canvas.shape[:2]
    rows, columns = np.flatnonzero(mask.any(axis=1)), np.flatnonzero(mask.any(axis=0))
    if not len(rows):
        raise HushedError("it draws no pixel", remedy="make it larger")
    x, y = corner
    box = [x + int(columns[0]), y + int(rows[0]), x + int(columns[-1]) + 1, y + int(rows[-1]) + 1]
    x0, y0, x1, y1 = max(0, box[0]), max(0, box[1]), min(wide, box[2]), min(high, box[3])
    if x0 >= x1 or y0 >= y1:
        raise HushedError(
            f"it lies outside the panel, at columns {box[0]} to {box[2] - 1}, rows {box[1]} to {box[3] - 1}",
            remedy=f"the panel has columns 0 to {wide - 1} and rows 0 to {high - 1}",
        )
    cut = mask[y0 - y : y1 - y, x0 - x : x1 - x]
    part = canvas[y0:y1, x0:x1]
    if colours is not None:
        part[cut] = colours[y0 - y : y1 - y, x0 - x : x1 - x][cut]
    else:
        word = str(statement.fields.get("colour", "on"))
        if canvas.ndim == 3:
            part[cut] = colour_of(word, canvas_of(state))
        elif word in ("on", "off"):
            part[cut] = word == "on"
        elif word == "invert":
            part[cut] = ~part[cut]
        else:
            raise HushedError(f"colour={word}", remedy="on, off or invert on a panel of one colour")
    text = statement.text
    if [x0, y0, x1, y1] != box:
        text += "  # cut at the panel's edge"
    return sent(state, msgspec.structs.replace(statement, text=text), (x0, y0, x1, y1))


def _graphic(state: State, what: str) -> None:
    try:
        must_show_pixels(state)
    except HushedError as error:
        error.what = error.what.replace("no pictures", f"no {what}").replace("no picture", f"no {what}")
        raise


def _pair(word: str, sign: str = ",") -> Point:
    found = re.fullmatch(rf"(-?\d+(?:\.\d+)?){sign}(-?\d+(?:\.\d+)?)", word)
    if found is None or max(abs(float(found[1])), abs(float(found[2]))) > 10_000:
        what = "position" if sign == "," else "size"
        raise HushedError(
            f"'{word}' is no {what}", remedy="COLUMN,ROW, from 0,0 at the top left" if sign == "," else "WIDTHxHEIGHT, like 20x10"
        )
    return float(found[1]), float(found[2])


def _number(fields: dict[str, Value], name: str, default: float) -> float:
    try:
        value = float(str(fields.get(name, default)))
    except ValueError as error:
        raise HushedError(f"{name}={fields[name]}", remedy=f"a number, like {name}={default:g}") from error
    if not math.isfinite(value) or abs(value) > 10_000:
        raise HushedError(f"{name}={fields[name]}", remedy=f"a number, like {name}={default:g}")
    return value


def _moved(points: list[Point], fields: dict[str, Value]) -> list[Point]:
    """Points turned clockwise and scaled about their middle."""
    turn, scale = math.radians(_number(fields, "turn", 0)), _number(fields, "scale", 1)
    if scale <= 0:
        raise HushedError(f"scale={fields['scale']}", remedy="above 0")
    if not turn and scale == 1:
        return points
    xs, ys = [x for x, _ in points], [y for _, y in points]
    cx, cy = (min(xs) + max(xs)) / 2, (min(ys) + max(ys)) / 2
    cos, sin = math.cos(turn) * scale, math.sin(turn) * scale
    return [(cx + (x - cx) * cos - (y - cy) * sin, cy + (x - cx) * sin + (y - cy) * cos) for x, y in points]


def _drawn(state: State, statement: Statement, points: list[Point], draw: Callable[[Any, list[tuple[int, int]]], None]) -> Step:
    """Draws on a mask just larger than the points, and paints it."""
    from PIL import Image, ImageDraw

    dots = [(round(x), round(y)) for x, y in points]
    margin = whole(statement.fields, "width", 1, 64) + 1
    left, top = min(x for x, _ in dots) - margin, min(y for _, y in dots) - margin
    right, bottom = max(x for x, _ in dots) + margin, max(y for _, y in dots) + margin
    if right - left > 8192 or bottom - top > 8192:
        raise HushedError("the shape is far larger than any panel", remedy="check its numbers")
    image = Image.new("1", (right - left + 1, bottom - top + 1))
    draw(ImageDraw.Draw(image), [(x - left, y - top) for x, y in dots])
    return paint(state, statement, np.asarray(image).astype(bool), (left, top))


SHAPE_FIELDS = ("colour", "width", "filled", "turn", "scale")


def point(state: State, statement: Statement) -> Step:
    """`point 3,4 …`: single pixels."""
    _graphic(state, "points")
    known(statement, ("colour",))
    points = [_pair(word) for word in statement.words]
    if not points:
        raise HushedError("'point' needs positions", remedy="like: point 3,4")
    return _drawn(state, statement, points, lambda draw, dots: draw.point(dots, fill=1))


def line(state: State, statement: Statement) -> Step:
    """`line 0,0 20,10 …`: through all positions."""
    _graphic(state, "lines")
    known(statement, ("colour", "width", "turn", "scale"))
    points = [_pair(word) for word in statement.words]
    if len(points) < 2:
        raise HushedError("'line' needs two positions at least", remedy="like: line 0,0 20,10")
    wide = whole(statement.fields, "width", 1, 64)
    return _drawn(state, statement, _moved(points, statement.fields), lambda draw, dots: draw.line(dots, fill=1, width=wide))


def polygon(state: State, statement: Statement) -> Step:
    """`polygon 0,9 5,0 10,9 filled=yes`."""
    _graphic(state, "shapes")
    known(statement, SHAPE_FIELDS)
    points = [_pair(word) for word in statement.words]
    if len(points) < 3:
        raise HushedError("'polygon' needs three positions at least", remedy="like: polygon 0,9 5,0 10,9")
    return _closed(state, statement, points)


def _closed(state: State, statement: Statement, points: list[Point]) -> Step:
    filled, wide = yes(statement.fields, "filled"), whole(statement.fields, "width", 1, 64)

    def draw(on: Any, dots: list[tuple[int, int]]) -> None:
        if filled:
            on.polygon(dots, fill=1)
        on.line([*dots, dots[0]], fill=1, width=wide)  # of a filled one, too: no shape is smaller than its outline

    return _drawn(state, statement, _moved(points, statement.fields), draw)


def rectangle(state: State, statement: Statement) -> Step:
    """`rectangle 4,4 20x10`: corner and size."""
    _graphic(state, "shapes")
    known(statement, SHAPE_FIELDS)
    if len(statement.words) != 2:
        raise HushedError("'rectangle' needs a corner and a size", remedy="like: rectangle 4,4 20x10 filled=yes")
    (x, y), (wide, high) = _pair(statement.words[0]), _pair(statement.words[1], "x")
    if wide < 1 or high < 1:
        raise HushedError(f"'{statement.words[1]}' is no size", remedy="1x1 at least")
    x1, y1 = x + wide - 1, y + high - 1
    return _closed(state, statement, [(x, y), (x1, y), (x1, y1), (x, y1)])


def circle(state: State, statement: Statement) -> Step:
    """`circle 64,32 10`: middle and radius, or radii across and down, as 20x10."""
    _graphic(state, "shapes")
    known(statement, SHAPE_FIELDS)
    if len(statement.words) != 2:
        raise HushedError("'circle' needs a middle and a radius", remedy="like: circle 64,32 10")
    x, y = _pair(statement.words[0])
    size = statement.words[1]
    rx, ry = _pair(size, "x") if "x" in size else _pair(f"{size}x{size}", "x")
    if rx < 0 or ry < 0:
        raise HushedError(f"'{size}' is no radius", remedy="0 or more")
    if not _number(statement.fields, "turn", 0):
        scale = _number(statement.fields, "scale", 1)
        rx, ry = rx * scale, ry * scale
        filled, wide = yes(statement.fields, "filled"), whole(statement.fields, "width", 1, 64)
        box = [(x - rx, y - ry), (x + rx, y + ry)]
        thin = min(rx, ry) < 0.5  # a line, or a single pixel, which is no ellipse to Pillow
        bare = Statement(
            statement.place,
            statement.text,
            statement.verb,
            statement.words,
            {k: v for k, v in statement.fields.items() if k != "scale"},
        )
        return _drawn(
            state,
            bare,
            box,
            lambda draw, dots: (
                draw.line(dots, fill=1, width=wide)
                if thin
                else draw.ellipse([*dots[0], *dots[1]], fill=1 if filled else None, outline=1, width=wide)
            ),
        )
    steps = max(24, int(4 * (rx + ry)))
    around = [(x + rx * math.cos(2 * math.pi * k / steps), y + ry * math.sin(2 * math.pi * k / steps)) for k in range(steps)]
    return _closed(state, statement, around)


def sprite(state: State, statement: Statement) -> Step:
    """`sprite 10,20 boat.png turn=30 scale=2 mirror=yes`: a picture at a place; transparent pixels leave what is there."""
    from PIL import Image, ImageOps

    from ..picture.prepare import frames_of

    _graphic(state, "sprites")
    known(statement, ("turn", "scale", "mirror", "clear"))
    if len(statement.words) != 2:
        raise HushedError("'sprite' needs a position and a file", remedy="like: sprite 10,20 boat.png")
    x, y = _pair(statement.words[0])
    path = state.folder / statement.words[1]
    try:
        frames_of(path, statement.words[1])  # its errors are the clear ones
    except HushedError as error:
        error.what, error.where = f"'{statement.words[1]}': {error.what}", statement.place
        raise
    note_read(path)
    with without_remarks(), Image.open(path) as opened:
        image = opened.convert("RGBA")
    clear = statement.fields.get("clear")
    if clear is not None:
        whole_image = np.array(image)
        whole_image[(whole_image[..., :3] == np.array(colour_of(str(clear)), np.uint8)).all(axis=2), 3] = 0
        image = Image.fromarray(whole_image)
    if yes(statement.fields, "mirror"):
        image = ImageOps.mirror(image)
    scale, turn = _number(statement.fields, "scale", 1), _number(statement.fields, "turn", 0)
    size = round(image.width * scale), round(image.height * scale)
    if min(size) < 1 or max(size) > 4096:
        raise HushedError(f"the sprite would be {size[0]}x{size[1]} pixels", remedy="another scale")
    if scale != 1:
        image = image.resize(size, Image.Resampling.NEAREST)
    if turn:
        image = image.rotate(-turn, Image.Resampling.NEAREST, expand=True)
    rgba = np.asarray(image)
    colour = canvas_of(state).pixels.ndim == 3
    # Pillow's own weights of red, green and blue, as for whole pictures.
    looks: NDArray[Any] = rgba[..., :3] if colour else np.asarray(image.convert("RGB").convert("L")) >= 128
    return paint(state, statement, rgba[..., 3] >= 128, (round(x), round(y)), looks)


def set_words(state: State, statement: Statement, at: tuple[int, int], said: str, fields: dict[str, Value]) -> Step:
    """Text in dots, its ground dark unless ground=clear."""
    canvas = canvas_of(state).pixels
    x, y = at
    scale = whole(fields, "scale", 1, 64)
    font = font_named(str(fields.get("font", "5x7")), state.folder)
    align, wrap, clip = str(fields.get("align", "left")), yes(fields, "wrap"), yes(fields, "clip")
    if align not in ("left", "center", "right"):
        raise HushedError(f"align={align}", remedy="left, center or right")
    room = whole(fields, "width", canvas.shape[1] - x)
    bound = align != "left" or wrap or "width" in fields
    apart = whole(fields, "apart", 0, 64, 0) if "apart" in fields else None
    lit = set_text(said, font, scale, align, room if bound else None, wrap, apart=apart)
    high, wide = lit.shape
    if not clip and (x + wide > canvas.shape[1] or y + high > canvas.shape[0]):
        raise HushedError(
            f"'{said}' is {wide}x{high} pixels and runs over the panel's edge from {x},{y}",
            remedy="begin further left or higher up, shorten it, wrap=yes, or clip=yes to have it cut",
        )
    word = str(fields.get("colour", "on"))
    ground = str(fields.get("ground", "off"))
    mask = lit if ground == "clear" else np.ones_like(lit)
    if canvas.ndim == 3:
        own = canvas_of(state)
        under = (0, 0, 0) if ground == "clear" else colour_of(ground, own)
        colours: NDArray[Any] = np.where(lit[:, :, None], np.array(colour_of(word, own), np.uint8), np.array(under, np.uint8))
    elif word in ("on", "off"):
        colours = lit == (word == "on")
    else:
        raise HushedError(f"colour={word}", remedy="on or off on a panel of one colour")
    return paint(state, statement, mask, at, colours)


SHAPES: dict[str, Callable[[State, Statement], Step]] = {
    "point": point, "line": line, "rectangle": rectangle, "circle": circle, "polygon": polygon, "sprite": sprite,
}  # fmt: skip
