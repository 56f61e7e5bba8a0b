"""Canvases of graphic panels, as a person sees them, and how a box of one is sent: by the part's own commands (`memory.area`)."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, Literal

import msgspec
import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.describe import Panel
from ..part.mounting import as_mounted, thousandths
from ..part.wrap import Send
from ..picture import layout
from ..units import parse as parse_quantity
from . import parse
from .parse import Statement
from .state import Canvas, State, command_sends
from .target import Step, Target

__all__ = [
    "Canvas",
    "box_sends",
    "canvas_of",
    "colour_of",
    "commands_of",
    "digit_sends",
    "in_colours",
    "must_show",
    "must_show_pixels",
    "pixels_step",
    "sent",
    "shown_size",
]


def shown_size(panel: Panel) -> tuple[int, int]:
    """(height, width) of a panel as a person sees it."""
    return (panel.height, panel.width) if panel.rotate % 180 == 0 else (panel.width, panel.height)


COLOURED = ("pixel", "paper", "chain", "dimmed")  # kinds of memory whose canvas has colours, or shades


def in_colours(target: Target) -> bool:
    """Whether the canvas of a display has colours, or shades."""
    return target.part.memory.kind in COLOURED or target.panel.form == "colours"


def canvas_of(state: State) -> Canvas:
    """The canvas of the current device."""
    target = state.target
    if target.name not in state.canvases:
        size = shown_size(target.panel)
        kind = target.part.memory.kind
        if kind == "paper":
            state.canvases[target.name] = Canvas(np.full((*size, 3), 255, np.uint8), "black", "white")
        else:
            state.canvases[target.name] = Canvas(
                np.zeros((*size, 3) if in_colours(target) else size, np.uint8 if in_colours(target) else bool)
            )
    return state.canvases[target.name]


def must_show(state: State, what: str) -> None:
    if state.target.part.memory.kind == "port":
        raise HushedError(
            f"'{state.target.name}' is a bridge and shows nothing, so no {what}", remedy="name a display with 'device'"
        )


def pixels_step(state: State, pixels: NDArray[Any], text: str) -> Step:
    """Pixels over the whole panel, as a picture step."""
    statement = Statement(text, text, "picture", (), {})
    canvas_of(state).pixels[:] = pixels
    return sent(state, statement, (0, 0, pixels.shape[1], pixels.shape[0]))


def sent(state: State, statement: Statement, box: tuple[int, int, int, int]) -> Step:
    """The step that sends a box (x0, y0, x1, y1) of the canvas."""
    step = Step(statement.place, statement.text, state.target.name, statement.verb, tuple(box_sends(state, box)))
    refresh = state.target.part.waits.get("refresh", "")
    return msgspec.structs.replace(step, wait=parse_quantity(refresh, "s")) if refresh else step


def box_sends(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """The words that bring a box (x0, y0, x1, y1) of the canvas to the panel."""
    return {
        "paged": _paged,
        "pixel": _pixel,
        "paper": _paper,
        "lettered": _rows,
        "chain": _update,
        "dimmed": _dimmed,
        "digit": _dots,
        "scanned": _scanned,
    }[state.target.part.memory.kind](state, box)


def must_show_pixels(state: State) -> None:
    """Raises HushedError where the device shows characters, digits or nothing."""
    must_show(state, "picture")
    if is_text(state):
        raise HushedError(f"'{state.target.name}' shows characters, no pictures", remedy='write: text 0,0 "…"')


def colour_of(word: str, canvas: Canvas | None = None) -> tuple[int, int, int]:
    """0xRRGGBB, on, off, or a name. canvas: whose colours of on and off are meant."""
    from PIL import ImageColor

    on, off = ("white", "black") if canvas is None else (canvas.on, canvas.off)

    number = parse.number(word)
    if number is not None and 0 <= number <= 0xFFFFFF:
        return number >> 16, number >> 8 & 0xFF, number & 0xFF
    try:
        found = ImageColor.getrgb({"on": on, "off": off}.get(word, word))
    except ValueError as error:
        raise HushedError(f"'{word}' is no colour", remedy="like 0x203040, red, on or off") from error
    return found[0], found[1], found[2]


def _native(state: State, box: tuple[int, int, int, int]) -> tuple[NDArray[Any], tuple[int, int, int, int]]:
    """The canvas as it lies on the glass, and the box (x0, y0, x1, y1) there."""
    panel = state.target.panel
    pixels = canvas_of(state).pixels
    x0, y0, x1, y1 = box
    mask = np.zeros(pixels.shape[:2], bool)
    mask[y0:y1, x0:x1] = True
    turned = as_mounted(mask, panel)
    rows, columns = np.flatnonzero(turned.any(axis=1)), np.flatnonzero(turned.any(axis=0))
    return as_mounted(pixels, panel), (int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1)


def commands_of(state: State, lines: Iterable[str], words: dict[str, int], chips: int = 0) -> list[Send]:
    sends: list[Send] = []
    for line in lines:
        statement = parse.parse_text(line.format(**words), "memory.area")[0]
        sends += command_sends(state.target.part, statement, chips)[0]
    return sends


def _paged(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    target = state.target
    part, panel = target.part, target.panel
    mode = str(state.role("mode", part.usual_mode))
    area = part.memory.area.get(mode)
    if area is None:
        raise HushedError(f"{part.name} has no way to place a picture in {mode} mode", remedy="set another memory mode first")
    native, (x0, y0, x1, y1) = _native(state, box)
    pages = layout.pack_pages(native, part.top_bit)
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
            sends += [*commands_of(state, area, words, chips), Send(True, piece.tobytes(), chips)]
    return sends


def _dots(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    from ..part.digit import modules_turned

    panel = state.target.panel
    native, (_, y0, _, y1) = _native(state, box)
    if panel.module_turn:
        native, y0, y1 = modules_turned(native, -panel.module_turn), 0, panel.height
    order: Literal["big", "little"] = "big" if "msb-left" in panel.segments else "little"
    packed = np.packbits(native, axis=1, bitorder=order)
    sends: list[Send] = []
    for row in range(y0, y1):
        for cell, value in zip(panel.cells[row], packed[row].tolist(), strict=True):
            sends += digit_sends(state, cell, value)
    return sends


def _scanned(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """LEDs without a memory: every picture is a whole one."""
    lit = as_mounted(canvas_of(state).pixels, state.target.panel)
    return [Send(True, (lit if lit.ndim == 3 else np.packbits(lit, axis=1)).tobytes())]


def _pixel(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    from ..part.orientation import WAYS, Box, Orientation, box_of, upright
    from ..part.pixel import form_of, to_bytes

    part, panel, memory = state.target.part, state.target.panel, state.target.part.memory
    native, (x0, y0, x1, y1) = _native(state, box)
    bonded, sits = upright(panel, memory.columns, memory.rows), box_of(panel)
    corner = bonded.window(sits)
    inside = bonded.box(Box(corner.left + x0, corner.top + y0, corner.left + x1, corner.top + y1))
    per = part.pixels_an_address
    if per > 1:  # what shares an address is sent together
        inside = Box(inside.left // per * per, inside.top, -(-inside.right // per) * per, inside.bottom)
        whole = bonded.window(inside)
        x0, y0, x1, y1 = whole.left - corner.left, whole.top - corner.top, whole.right - corner.left, whole.bottom - corner.top
    roles = {role: state.role(role) for role in WAYS}
    now = Orientation.of(memory.columns, memory.rows, roles)
    window, piece = now.window(inside), now.addressed(bonded.kept(native[y0:y1, x0:x1]))
    words = {"left": window.left, "right": window.right - 1, "top": window.top, "bottom": window.bottom - 1}
    sends = commands_of(state, part.memory.area["window"], words)
    if state.role("increment") == "vertical":
        piece = piece.reshape(len(piece), -1, per, 3).swapaxes(0, 1)
    return [*sends, Send(True, to_bytes(piece, form_of(part, state.role)))]


def _update(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """A whole chain of LEDs: none can be sent alone."""
    from ..part.chained import update_of

    native, _ = _native(state, box)
    return [Send(True, update_of(state.target.part, state.target.panel, native))]


def _dimmed(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """Rows of a byte of brightness for each LED, in the frame that is shown."""
    from ..part.dimmed import address_command, level_register

    part = state.target.part
    native, (x0, y0, x1, y1) = _native(state, box)
    grey = ((thousandths(native) + 500) // 1000).astype(np.uint8)
    sends = commands_of(state, part.memory.area["enter"], {"page": int(state.role("frame", 0))})
    for row in range(y0, y1):
        at = level_register(part, x0, row)
        sends += [Send(False, part.find(address_command(at)).encode({"address": at})), Send(True, grey[row, x0:x1].tobytes())]
    return sends


def _paper(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """Both planes of whole bytes, and the refresh that brings them to the glass; without windows a whole picture each time."""
    from ..part.paper import planes_of, two_inks

    panel, area = state.target.panel, state.target.part.memory.area
    height, width = canvas_of(state).pixels.shape[:2]
    native, (x0, y0, x1, y1) = _native(state, box if area["window"] else (0, 0, width, height))
    left, right = (panel.column_offset + x0) // 8 * 8, -(-(panel.column_offset + x1) // 8) * 8
    white = [(0, 0), (max(0, panel.column_offset - left), max(0, right - panel.column_offset - panel.width))]
    inside = slice(max(0, left - panel.column_offset), right - panel.column_offset)
    black, second = planes_of(native[y0:y1, inside], panel)
    words = {"left": left, "right": right - 1, "top": panel.row_offset + y0, "bottom": panel.row_offset + y1 - 1}
    ways = (("left", "right", "x_direction"), ("top", "bottom", "y_direction"))
    for first, last, role in ways:
        if state.role(role) == "decrement":
            words[first], words[last] = words[last], words[first]
    sends: list[Send] = []
    one = state.role("inks") == "one"  # then the second plane is the new picture
    planes = [
        ("second" if one else "black", black, True, "white"),
        *([("second", second, False, "second_is")] if two_inks(panel) else []),
    ]
    for name, plane, edge, role in planes:
        plane = np.pad(plane, white, constant_values=edge)
        plane = plane[:: -1 if state.role("y_direction") == "decrement" else 1]
        packed = np.packbits(plane if state.role(role, "one") == "one" else ~plane, axis=1)
        packed = packed[:, :: -1 if state.role("x_direction") == "decrement" else 1]
        packed = packed.T if state.role("first") == "y" else packed
        sends += [*commands_of(state, [*area["window"], *area[name]], words), Send(True, packed.tobytes())]
    return [*sends, *commands_of(state, area["refresh"], words)]


def _rows(state: State, box: tuple[int, int, int, int]) -> list[Send]:
    """Rows of whole words of sixteen pixels, each behind its address; below the fold they lie in the other half of the memory's columns."""
    from ..part.lettered import WORD

    part, panel = state.target.part, state.target.panel
    native, (x0, y0, x1, y1) = _native(state, box)
    left, right = x0 // WORD * WORD, min(-(-x1 // WORD) * WORD, panel.width)
    packed = np.packbits(native[:, left:right], axis=1)
    inside = state.role("instructions") == "extended"
    sends = [] if inside else commands_of(state, part.memory.area["enter"], {"width": int(state.role("width"))})
    for row in range(y0, y1):
        half, below = divmod(row, part.memory.fold or panel.height)
        words = {"left": half * panel.width + left, "top": below}
        sends += [*commands_of(state, part.memory.area["row"], words), Send(True, packed[row].tobytes())]
    return sends if inside else [*sends, *commands_of(state, part.memory.area["leave"], {"width": int(state.role("width"))})]


def is_text(state: State) -> bool:
    return state.target.part.memory.kind == "character" or state.target.panel.form in ("digits", "text")


def digit_sends(state: State, cell: int, value: int, bits: int = 8) -> list[Send]:
    """What sets the outputs of a digit or a row; with more than eight bits the address behind it has the others."""
    part = state.target.part
    chips, cell = (1 << (cell >> 8) if state.target.chips > 1 else 0), cell & 0xFF
    if f"digit-{cell}" in part.by_name:
        return list(command_sends(part, Statement("", "", f"digit-{cell}", (str(value),), {}), chips)[0])
    sends = commands_of(state, part.memory.area.get("enter", ()), {})
    sends.append(Send(False, part.find("display-address").encode({"address": cell})))
    raw = bytes([value >> 4, value & 0x0F]) if part.memory.data_bits == 4 else value.to_bytes(-(-bits // 8), "little")
    return [*sends, Send(True, raw)]
