"""Which way rows and columns of a colour controller's memory lie: as a driver addresses them, and as the glass is bonded to them.

One rule for both (ST7789V datasheet, 8.12 "Address Control"; the MIPI DCS base has it as set_address_mode): columns and rows as addressed are
exchanged, if so set, and then counted from the other end of the memory, each if so set. Where a controller can scan its outputs the other way
round (ILI9341 datasheet, Display Function Control, SS and GS), that turns what the glass shows as the counting does: both together leave it as it
was. A panel's `upright` is the state under which the picture stands upright; its offsets and its box are those of the memory, whatever the
orientation.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import msgspec

from .describe import Panel, Part, Value

if TYPE_CHECKING:
    from numpy.typing import NDArray

__all__ = ["WAYS", "Box", "Orientation", "box_of", "mirrored", "upright"]


class Box(msgspec.Struct, frozen=True):
    """A box of pixels; right and bottom are exclusive."""

    left: int
    top: int
    right: int
    bottom: int


class Orientation(msgspec.Struct, frozen=True):
    """How what is addressed lies in a memory of `columns` by `rows`."""

    columns: int
    rows: int
    columns_reversed: bool = False
    rows_reversed: bool = False
    exchange: bool = False

    @classmethod
    def of(cls, columns: int, rows: int, roles: Mapping[str, Value]) -> Orientation:
        """From the states of the memory's roles."""

        def turned(order: str, scan: str) -> bool:
            return (roles.get(order) == "reversed") != (roles.get(scan) == "reversed")

        across, down = turned("column_order", "column_scan"), turned("row_order", "row_scan")
        return cls(columns, rows, across, down, roles.get("exchange") == "on")

    @property
    def plain(self) -> bool:
        """Whether things lie as they are addressed."""
        return not (self.columns_reversed or self.rows_reversed or self.exchange)

    def place(self, x: NDArray[Any], y: NDArray[Any]) -> tuple[NDArray[Any], NDArray[Any]]:
        """Column and row of the memory behind pixels as they are addressed."""
        column, row = (y, x) if self.exchange else (x, y)
        return (self.columns - 1 - column if self.columns_reversed else column), (
            self.rows - 1 - row if self.rows_reversed else row
        )

    def window(self, box: Box) -> Box:
        """A box of the memory as it is addressed."""
        left, right = (self.columns - box.right, self.columns - box.left) if self.columns_reversed else (box.left, box.right)
        top, bottom = (self.rows - box.bottom, self.rows - box.top) if self.rows_reversed else (box.top, box.bottom)
        return Box(top, left, bottom, right) if self.exchange else Box(left, top, right, bottom)

    def box(self, window: Box) -> Box:
        """The twin of `window`: the box of the memory behind what is addressed."""
        if self.exchange:
            window = Box(window.top, window.left, window.bottom, window.right)
        left, right = (
            (self.columns - window.right, self.columns - window.left) if self.columns_reversed else (window.left, window.right)
        )
        top, bottom = (self.rows - window.bottom, self.rows - window.top) if self.rows_reversed else (window.top, window.bottom)
        return Box(left, top, right, bottom)

    def addressed(self, memory: NDArray[Any]) -> NDArray[Any]:
        """Rows and columns of the memory (or of a box of it) in the order in which they are addressed."""
        memory = memory[:, ::-1] if self.columns_reversed else memory
        memory = memory[::-1] if self.rows_reversed else memory
        return memory.swapaxes(0, 1) if self.exchange else memory

    def kept(self, addressed: NDArray[Any]) -> NDArray[Any]:
        """The twin of `addressed`: pixels as they are addressed in the order of the memory's rows and columns."""
        memory = addressed.swapaxes(0, 1) if self.exchange else addressed
        memory = memory[::-1] if self.rows_reversed else memory
        return memory[:, ::-1] if self.columns_reversed else memory


def upright(panel: Panel, columns: int, rows: int) -> Orientation:
    """The orientation under which a picture stands upright on a panel."""
    return Orientation.of(columns, rows, panel.upright)


def box_of(panel: Panel) -> Box:
    """The part of the memory that is behind the glass."""
    wide, high = (panel.height, panel.width) if panel.upright.get("exchange") == "on" else (panel.width, panel.height)
    return Box(panel.column_offset, panel.row_offset, panel.column_offset + wide, panel.row_offset + high)


def mirrored(part: Part, panel: Panel, told: Mapping[str, Value]) -> tuple[str, ...]:
    """The registers that mirror the picture on a panel, each of which would turn it back; none where it is not mirrored.

    told: registers as they were set; all others have their reset value. Each role that is not as the panel has it upright turns the picture
    over once, an even number of them only turns it, which is how modules are mounted the other way round. Where glass of one size is bonded
    either way, nothing can be said.
    """
    roles = [role for role in TURNS if role in part.memory.registers]
    if not panel.upright and panel.name not in part.panels:
        return ()
    for other in part.panels.values():
        if (other.width, other.height) == (panel.width, panel.height) and _odd(roles, part, other.upright, panel.upright):
            return ()
    now = {role: told.get(part.memory.registers[role], part.reset.get(part.memory.registers[role], 0)) for role in roles}
    if not _odd(roles, part, now, panel.upright):
        return ()
    return tuple(part.memory.registers[role] for role in roles if role != "exchange")


WAYS = ("column_order", "row_order", "exchange", "column_scan", "row_scan")  # roles that an `Orientation` is made of
TURNS = ("segment_remap", "com_scan", *WAYS)


def _odd(roles: list[str], part: Part, now: Mapping[str, Value], wanted: Mapping[str, Value]) -> bool:
    """Whether an odd number of roles differ; a role that is not named has its reset value."""
    reset = {role: part.reset.get(part.memory.registers[role], 0) for role in roles}
    return sum(str(now.get(role, reset[role])) != str(wanted.get(role, reset[role])) for role in roles) % 2 == 1
