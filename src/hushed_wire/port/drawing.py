"""What a driver draws with: positions, shapes and windows as the part wants them in the state that the set-up leaves, asked of the sequence language.

So a digit's code is what `text 0,0 "7"` sends, and a page's window what a fill of it sends: there is one place that knows how.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec

from ..errors import HushedError
from ..part.orientation import WAYS, Box, Orientation, box_of, upright
from ..part.wrap import Send
from ..picture.font_columns import font_columns
from ..sequence.expand import steps_of_statement
from ..sequence.parse import parse_text
from .commands import function_of
from .fonts import FONT_BYTES
from .plan import Plan

__all__ = ["Drawing", "drawing_of"]

SHAPES = "0123456789- "
GIVEN = {  # what stands in braces in a part's `area`, over the parameters of the functions that draw
    "{left_low}": "(left & 0x0FU)", "{left_high}": "(left >> 4)", "{left}": "left", "{right}": "right",
    "{page}": "page", "{top}": "page", "{bottom}": "page",
}  # fmt: skip


@dataclass
class Drawing:
    """template: of the target's family; "" where nothing is drawn, and why. uses: what it calls. ram, flash: bytes that it needs."""

    template: str = ""
    values: dict[str, Any] = field(default_factory=dict)
    uses: set[str] = field(default_factory=set)
    ram: int = 0
    flash: int = 0
    why: str = ""


def drawing_of(made: Plan, frame: bool = True) -> Drawing:
    """By the kind of the part's memory. frame: dots are drawn in RAM; else pages go out as they are drawn."""
    kind = made.part.memory.kind
    if made.target.chain > 1:
        return Drawing(why="commands and drawing are left out: in a chain each word has no-ops for the others beside it")
    if kind == "character":
        return _character(made)
    if kind == "digit" and made.target.panel.form == "digits":
        return _digits(made)
    if kind == "paged":
        return _paged(made, frame)
    if kind == "pixel":
        return _colour(made)
    return Drawing(why="drawing is left out: a panel of this kind has no functions of its own yet")


def _font() -> list[tuple[list[int], str]]:
    """From space to tilde: five columns each, the top dot in bit 0."""
    font = font_columns("5x7")
    out = []
    for code in range(0x20, 0x7F):
        columns = [dots & 0xFF for dots in font.get(code, [])[:5]]
        columns += [0] * (5 - len(columns))
        name = {0x20: "space", 0x2A: "asterisk", 0x2F: "slash", 0x5C: "backslash"}.get(code, chr(code))
        out.append((columns, name))
    return out


def _character(made: Plan) -> Drawing:
    panel = made.target.panel
    spans = [list(zip(row[0::2], row[1::2], strict=True)) for row in panel.cells]
    if any(first >= 0x100 for row in spans for first, _ in row):
        return Drawing(why="drawing is left out: this panel is on two controllers")
    split = None
    if any(len(row) > 1 for row in spans):
        offsets = {(row[0][1], row[1][0] - row[0][0] - row[0][1]) for row in spans if len(row) == 2}
        if len(offsets) != 1 or any(len(row) != 2 for row in spans):
            return Drawing(why="drawing is left out: its rows lie in memory in more than two pieces")
        split = offsets.pop()
    rows = [f"0x{row[0][0]:02X}" for row in spans]
    values = {"rows": rows, "columns": panel.width, "split": split, "row_addresses": [row[0][0] for row in spans]}
    return Drawing("character", values, {"few"}, ram=16)


def _asked(made: Plan, lines: Sequence[str]) -> list[Send]:
    """What lines of a sequence send behind the set-up."""
    own = {key: dict(values) for key, values in made.state.registers.items()}
    digits = {key: bytearray(held) for key, held in made.state.digits.items()}
    state = msgspec.structs.replace(made.state, registers=own, digits=digits, canvases={}, target=made.target)
    out: list[Send] = []
    for line in lines:
        for step in steps_of_statement(state, parse_text(line, "drawing")[0]):
            out += step.sends
    return out


def _digits(made: Plan) -> Drawing:
    """Parts whose registers are the digits: a register and a value each."""
    panel = made.target.panel
    if made.target.framing != "register-pairs" or panel.colons:
        return Drawing(why="drawing is left out: this panel's digits have no registers of their own")
    try:
        shapes = [_asked(made, ["fill off", f'text 0,0 "{char}"'])[-1].raw for char in SHAPES]
        point = _asked(made, ["fill off", 'text 0,0 "0."'])[-1].raw[-1] ^ shapes[0][-1]
        places = [_asked(made, ["fill off", f'text {k},0 "8"'])[-1].raw[0] for k in range(panel.width)]
    except HushedError as error:
        return Drawing(why=f"drawing is left out: {error.what}")
    decoded = made.state.role("decode") if made.part.memory.registers.get("decode") else ""
    said = (
        "0 to 9, minus, blank: as the part decodes them" if decoded == "all" else "0 to 9, minus, blank: a bit for each segment"
    )
    values = {
        "shapes": [f"0x{raw[-1]:02X}" for raw in shapes], "places": [f"0x{place:02X}" for place in places], "point": f"0x{point:02X}U", "shapes_said": said,
        "shape_values": [raw[-1] for raw in shapes], "place_values": places, "point_value": point,
    }  # fmt: skip
    return Drawing("digits", values, {"few"}, ram=16 + 12 + len(places))


