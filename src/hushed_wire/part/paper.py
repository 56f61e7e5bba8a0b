"""E-paper: planes of bits that are written like any memory, and come to the glass when a refresh is asked for, and not before.

Strategy: a run of data is placed in closed form within its window, in the direction and the order that the entry mode says, into a journal of
(time, plane and byte, value); a refresh notes its tick, and the glass shows what the planes held at the last one. Of the planes one is ink
(a bit that is 0 is black), and on glass of two inks the other the second one (a bit that is 1 is printed); on glass of one ink drivers
keep the picture before in it, which tells nothing. Source: SSD1680 datasheet, 6.3 "RAM", 8 "Command Descriptions", 11h, 22h, 24h, 26h, 44h to 4Fh.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part, Value
from .glass import PaperGlass
from .model import NEVER, Journal
from .mounting import as_seen, thousandths

__all__ = ["INKS", "PaperMemory", "two_inks"]

INKS = {"red": (200, 30, 30), "yellow": (220, 180, 20)}  # second inks, as they are drawn
OLD = 2  # a plane that tells nothing


def two_inks(panel: Panel) -> bool:
    """Whether a glass has a second ink."""
    return panel.colour in INKS


class PaperMemory(Journal):
    """Two planes; address = (plane x rows + row) x bytes of a row + byte."""

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.across, self.rows = part.memory.columns // 8, part.memory.rows
        self._x, self._y = (0, self.across - 1), (0, self.rows - 1)  # as they were told: which end comes first is the direction's
        self._at = [0, 0]  # the byte and the row that the next data go to
        self._plane: int | None = None
        self.refreshes: list[int] = []
        self._sized = False
        self._placed = "column" in {command.effect for command in part.command}

    # ---- effects of commands ----

    def _columns_window(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._x = int(fields.get("start", 0)) // 8, int(fields.get("end", 0)) // 8

    def _rows_window(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._y = int(fields.get("start", 0)), int(fields.get("end", 0))

    def _column(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._at[0] = int(fields.get("column", 0)) // 8

    def _row(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._at[1] = int(fields.get("row", 0))

    def _frame_size(self, when: int, name: str, fields: dict[str, Value]) -> None:
        """A size in numbers, which goes over one by name ("128x296"), whichever comes first."""
        named = str(fields.get("size", "")).split("x")
        if len(named) == 2:
            if self._sized:
                return
            columns, rows = (int(each) for each in named)
        else:
            columns, rows, self._sized = int(fields.get("columns", 8)), int(fields.get("rows", 1)), True
        self._x, self._y = (0, columns // 8 - 1), (0, rows - 1)

    def _black(self, when: int, name: str, fields: dict[str, Value]) -> None:
        """Of glass of one ink it is the picture before, where the part says so."""
        self._begun(OLD if self.role("inks") == "one" else 0)

    def _second(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._begun(0 if self.role("inks") == "one" else 1)

    def _begun(self, plane: int) -> None:
        self._plane = plane
        if not self._placed:  # without counters of its own a plane is always written from its beginning
            self._at = [self._x[0], self._y[0]]

    def _refresh(self, when: int, name: str, fields: dict[str, Value]) -> None:
        if self.role("shows", "on") == "on":  # else it loads a waveform, say, and the glass stays as it is
            self.refreshes.append(when)

    def _reset(self, when: int, name: str, fields: dict[str, Value]) -> None:
        for register, value in self.part.reset.items():
            self.record(when, register, value)
        self._x, self._y, self._at = (0, self.across - 1), (0, self.rows - 1), [0, 0]
        self._sized = False

    def _sleep(self, when: int, name: str, fields: dict[str, Value]) -> None:
        self._plane = None  # what comes behind it is lost, and a rule tells that: here it is not known whether a reset came

    def _interrupted(self) -> None:
        self._plane = None

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        if self._plane is None or not len(values):
            return
        ways = self.role("x_direction", "increment"), self.role("y_direction", "increment")
        (x, wide), (y, high) = (_within(*end, way == "increment") for end, way in zip((self._x, self._y), ways, strict=True))
        here = [(at - first) * (1 if way == "increment" else -1) for at, first, way in zip(self._at, (x, y), ways, strict=True)]
        down = self.role("first", "x") == "y"
        across, below = here[0] % wide, here[1] % high
        step = (across * high + below if down else below * wide + across) + np.arange(len(values) + 1)
        step %= wide * high
        columns, rows = (step // high, step % high) if down else (step % wide, step // wide)
        columns, rows = (
            first + places * (1 if way == "increment" else -1)
            for first, places, way in zip((x, y), (columns, rows), ways, strict=True)
        )
        self._at = [int(columns[-1]), int(rows[-1])]
        columns, rows = columns[:-1], rows[:-1]
        if self._plane == OLD:
            return
        if self.role(("white", "second_is")[self._plane], "one") == "zero":
            values = ~values
        inside = (columns >= 0) & (columns < self.across) & (rows >= 0) & (rows < self.rows)
        addresses = (self._plane * self.rows + rows) * self.across + columns
        self._write(times[inside], addresses[inside], values[inside])

    # ---- what is where, when ----

    def at(self, when: int = NEVER) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
        """(planes, rows, bytes) at a tick, and which of them were written."""
        held, written = self.held(2 * self.rows * self.across, when)
        shape = 2, self.rows, self.across
        return held.reshape(shape), written.reshape(shape)

    def planes(self, panel: Panel, when: int) -> tuple[NDArray[np.bool_], NDArray[np.bool_], NDArray[np.bool_]]:
        """(rows, columns) of the panel at a tick: black, the second ink, and which are known."""
        held, written = self.at(when)
        left, top = panel.column_offset, panel.row_offset
        box = slice(top, top + panel.height), slice(left, left + panel.width)
        bits = np.unpackbits(held, axis=2).astype(bool)
        known = np.repeat(written, 8, axis=2)
        black, second = ~bits[0][box], bits[1][box] if two_inks(panel) else np.zeros((panel.height, panel.width), bool)
        return black & known[0][box], second & known[1][box], known[0][box]

    def unshown(self, panel: Panel) -> int | None:
        """The tick of the first write behind the last refresh whose picture differs from what the glass shows; None where it shows all of it."""
        times, _, _ = self.journal()
        last = self.refreshes[-1] if self.refreshes else int(np.iinfo(np.int64).min)
        late = times[times > last]
        if not len(late):
            return None
        shown, now = self.planes(panel, last), self.planes(panel, NEVER)
        return int(late[0]) if any((a != b).any() for a, b in zip(shown, now, strict=True)) else None

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> PaperGlass:
        """What the panel shows at a tick: what its planes held at the last refresh."""
        done = [tick for tick in self.refreshes if tick <= when]
        black, second, known = self.planes(panel, done[-1] if done else int(np.iinfo(np.int64).min))
        rgb = np.full((panel.height, panel.width, 3), 255, np.uint8)
        rgb[black] = 0
        rgb[second] = INKS.get(panel.colour, (0, 0, 0))
        return PaperGlass(as_seen(rgb, panel), as_seen(known, panel), bool(done))


def _within(start: int, end: int, up: bool) -> tuple[int, int]:
    """Where a window begins in a direction, and how long it is."""
    low, high = min(start, end), max(start, end)
    return (low if up else high), high - low + 1


def planes_of(rgb: NDArray[np.uint8], panel: Panel) -> tuple[NDArray[Any], NDArray[Any]]:
    """(height, width, 3) colours to the bits of both planes: dark pixels are black, those near the second ink that ink."""
    if not two_inks(panel):
        return thousandths(rgb) >= 128_000, np.zeros(rgb.shape[:2], bool)
    inks = np.array([(255, 255, 255), (0, 0, 0), INKS[panel.colour]], np.int32)
    nearest = ((rgb.astype(np.int32)[:, :, None, :] - inks) ** 2).sum(axis=3).argmin(axis=2)
    return nearest != 1, nearest == 2


PaperMemory.effects = {
    "column-window": PaperMemory._columns_window,
    "row-window": PaperMemory._rows_window,
    "frame-size": PaperMemory._frame_size,
    "column": PaperMemory._column,
    "page": PaperMemory._row,
    "plane-black": PaperMemory._black,
    "plane-second": PaperMemory._second,
    "refresh": PaperMemory._refresh,
    "deep-sleep": PaperMemory._sleep,
    "reset": PaperMemory._reset,
}
