"""What is drawn in a sequence: pictures, text, fillings and glyphs, brought to their place in each kind of memory.

Strategy: each graphic panel has a canvas, as a person sees it; a statement draws on it and sends the part of it that it touched,
by the part's own commands (`memory.area`). Text on character panels and digits goes to cells. Positions are COLUMN,ROW, from
0,0 at the top left: in characters where the panel shows characters, in pixels elsewhere.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.characters import OWN, codes_of
from ..part.describe import Panel, Value
from ..part.segments import CODE_B, segments_of
from ..part.wrap import Send
from ..picture import image, layout
from . import parse
from .expand import State, command_sends
from .parse import Statement
from .target import Step

__all__ = ["DRAWN", "Canvas", "box_sends", "canvas_of", "must_show_pixels", "shown_size"]


@dataclass
class Canvas:
    """pixels: (height, width) bool, or (height, width, 3) uint8 for colour panels, as a person sees them."""

    pixels: NDArray[Any]


def shown_size(panel: Panel) -> tuple[int, int]:
    """(height, width) of a panel as a person sees it."""
    return (panel.height, panel.width) if panel.rotate % 180 == 0 else (panel.width, panel.height)


def canvas_of(state: State) -> Canvas:
    """The canvas of the current device."""
    target = state.target
    if target.name not in state.canvases:
        size = shown_size(target.panel)
        colour = target.part.memory.kind == "pixel"
        state.canvases[target.name] = Canvas(np.zeros((*size, 3), np.uint8) if colour else np.zeros(size, bool))
    return state.canvases[target.name]


def _is_text(state: State) -> bool:
    return state.target.part.memory.kind == "character" or state.target.panel.form == "digits"


def _must_show(state: State, what: str) -> None:
    if state.target.part.memory.kind == "port":
        raise HushedError(
            f"'{state.target.name}' is a bridge and shows nothing, so no {what}", remedy="name a display with 'device'"
        )


def picture(state: State, statement: Statement) -> Step:
    """A picture over the whole panel."""
    must_show_pixels(state)
    if len(statement.words) != 1:
        raise HushedError("'picture' needs one file", remedy="like: picture tide.pbm")
    height, width = shown_size(state.target.panel)
    colour = state.target.part.memory.kind == "pixel"
    load = image.load_colour if colour else image.load
    pixels: NDArray[Any] = load(state.folder / statement.words[0], statement.place)
    if pixels.shape[:2] != (height, width):
        raise HushedError(
            f"'{statement.words[0]}' is {pixels.shape[1]}x{pixels.shape[0]}, the panel shows {width}x{height}",
            remedy="crop or scale the picture to the panel's size",
        )
    canvas_of(state).pixels[:] = pixels
    return _sent(state, statement, (0, 0, width, height))


def pixels_step(state: State, pixels: NDArray[Any], text: str) -> Step:
    """Pixels over the whole panel, as a picture step."""
    statement = Statement(text, text, "picture", (), {})
    canvas_of(state).pixels[:] = pixels
    return _sent(state, statement, (0, 0, pixels.shape[1], pixels.shape[0]))


def _sent(state: State, statement: Statement, box: tuple[int, int, int, int]) -> Step:
    """The step that sends a box (x0, y0, x1, y1) of the canvas."""
    return Step(statement.place, statement.text, state.target.name, statement.verb, tuple(box_sends(state, box)))


def box_sends(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """The words that bring a box (x0, y0, x1, y1) of the canvas to the panel."""
    return {"paged": _paged, "pixel": _pixel, "digit": _dots, "scanned": _scanned}[state.target.part.memory.kind](state, box)


def must_show_pixels(state: State) -> None:
    """Raises HushedError where the device shows characters, digits or nothing."""
    _must_show(state, "picture")
    if _is_text(state):
        raise HushedError(f"'{state.target.name}' shows characters, no pictures", remedy='write: text 0,0 "…"')


def fill(state: State, statement: Statement) -> Step:
    """`fill on`, `fill off`, `fill 0xAA` (every byte), `fill "-"` (every cell), `fill 0x203040` (every pixel)."""
    _must_show(state, "filling")
    if len(statement.words) != 1:
        raise HushedError("'fill' needs what to fill with", remedy='on, off, 0xAA, 0x203040, or a character like "-"')
    word = statement.words[0]
    height, width = shown_size(state.target.panel)
    if _is_text(state):
        char = {"on": "8", "off": " "}.get(word, word)
        if len(char) != 1:
            raise HushedError(f"'{word}' is not one character", remedy='like: fill " "')
        return _cells(state, statement, [(row, 0, char * width) for row in range(height)])
    canvas = canvas_of(state)
    byte = parse.number(word)
    if canvas.pixels.ndim == 3:
        canvas.pixels[:] = colour_of(word)
    elif word in ("on", "off"):
        canvas.pixels[:] = word == "on"
    elif byte is not None and 0 <= byte <= 255:
        native = np.unpackbits(
            np.full((-(-state.target.panel.height // 8), state.target.panel.width), byte, np.uint8), axis=0, bitorder="little"
        )
        canvas.pixels[:] = layout.as_seen(native[: state.target.panel.height].astype(bool), state.target.panel)
    else:
        raise HushedError(f"'{word}' fills nothing here", remedy="on, off, or a byte like 0xAA")
    return _sent(state, statement, (0, 0, width, height))


def colour_of(word: str) -> tuple[int, int, int]:
    """0xRRGGBB, on, off, or a name."""
    from PIL import ImageColor

    number = parse.number(word)
    if number is not None and 0 <= number <= 0xFFFFFF:
        return number >> 16, number >> 8 & 0xFF, number & 0xFF
    try:
        found = ImageColor.getrgb({"on": "white", "off": "black"}.get(word, word))
    except ValueError as error:
        raise HushedError(f"'{word}' is no colour", remedy="like 0x203040, red, on or off") from error
    return found[0], found[1], found[2]


def _position(state: State, word: str) -> tuple[int, int]:
    found = re.fullmatch(r"(\d+),(\d+)", word)
    height, width = shown_size(state.target.panel)
    unit = "characters" if _is_text(state) else "pixels"
    if not found:
        raise HushedError(f"'{word}' is no position", remedy=f"COLUMN,ROW in {unit}, from 0,0 at the top left")
    x, y = int(found[1]), int(found[2])
    if x >= width or y >= height:
        raise HushedError(f"{word} is outside the panel", remedy=f"it has columns 0 to {width - 1} and rows 0 to {height - 1}")
    return x, y


def text(state: State, statement: Statement) -> Step:
    """`text COLUMN,ROW "…"`, with {counters} in it."""
    _must_show(state, "text")
    words, fields = _options(statement.words)
    colours = 3 if state.target.part.memory.kind == "pixel" else 2
    if not 2 <= len(words) <= colours:
        raise HushedError("'text' needs a position and a text", remedy='like: text 0,0 "GATE OPEN"')
    if len(words) > 2:
        fields["colour"] = words[2]
    return _set(state, statement, _position(state, words[0]), _with_counters(state, words[1]), fields)


def _options(words: tuple[str, ...]) -> tuple[tuple[str, ...], dict[str, Value]]:
    """Words of `text` behind the text that name an option."""
    from .shapes import TEXT_FIELDS

    fields: dict[str, Value] = {}
    plain = list(words[:2])
    for word in words[2:]:
        key, equals, value = word.partition("=")
        if equals and key in (*TEXT_FIELDS, "point"):
            as_number = parse.number(value)
            fields[key] = value if as_number is None else as_number
        else:
            plain.append(word)
    return tuple(plain), fields


def _set(state: State, statement: Statement, at: tuple[int, int], said: str, fields: dict[str, Value]) -> Step:
    """A text on any kind of panel."""
    if _is_text(state):
        own = ("point",) if state.target.panel.form == "digits" else ()
        for name in fields:
            if name not in own:
                raise HushedError(f"'{name}' is for graphic panels", remedy="leave it out")
        return _cells(state, statement, [(at[1], at[0], said)], str(fields.get("point", "left")))
    from .shapes import set_words

    return set_words(state, statement, at, said, fields)


def number(state: State, statement: Statement) -> Step:
    """`number COLUMN,ROW VALUE width=6 places=2 …`."""
    from . import numbers
    from .shapes import TEXT_FIELDS, known

    _must_show(state, "number")
    digits = state.target.panel.form == "digits"
    known(statement, (*numbers.FIELDS, *(name for name in TEXT_FIELDS if name != "width"), "point"))
    if len(statement.words) != 2:
        raise HushedError("'number' needs a position and a value", remedy="like: number 0,0 -12.5 width=6 places=1")
    said = numbers.shown(_with_counters(state, statement.words[1]).strip(), statement.fields, free_point=digits)
    fields = {name: value for name, value in statement.fields.items() if name not in numbers.FIELDS}
    return _set(state, statement, _position(state, statement.words[0]), said, fields)


def _with_counters(state: State, said: str) -> str:
    def put(found: re.Match[str]) -> str:
        if found[1] in "01234567" and state.target.part.memory.kind == "character":
            return OWN[int(found[1])]
        if found[1] not in state.counters:
            raise HushedError(f"there is no counter '{found[1]}'", remedy="declare it first, like: counter level from=0 to=99")
        return state.counters[found[1]].text()

    return re.sub(r"\{([\w-]+)\}", put, said)


def glyph(state: State, statement: Statement) -> Step:
    """`glyph 0 0b01110 …`: eight rows of five dots for one of the user's own characters."""
    if state.target.part.memory.kind != "character":
        raise HushedError(f"'{state.target.name}' has no characters of its own", remedy="glyph is for character displays")
    number = parse.number(statement.words[0]) if statement.words else None
    if number is None or not 0 <= number <= 7:
        raise HushedError("a glyph has a number from 0 to 7", remedy="like: glyph 0 0b00100 0b01110 0b11111 0b00100*5")
    rows = parse.bytes_of(statement, statement.words[1:])
    if len(rows) != 8 or max(rows) > 31:
        raise HushedError("a glyph has eight rows of five bits", remedy="like: glyph 0 0b00100 0b01110 0b11111 0b00100*5")
    line = Statement(statement.place, "", "glyph-address", (str(number * 8),), {})
    sends = [*command_sends(state.target.part, line)[0], Send(True, rows)]
    return Step(statement.place, statement.text, state.target.name, statement.verb, tuple(sends))