def _paged(made: Plan, frame: bool) -> Drawing:
    panel, part = made.target.panel, made.part
    mode = str(made.state.role("mode", made.part.usual_mode))
    area = part.memory.area.get(mode)
    if area is None or mode == "vertical":
        return Drawing(why=f"drawing is left out: it goes by pages, and the set-up chooses {mode} addressing")
    words: list[str] = []
    for line in area:
        name, *arguments = line.split()
        command = part.find(name)
        found = function_of(command, set())
        assert found is not None
        given: dict[str, str] = {}
        for argument, parameter in zip(arguments, found.parameters, strict=True):
            key, equals, value = argument.partition("=")
            given[parameter.name] = GIVEN.get(value if equals else key, value if equals else key)
        words += [word.format(**given) for word in found.words]
    pages, columns = -(-panel.height // 8), panel.width
    mounted = _mounted(panel.width, panel.height, panel.rotate, panel.mirror)
    seen = (panel.width, panel.height) if panel.rotate % 180 == 0 else (panel.height, panel.width)
    values = {
        "width": seen[0], "height": seen[1], "frame_pages": pages, "frame_columns": columns, "frame_bytes": pages * columns, "mounted": mounted,
        "column_offset": panel.column_offset, "chip_columns": part.memory.columns, "area": words, "area_uses_right": any("right" in word for word in words),
        "font": _font(),
    }  # fmt: skip
    if frame:
        return Drawing("paged", values, set(), ram=pages * columns + 2 * pages, flash=FONT_BYTES)
    if mounted:
        return Drawing(why="drawing is left out: letters stand across the pages of this panel, which takes a frame")
    return Drawing("pages", values | {"frame_bytes": 0}, set(), ram=3, flash=FONT_BYTES)


def _mounted(width: int, height: int, rotate: int, mirror: bool) -> tuple[str, str] | None:
    """Column and row on the glass of x and y as a person sees them: the mirror first, then the turn, both undone."""
    if not rotate % 360 and not mirror:
        return None
    column, row = {
        0: ("x", "y"), 90: ("y", f"{height - 1}U - x"), 180: (f"{width - 1}U - x", f"{height - 1}U - y"), 270: (f"{width - 1}U - y", "x"),
    }[rotate % 360]  # fmt: skip
    return (f"{width - 1}U - ({column})" if mirror else column), row


def _colour(made: Plan) -> Drawing:
    panel, part, memory = made.target.panel, made.part, made.part.memory
    if str(made.state.role("format", made.part.usual_format)) != "16-bit":
        return Drawing(why="drawing is left out: it sends colours of 16 bits, and this display takes others")
    bonded, sits = upright(panel, memory.columns, memory.rows), box_of(panel)
    roles = {role: made.state.role(role) for role in WAYS}
    now = Orientation.of(memory.columns, memory.rows, roles)
    corner = bonded.window(sits)
    seen = (panel.width, panel.height) if panel.rotate % 180 == 0 else (panel.height, panel.width)

    def at(x: int, y: int) -> tuple[int, int]:
        box = now.window(bonded.box(Box(corner.left + x, corner.top + y, corner.left + x + 1, corner.top + y + 1)))
        return box.left, box.top

    origin = at(0, 0)
    if panel.rotate or panel.mirror or at(1, 0) != (origin[0] + 1, origin[1]) or at(0, 1) != (origin[0], origin[1] + 1):
        return Drawing(why="drawing is left out: the set-up turns the picture; choose the orientation in which it stands upright")
    area: list[tuple[str, list[str]]] = []
    for line in memory.area["window"]:
        name, *arguments = line.split()
        found = function_of(part.find(name), set())
        if found is None:
            return Drawing(why=f"drawing is left out: {name} is no plain command")
        given = {}
        for argument, parameter in zip(arguments, found.parameters, strict=True):
            key, equals, value = argument.partition("=")
            given[parameter.name] = (value if equals else key).strip("{}")
        area.append((found.words[0] + "U", [word.format(**given) for word in found.words[1:]]))
    values = {
        "width": seen[0],
        "height": seen[1],
        "origin": origin,
        "area": area,
        "font": _font(),
    }
    return Drawing("colour", values, set(), flash=FONT_BYTES)
