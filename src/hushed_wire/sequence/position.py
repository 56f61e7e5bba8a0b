"""One position of a panel in every convention: counted from 0 or 1, column or row first, memory address, the command that goes there.

In plain Python. The twin, from an address back to a position, searches the same table.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from ..errors import HushedError
from ..part.describe import Panel
from ..part.describe_memory import GROUPS
from ..part.orientation import Box, box_of, upright
from ..part.wrap import Send
from .parse import parse_text
from .state import command_sends
from .target import Target

__all__ = ["Position", "position_at", "position_of"]


class Position(msgspec.Struct):
    """column, row: from 0 at the top left. place: where in memory, in words. address: in memory. go: lines of .hush that lead

    there. raw: their bytes.
    """

    column: int
    row: int
    unit: str
    place: str
    address: int
    go: tuple[str, ...]
    raw: tuple[bytes, ...]

    def conventions(self) -> list[tuple[str, str]]:
        """The ways in which sources write this position."""
        return [
            ("column, row from 0", f"{self.column},{self.row}"),
            ("column, row from 1", f"{self.column + 1},{self.row + 1}"),
            ("row, column from 0", f"{self.row},{self.column}"),
            ("row, column from 1", f"{self.row + 1},{self.column + 1}"),
        ]


def _sent(target: Target, lines: list[str], chips: int = 0) -> tuple[bytes, ...]:
    """The bytes of lines; in a chain with what the others get meanwhile."""
    out = []
    for line in lines:
        sends: tuple[Send, ...] = command_sends(target.part, parse_text(line, "position")[0], chips)[0]
        if target.chain > 1:
            out.append(b"".join(raw for transfer in target.transfers(sends) for _, raw in transfer.pieces))
        else:
            out.append(b"".join(send.raw for send in sends))
    return tuple(out)


def position_of(target: Target, column: int, row: int) -> Position:
    """A position of the panel; raises HushedError outside of it."""
    panel, part = target.panel, target.part
    if part.memory.kind == "port":
        raise HushedError(f"{part.name} is a bridge and has no positions", remedy="name a display")
    if not (0 <= column < panel.width and 0 <= row < panel.height):
        raise HushedError(
            f"{column},{row} is outside the panel {panel.name}", where="--cell",
            remedy=f"columns run from 0 to {panel.width - 1}, rows from 0 to {panel.height - 1}",
        )  # fmt: skip
    kind = part.memory.kind
    if kind in PLACES:
        return PLACES[kind](target, column, row)
    if kind == "character":
        spans = panel.cells[row]
        addresses = [first + k for first, count in zip(spans[0::2], spans[1::2], strict=True) for k in range(count)]
        address = addresses[column]
        chip = f", controller {1 + (address >> 8)}" if target.chips > 1 else ""
        lines = [f"cell-address {address & 0x7F:#04x}"]
        return Position(
            column, row, "characters", f"DDRAM {address & 0x7F:02X}h{chip}", address, tuple(lines), _sent(target, lines)
        )
    if kind == "pixel":
        way = upright(panel, part.memory.columns, part.memory.rows)
        corner = way.window(box_of(panel))
        x, y = corner.left + column, corner.top + row
        cell = way.box(Box(x, y, x + 1, y + 1))
        per = part.pixels_an_address
        words = {"left": x - x % per, "right": x - x % per + per - 1, "top": y, "bottom": y}
        lines = [line.format(**words) for line in part.memory.area["window"]]
        where = f"memory column {cell.left}, row {cell.top}" + ("" if way.plain else f", which is {x},{y} as it is addressed")
        where += f", with the {per - 1} beside it at one address" if per > 1 else ""
        return Position(
            column, row, "pixels", where, cell.top * part.memory.columns + cell.left, tuple(lines), _sent(target, lines)
        )
    number, own = divmod(column, part.memory.columns) if target.chips > 1 else (0, column)
    at, page = own + panel.column_offset, row // 8
    mode = next(iter(part.memory.area))
    words = {"left": at, "right": at, "top": page, "bottom": page, "page": page, "left_low": at & 15, "left_high": at >> 4}
    lines = [line.format(**words) for line in part.memory.area[mode]]
    where = f"chip {number + 1}, " if target.chips > 1 else ""
    address = (number * part.memory.pages + page) * part.memory.columns + at
    return Position(
        column, row, "pixels", f"{where}page {page}, column {at}, bit {row % 8}", address, tuple(lines), _sent(target, lines)
    )


def _lettered(target: Target, column: int, row: int) -> Position:
    """A letter of half a word, or a pixel of a word of sixteen."""
    panel, memory = target.panel, target.part.memory
    if panel.form == "text":
        byte = panel.cells[row][0] + column
        lines = [f"cell-address {byte // 2:#04x}"]
        where = f"DDRAM {byte // 2:02X}h, its {('upper', 'lower')[byte % 2]} byte"
        return Position(column, row, "characters", where, byte, tuple(lines), _sent(target, lines))
    half, below = divmod(row, memory.fold or panel.height)
    x = half * panel.width + column
    lines = [line.format(left=x // 16 * 16, top=below) for line in memory.area["row"]]
    sent = target.part.find("graphic-address").encode({"row": below, "column": x // 16 * 16})
    where = f"GDRAM row {below}, word {x // 16}, bit {15 - x % 16}; while the extended instructions are in force"
    address = 2 * memory.columns + below * memory.columns // 2 + x // 8
    return Position(column, row, "pixels", where, address, tuple(lines), (sent,))


def _digit(target: Target, column: int, row: int) -> Position:
    """A digit, or a dot of a row, of one driver or of a chain of them."""
    panel, part = target.panel, target.part
    if panel.form == "digits":
        chip, cell = divmod(panel.cells[0][column], 0x100)
        where = f"address {cell}" if part.memory.backplanes else f"byte {cell}"
        unit, place, address, lit = "digits", where, panel.cells[0][column], "0"
    else:
        y, x = _in_module(panel, row, column)
        (chip, cell), bit = divmod(panel.cells[y][x // 8], 0x100), x % 8
        bit = 7 - bit if "msb-left" in panel.segments else bit
        unit, place, address, lit = "dots", f"byte {cell}, bit {bit}", panel.cells[y][x // 8] * 8 + bit, f"{1 << bit:#04x}"
    where = f"driver {chip} of the chain, {place}" if target.chips > 1 else place
    lines = [f"digit-{cell} {lit}" if f"digit-{cell}" in part.by_name else f"display-address address={cell}"]
    return Position(column, row, unit, where, address, tuple(lines), _sent(target, lines, 1 << chip if target.chips > 1 else 0))


def _in_module(panel: Panel, row: int, column: int) -> tuple[int, int]:
    """Row and column of a dot before its module was turned."""
    top, left, y, x = row // 8 * 8, column // 8 * 8, row % 8, column % 8
    for _ in range(panel.module_turn // 90 % 4):
        y, x = 7 - x, y  # a turn clockwise has brought it from there
    return top + y, left + x


def _scanned(target: Target, column: int, row: int) -> Position:
    """Where an LED hangs: there is no memory to go to."""
    panel, groups = target.panel, target.part.memory.groups
    if panel.form == "digits":
        digit = panel.cells[0][column]
        return Position(column, 0, "digits", f"digit {digit}", digit, (), ())
    if groups is None:
        return Position(column, row, "LEDs", f"row {row}, column {column}", row * -(-panel.width // 8) + column // 8, (), ())
    if groups.colour:
        half, group = divmod(row, panel.height // 2)
        lines = ", ".join(f"{colour}{half + 1}" for colour in "RGB")
        where = f"row group {group}, {lines}, bit {column} of {panel.width} in the order of shifting"
        return Position(column, row, "LEDs", where, row * panel.width + column, (), ())
    # In the order in which the driver shifts it in: group after group, in each its blocks, of each the rows of the group in turn.
    count = panel.height // GROUPS
    turn = count - 1 - row // GROUPS if groups.first_row == "bottom" else row // GROUPS
    byte = (row % GROUPS * (panel.width // groups.block) + column // groups.block) * count + turn
    bit = 7 - column % 8 if groups.first_column == "left" else column % 8
    where = f"row group {row % GROUPS} of four, bit {bit} of byte {byte}, in the order of shifting"
    return Position(column, row, "LEDs", where, byte, (), ())


def _paper(target: Target, column: int, row: int) -> Position:
    """A pixel of both planes of e-paper."""
    panel, memory = target.panel, target.part.memory
    x, y = panel.column_offset + column, panel.row_offset + row
    words = {"left": x // 8 * 8, "right": x // 8 * 8 + 7, "top": y, "bottom": y}
    lines = [line.format(**words) for line in (*memory.area["window"], *memory.area["black"])]
    where = f"of each plane row {y}, byte {x // 8}, bit {7 - x % 8}"
    return Position(column, row, "pixels", where, y * (memory.columns // 8) + x // 8, tuple(lines), _sent(target, lines))


def _chain(target: Target, column: int, row: int) -> Position:
    """A LED of a chain, which nothing addresses."""
    from ..part.chained import chain_of

    number = int(chain_of(target.panel)[row, column])
    return Position(column, row, "LEDs", f"LED {number} of the chain, 0 the nearest to the driver", number, (), ())


def _dimmed(target: Target, column: int, row: int) -> Position:
    """A LED with a byte of brightness."""
    from ..part.dimmed import address_command, level_register

    at = level_register(target.part, column, row)
    lines = [f"{address_command(at)} address={at:#04x}"]
    return Position(column, row, "LEDs", f"brightness in register {at:02X}h", at, tuple(lines), _sent(target, lines))


PLACES: dict[str, Callable[[Target, int, int], Position]] = {
    "chain": _chain, "digit": _digit, "dimmed": _dimmed, "lettered": _lettered, "paper": _paper, "scanned": _scanned,
}  # fmt: skip


def position_at(target: Target, address: int) -> list[Position]:
    """The positions of the panel that an address of the memory shows (eight of a byte of a paged memory); [] behind the glass."""
    panel = target.panel
    if target.part.memory.kind == "paper":
        row, byte = divmod(address, target.part.memory.columns // 8)
        places = [(byte * 8 + bit - panel.column_offset, row - panel.row_offset) for bit in range(8)]
        return [position_of(target, x, y) for x, y in places if 0 <= x < panel.width and 0 <= y < panel.height]
    if target.part.memory.kind == "lettered":
        found = [position_of(target, x, y) for y in range(panel.height) for x in range(panel.width)]
        return [position for position in found if position.address == address]
    if target.part.memory.kind in ("pixel", "paged"):
        columns = target.part.memory.columns
        line, column = divmod(address, columns)
        if target.part.memory.kind == "pixel":
            way = upright(panel, columns, target.part.memory.rows)
            corner, pixel = way.window(box_of(panel)), way.window(Box(column, line, column + 1, line + 1))
            places = [(pixel.left - corner.left, pixel.top - corner.top)]
        else:
            chip, page = divmod(line, target.part.memory.pages) if target.chips > 1 else (0, line)
            places = [(chip * columns + column - panel.column_offset, page * 8 + bit) for bit in range(8)]
        return [position_of(target, x, y) for x, y in places if 0 <= x < panel.width and 0 <= y < panel.height]
    found = [position_of(target, x, y) for y in range(panel.height) for x in range(panel.width)]
    if target.part.memory.kind in ("digit", "scanned") and panel.form != "digits":
        return [
            position
            for position in found
            if (position.address // 8 if target.part.memory.kind == "digit" else position.address) == address
        ]
    return [position for position in found if position.address == address]