# ---- cells: characters and digits -------------------------------------------------------------------------------------


def _cells(state: State, statement: Statement, rows: list[tuple[int, int, str]], point: str = "left") -> Step:
    """Texts at (row, column). point: which digit a decimal point belongs to, the one on its left or on its right."""
    if point not in ("left", "right"):
        raise HushedError(f"point={point}", remedy="left or right")
    sends: list[Send] = []
    for row, column, said in rows:
        if state.target.part.memory.kind == "character":
            sends += _characters(state, row, column, said)
        else:
            sends += _digits(state, column, said, point)
    return Step(statement.place, statement.text, state.target.name, statement.verb, tuple(sends))


def _too_long(said: str, room: int) -> HushedError:
    return HushedError(f"'{said}' is {len(said)} long, there is room for {room}", remedy="shorten it, or begin further left")


def _characters(state: State, row: int, column: int, said: str) -> list[Send]:
    target = state.target
    codes = codes_of(target.part.memory.rom)
    spans = target.panel.cells[row]
    addresses = [first + k for first, count in zip(spans[0::2], spans[1::2], strict=True) for k in range(count)]
    if column + len(said) > len(addresses):
        raise _too_long(said, len(addresses) - column)
    strange = sorted({char for char in said if char not in codes})
    if strange:
        lacking = ", ".join(f"'{char}'" for char in strange)
        raise HushedError(f"character ROM {target.part.memory.rom} has no {lacking}", remedy="take others, or define a glyph")
    wanted = addresses[column : column + len(said)]
    sends: list[Send] = []
    start = 0
    for k in range(1, len(wanted) + 1):
        if k == len(wanted) or wanted[k] != wanted[k - 1] + 1:
            chips = 1 << (wanted[start] >> 8) if target.chips > 1 else 0
            line = Statement("", "", "cell-address", (str(wanted[start] & 0x7F),), {})
            sends += command_sends(target.part, line, chips)[0]
            sends.append(Send(True, bytes(codes[char] for char in said[start:k]), chips))
            start = k
    return sends


