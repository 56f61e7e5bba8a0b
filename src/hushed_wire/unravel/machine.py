"""How a display takes its picture: which words move a pointer or set a window. `placing` and `digits` work it out."""

from __future__ import annotations

from dataclasses import dataclass, field

__all__ = ["Machine", "Pointer", "Window"]


@dataclass(frozen=True)
class Pointer:
    """A word that holds a number. code: its bits that stay. bits: how many below them are the number. behind: the code whose parameter it is, -1
    where it is the code itself. seen: numbers that came. sure: whether it ever moved."""

    code: int
    bits: int
    seen: tuple[int, ...]
    behind: int = -1
    sure: bool = True


@dataclass(frozen=True)
class Window:
    """A command that sets where data go. code: -1 where none is. wide: bytes of each end. first, last: the usual ends."""

    code: int
    wide: int
    first: int
    last: int


@dataclass
class Machine:
    """One way to read the traffic. kind: of memory. score: 0 to 1. width, height: columns, and pages, lines, rows or digits, of what was written.
    because: what speaks for it. pointers, windows: by what they are for. write: the code that data for memory follow, of digits the address that
    counts up, -1 where there is none. bytes_a_cell: of a pixel. first_column, first_line: where in memory the written part begins. rows: of
    letters, their first addresses. wiring: of digits the segment of each bit, the lowest first. backwards: the first address is the digit on the
    right. tied: wirings that fit as well. decodes: digits come as numbers.
    """

    kind: str
    score: float
    width: int
    height: int
    because: str
    pointers: dict[str, Pointer] = field(default_factory=dict)
    windows: dict[str, Window] = field(default_factory=dict)
    write: int = -1
    bytes_a_cell: int = 1
    first_column: int = 0
    first_line: int = 0
    rows: tuple[int, ...] = ()
    wiring: tuple[str, ...] = ()
    backwards: bool = False
    tied: int = 0
    decodes: bool = False
