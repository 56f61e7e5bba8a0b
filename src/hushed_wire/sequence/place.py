"""What is drawn in a sequence: pictures, text, fillings and glyphs, brought to their place in each kind of memory.

Strategy: each graphic panel has a canvas, as a person sees it; a statement draws on it and sends the part of it that it touched,
by the part's own commands (`memory.area`). Text on character panels and digits goes to cells. Positions are COLUMN,ROW, from
0,0 at the top left: in characters where the panel shows characters, in pixels elsewhere.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.characters import OWN, codes_of
from ..part.describe import Panel, Value
from ..part.mounting import as_seen
from ..part.segments import kind_of, lit_of
from ..part.wrap import Send
from ..picture import image
from . import parse
from .canvas import (
    canvas_of,
    colour_of,
    commands_of,
    digit_sends,
    in_colours,
    is_text,
    must_show,
    must_show_pixels,
    sent,
    shown_size,
)
from .parse import Statement
from .state import State, command_sends
from .target import Step

__all__ = ["DRAWN"]


def picture(state: State, statement: Statement) -> Step:
    """A picture over the whole panel."""
    must_show_pixels(state)
    if len(statement.words) != 1:
        raise HushedError("'picture' needs one file", remedy="like: picture tide.pbm")
    height, width = shown_size(state.target.panel)
    colour = canvas_of(state).pixels.ndim == 3
    load = image.load_colour if colour else image.load
    pixels: NDArray[Any] = load(state.folder / statement.words[0], statement.place)
    if pixels.shape[:2] != (height, width):
        raise HushedError(
            f"'{statement.words[0]}' is {pixels.shape[1]}x{pixels.shape[0]}, the panel shows {width}x{height}",
            remedy="crop or scale the picture to the panel's size",
        )
    canvas_of(state).pixels[:] = pixels
    return sent(state, statement, (0, 0, width, height))


def fill(state: State, statement: Statement) -> Step:
    """`fill on`, `fill off`, `fill 0xAA` (every byte), `fill "-"` (every cell), `fill 0x203040` (every pixel)."""
    must_show(state, "filling")
    if len(statement.words) != 1:
        raise HushedError("'fill' needs what to fill with", remedy='on, off, 0xAA, 0x203040, or a character like "-"')
    word = statement.words[0]
    height, width = shown_size(state.target.panel)
    if is_text(state):
        char = {"on": "8", "off": " "}.get(word, word)
        if len(char) != 1:
            raise HushedError(f"'{word}' is not one character", remedy='like: fill " "')
        return _cells(state, statement, [(row, 0, char * width) for row in range(height)])
    canvas = canvas_of(state)
    byte = parse.number(word)
    if canvas.pixels.ndim == 3:
        canvas.pixels[:] = colour_of(word, canvas)
    elif word in ("on", "off"):
        canvas.pixels[:] = word == "on"
    elif byte is not None and 0 <= byte <= 255:
        native = np.unpackbits(
            np.full((-(-state.target.panel.height // 8), state.target.panel.width), byte, np.uint8),
            axis=0,
            bitorder=state.target.part.top_bit,
        )
        canvas.pixels[:] = as_seen(native[: state.target.panel.height].astype(bool), state.target.panel)
    else:
        raise HushedError(f"'{word}' fills nothing here", remedy="on, off, or a byte like 0xAA")
    return sent(state, statement, (0, 0, width, height))


def _position(state: State, word: str) -> tuple[int, int]:
    found = re.fullmatch(r"(\d+),(\d+)", word)
    height, width = shown_size(state.target.panel)
    unit = "characters" if is_text(state) else "pixels"
    if not found:
        raise HushedError(f"'{word}' is no position", remedy=f"COLUMN,ROW in {unit}, from 0,0 at the top left")
    x, y = int(found[1]), int(found[2])
    if x >= width or y >= height:
        raise HushedError(f"{word} is outside the panel", remedy=f"it has columns 0 to {width - 1} and rows 0 to {height - 1}")
    return x, y


def text(state: State, statement: Statement) -> Step:
    """`text COLUMN,ROW "…"`, with {counters} in it."""
    must_show(state, "text")
    words, fields = _options(statement.words)
    colours = 3 if in_colours(state.target) else 2
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
    if is_text(state):
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

    must_show(state, "number")
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
        if state.target.part.memory.kind == "lettered":
            sends += _halves(state, row, column, said)
        elif state.target.part.memory.kind == "character":
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


def _halves(state: State, row: int, column: int, said: str) -> list[Send]:
    """Letters of half a word: an address has two of them, so what stands beside the first is sent again."""
    target = state.target
    codes = codes_of(target.part.memory.rom)
    first, count = target.panel.cells[row]
    if column + len(said) > count:
        raise _too_long(said, count - column)
    strange = sorted({char for char in said if char not in codes})
    if strange:
        lacking = ", ".join(f"'{char}'" for char in strange)
        raise HushedError(f"the half-width letters of {target.part.name} have no {lacking}", remedy="take others")
    held = state.digits.setdefault(target.name, bytearray(b" " * 2 * target.part.memory.columns))
    at = first + column
    held[at : at + len(said)] = bytes(codes[char] for char in said)
    begin, end = at // 2 * 2, -(-(at + len(said)) // 2) * 2
    basic = state.role("instructions") != "extended"
    area = target.part.memory.area
    words = {"width": int(state.role("width"))}
    sends = [] if basic else commands_of(state, area["leave"], words)
    line = Statement("", "", "cell-address", (str(begin // 2),), {})
    sends += [*command_sends(target.part, line)[0], Send(True, bytes(held[begin:end]))]
    return sends if basic else [*sends, *commands_of(state, area["enter"], words)]


def _digits(state: State, column: int, said: str, side: str) -> list[Send]:
    """Digits with their points."""
    from ..picture.truth import in_digits

    target = state.target
    said, marks = _without_colons(target.panel, column, said)
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
        if decoded >> (cell & 0xFF) & 1:
            font = target.part.memory.code_font
            assert font is not None  # `check` sees to it where a part decodes
            if char.upper() not in font.characters:
                raise HushedError(
                    f"{target.part.name} decodes no '{char}'",
                    remedy=f"it has {font.characters.strip()}; or let it decode nothing",
                )
            value = font.characters.index(char.upper()) | point << font.point
        else:
            shape = lit_of(char, kind_of(names))
            if shape is None:
                raise HushedError(f"{COUNTED[kind_of(names)]} segments cannot show '{char}'", remedy="take another letter")
            if point and "dp" not in names:
                raise HushedError(f"'{said}': this panel has no points", remedy="leave it out, or take another panel")
            lit = [*shape, *(["dp"] if point else [])]
            value = sum(1 << bit for bit, name in enumerate(names) if name in lit)
        # A colon may be a bit of a digit's own byte.
        value |= sum(mask for after, own, mask in target.panel.colons if own == cell and after in marks)
        if scanned:
            held[cell] = value
        else:
            out += digit_sends(state, cell, value, len(names))
    for after, cell, mask in target.panel.colons:
        if column < after < column + len(glyphs) and cell not in cells:
            out += digit_sends(state, cell, mask if after in marks else 0)
    return [Send(True, bytes(held))] if scanned else out


COUNTED = {7: "seven", 14: "fourteen", 16: "sixteen"}


def _without_colons(panel: Panel, column: int, said: str) -> tuple[str, set[int]]:
    """A text without its colons, and behind how many digits of the panel they stand."""
    marks: set[int] = set()
    if not panel.colons:
        return said, marks
    digits, rest = 0, ""
    for char in said:
        if char == ":":
            marks.add(column + digits)
        else:
            rest += char
            digits += char not in ".,"
    places = {after for after, _, _ in panel.colons}
    if not marks <= places:
        raise HushedError(
            f"'{said}': there is no colon behind digit {min(marks - places)}", remedy=f"there is one behind {min(places)}"
        )
    return rest, marks


# ---- pixels: pages, dots, colours -------------------------------------------------------------------------------------


def _shape(state: State, statement: Statement) -> Step:
    from .shapes import SHAPES

    return SHAPES[statement.verb](state, statement)


DRAWN: dict[str, Callable[[State, Statement], Step]] = {
    "picture": picture, "text": text, "fill": fill, "glyph": glyph, "number": number,
    **dict.fromkeys(("point", "line", "rectangle", "circle", "polygon", "sprite"), _shape),
}  # fmt: skip