def _digits(state: State, column: int, said: str, side: str) -> list[Send]:
    """Digits with their points."""
    from ..picture.truth import in_digits

    target = state.target
    glyphs = in_digits(said, None, side)
    cells = target.panel.cells[0]
    if column + len(glyphs) > len(cells):
        raise _too_long(said, len(cells) - column)
    names = target.panel.segments
    decoded = target.part.raw_of(target.part.memory.registers.get("decode", ""), state.role("decode", 0))
    out = []
    scanned = state.target.part.memory.kind == "scanned"
    held = state.digits.setdefault(target.name, bytearray(len(cells))) if scanned else bytearray()
    for cell, (char, point) in zip(cells[column:], glyphs, strict=False):
        if decoded >> cell & 1:
            if char.upper() not in CODE_B:
                raise HushedError(f"code B has no '{char}'", remedy=f"it has {CODE_B.strip()}; or set decode-mode none")
            value = CODE_B.index(char.upper()) | (0x80 if point else 0)
        else:
            shape = segments_of(char)
            if shape is None:
                raise HushedError(f"seven segments cannot show '{char}'", remedy="take another letter")
            lit = [*shape, *(["dp"] if point else [])]
            value = sum(1 << bit for bit, name in enumerate(names) if name in lit)
        if scanned:
            held[cell] = value
        else:
            out += _digit_value(state, cell, value)
    return [Send(True, bytes(held))] if scanned else out


