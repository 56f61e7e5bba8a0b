"""The roles of each kind of bus: those that it cannot do without, and those that it may have. Nothing here needs arrays, so that rigs are read fast."""

from __future__ import annotations

import re
from collections.abc import Collection
from dataclasses import dataclass

__all__ = ["GROUPED", "OPTIONAL_ROLES", "ROLES", "SEGMENTS", "Lamps", "axes", "is_role", "missing_roles"]

SEGMENTS = ("a", "b", "c", "d", "e", "f", "g", "dp")
GROUPED = ("a", "clock", "data", "latch")  # roles that a panel with row groups cannot do without

# Roles that a bus cannot do without, and those that it may have. A parallel bus also needs e or wr: see `check`.
DATA = tuple(f"d{k}" for k in range(16))
BESIDE = ("reset", "backlight")
ROLES: dict[str, tuple[str, ...]] = {
    "i2c": ("scl", "sda"),
    "spi": ("sck", "mosi"),
    "parallel": ("d4", "d5", "d6", "d7"),
    "shift": ("clock", "data"),
    "matrix": (),
}
OPTIONAL_ROLES: dict[str, tuple[str, ...]] = {
    "i2c": BESIDE,
    "spi": ("miso", "cs", "cs1", "cs2", "cs3", "dc", *BESIDE),
    "parallel": (*DATA[:4], *DATA[8:], "rs", "rw", "e", "e2", "wr", "rd", "cs", "cs1", "cs2", "cs3", *BESIDE),
    "shift": ("latch", "enable", *BESIDE),
    "matrix": (
        *(f"{kind}{k}" for kind in ("row", "column", "digit") for k in range(32)),
        *(f"segment_{name}" for name in SEGMENTS),
        *GROUPED,
        "b",
        "enable",
    ),
}

_ROLE = re.compile(r"(row|column|digit)(\d{1,2})|segment_([a-g]|dp)")


@dataclass(frozen=True)
class Lamps:
    """How lines light LEDs. row, column: the level that is on (of grouped panels: of the enable, of a data bit).

    rows, columns: of the glass. block: of grouped panels, how many bits go to one row before the next row of the group has its turn.
    up: the lowest row of a group goes first. left: the leftmost column of a block goes first.
    """

    row: int = 1
    column: int = 1
    rows: int = 0
    columns: int = 0
    block: int = 0
    up: bool = True
    left: bool = True


def missing_roles(kind: str, roles: Collection[str]) -> list[str]:
    """Roles that a bus cannot do without; of a parallel one also what lacks between its first and last data line, d0 or d4."""
    out = [role for role in ROLES.get(kind, ()) if role not in roles]
    data = [number for number, role in enumerate(DATA) if role in roles]
    if kind == "parallel" and data:
        first = 0 if data[0] < 4 or data[-1] > 7 else 4
        out += [DATA[number] for number in range(first, data[-1]) if number not in data and DATA[number] not in out]
    return out


def is_role(role: str) -> bool:
    """Whether a role is one of a scanned display's rows, columns, digits or segments."""
    return _ROLE.fullmatch(role) is not None


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
