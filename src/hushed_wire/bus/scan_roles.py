"""The roles of scanned displays, and how their lines light. Nothing here needs arrays, so that rigs are read fast."""

from __future__ import annotations

import re
from collections.abc import Collection

import msgspec

__all__ = ["ADDRESS", "COLOURS", "SEGMENTS", "Lamps", "axes", "coloured", "grouped"]

SEGMENTS = ("a", "b", "c", "d", "e", "f", "g", "dp")
GROUPED = ("a", "clock", "latch")  # roles that a panel with row groups cannot do without, beside its data
ADDRESS = ("a", "b", "c", "d", "e")  # of its row group
COLOURS = ("r1", "g1", "b1", "r2", "g2", "b2")  # of its upper and its lower half, where it has colours

_ROLE = re.compile(r"(row|column|digit)(\d{1,2})|segment_([a-g]|dp)")


class Lamps(msgspec.Struct, frozen=True):
    """How lines light LEDs. row, column: the level that is on (of grouped panels: of the enable, of a data bit).

    rows, columns: of the glass. block: of grouped panels, how many bits go to one row before the next row of the group has its turn.
    up: the lowest row of a group goes first. left: the leftmost column of a block goes first. colours: a group is a row of the upper half and one of the
    lower, in three colours each.
    """

    row: int = 1
    column: int = 1
    rows: int = 0
    columns: int = 0
    block: int = 0
    up: bool = True
    left: bool = True
    colours: bool = False


def grouped(roles: Collection[str]) -> bool:
    """Whether roles are those of a panel with row groups."""
    return {*GROUPED, "data"} <= set(roles) or coloured(roles)


def coloured(roles: Collection[str]) -> bool:
    """Whether roles are those of such a panel in colours."""
    return set(GROUPED) <= set(roles) and any(role in roles for role in COLOURS)


def axes(roles: dict[str, int]) -> tuple[list[int], list[int]]:
    """Line numbers of the rows (or digits) and of the columns (or segments), in order."""
    rows: list[tuple[int, int]] = []
    columns: list[tuple[int, int]] = []
    for role, line in roles.items():
        found = _ROLE.fullmatch(role)
        if found is None:
            continue
        if found[3]:
            columns.append((SEGMENTS.index(found[3]), line))
        else:
            (columns if found[1] == "column" else rows).append((int(found[2]), line))
    return [line for _, line in sorted(rows)], [line for _, line in sorted(columns)]