def _digit_value(state: State, cell: int, value: int) -> list[Send]:
    part = state.target.part
    if f"digit-{cell}" in part.by_name:
        return list(command_sends(part, Statement("", "", f"digit-{cell}", (str(value),), {}))[0])
    pointer = part.find("display-address").encode({"address": cell})
    return [Send(False, pointer), Send(True, bytes([value]))]


# ---- pixels: pages, dots, colours -------------------------------------------------------------------------------------


def _native(state: State, box: tuple[int, int, int, int]) -> tuple[NDArray[Any], tuple[int, int, int, int]]:
    """The canvas as it lies on the glass, and the box (x0, y0, x1, y1) there."""
    panel = state.target.panel
    pixels = canvas_of(state).pixels
    x0, y0, x1, y1 = box
    mask = np.zeros(pixels.shape[:2], bool)
    mask[y0:y1, x0:x1] = True
    turned = layout.as_mounted(mask, panel)
    rows, columns = np.flatnonzero(turned.any(axis=1)), np.flatnonzero(turned.any(axis=0))
    return layout.as_mounted(pixels, panel), (int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1)


def _commands(state: State, lines: Iterable[str], words: dict[str, int], chips: int = 0) -> list[Send]:
    sends: list[Send] = []
    for line in lines:
        statement = parse.parse_text(line.format(**words), "memory.area")[0]
        sends += command_sends(state.target.part, statement, chips)[0]
    return sends


def _paged(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    target = state.target
    part, panel = target.part, target.panel
    mode = str(state.role("mode", "page"))
    area = part.memory.area.get(mode)
    if area is None:
        raise HushedError(f"{part.name} has no way to place a picture in {mode} mode", remedy="set another memory mode first")
    native, (x0, y0, x1, y1) = _native(state, box)
    pages = layout.pack_pages(native)
    windowed = any("{right}" in line for line in area)
    sends: list[Send] = []
    wide = part.memory.columns if target.chips > 1 else panel.width
    for chip in range(target.chips):
        left, right = max(x0, chip * wide), min(x1, (chip + 1) * wide)
        if left >= right:
            continue
        block = pages[y0 // 8 : -(-y1 // 8), left:right]
        column = left - chip * wide + panel.column_offset
        chips = 1 << chip if target.chips > 1 else 0
        if windowed:
            pieces = [(block.T if mode == "vertical" else block, 0, 0)]
        elif mode == "vertical":
            pieces = [(block[:, [k]], 0, k) for k in range(block.shape[1])]
        else:
            pieces = [(block[[k]], k, 0) for k in range(block.shape[0])]
        for piece, down, across in pieces:
            at, page = column + across, y0 // 8 + down
            words = {"left": at, "right": at + right - left - 1, "top": page, "bottom": page + block.shape[0] - 1, "page": page}
            words |= {"left_low": at & 15, "left_high": at >> 4}
            sends += [*_commands(state, area, words, chips), Send(True, piece.tobytes(), chips)]
    return sends


def _dots(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    panel = state.target.panel
    native, (_, y0, _, y1) = _native(state, box)
    order: Literal["big", "little"] = "big" if "msb-left" in panel.segments else "little"
    packed = np.packbits(native, axis=1, bitorder=order)
    sends: list[Send] = []
    for row in range(y0, y1):
        for cell, value in zip(panel.cells[row], packed[row].tolist(), strict=True):
            sends += _digit_value(state, cell, value)
    return sends


def _scanned(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """LEDs without a memory: every picture is a whole one."""
    return [Send(True, np.packbits(layout.as_mounted(canvas_of(state).pixels, state.target.panel), axis=1).tobytes())]


def _pixel(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    from ..part.pixel import to_bytes, to_logical

    part, panel = state.target.part, state.target.panel
    native, (x0, y0, x1, y1) = _native(state, box)
    orientation = [state.role(role) for role in ("row_order", "column_order", "exchange")]
    memory = part.memory.rows, part.memory.columns
    place = y0 + panel.row_offset, x0 + panel.column_offset
    piece, left, top = to_logical(native[y0:y1, x0:x1], place, memory, *(value in ("reversed", "on") for value in orientation))
    words = {"left": left, "right": left + piece.shape[1] - 1, "top": top, "bottom": top + piece.shape[0] - 1}
    sends = _commands(state, part.memory.area["window"], words)
    return [*sends, Send(True, to_bytes(piece, str(state.role("format"))))]


def _shape(state: State, statement: Statement) -> Step:
    from .shapes import SHAPES

    return SHAPES[statement.verb](state, statement)


DRAWN: dict[str, Callable[[State, Statement], Step]] = {
    "picture": picture, "text": text, "fill": fill, "glyph": glyph, "number": number,
    **dict.fromkeys(("point", "line", "rectangle", "circle", "polygon", "sprite"), _shape),
}  # fmt: skip
