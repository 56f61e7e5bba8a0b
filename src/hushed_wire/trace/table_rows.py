"""Rows of a CSV as columns: times, packed levels or volts, piece by piece and without memory of the pieces before.

Strategy: what a piece says depends on the layout only (which column is the time, which are lines, whether these are volts),
so pieces are taken apart side by side. Columns of nothing but 0 and 1, as most are, are packed as they come; any other goes
through floating point, where marks for unknown are NaN.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from .model import HIGH, UNKNOWN, Levels, Times, word_type
from .table_cells import SCALES, kind_of, numbers, stamps, words
from .table_plain import plain_rows
from .table_shape import TIME_NAME, Shape

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Layout", "Rows", "WrongRow", "backwards", "layouts_of", "plain_rows_of", "rows_of"]

LATEST = 1e8  # seconds: three years
HIGHEST = 1e4  # volts: more than any display line sees
GENERIC = re.compile(
    r"(data|value|hex|bus|lines|levels|word|port|digital|all|bin)?", re.IGNORECASE
)  # names of a column of all lines, and of none of them


class WrongRow(Exception):
    """What is wrong with a row of a piece, counted from 0, and the remedy."""

    def __init__(self, row: int, what: str, remedy: str) -> None:
        super().__init__(what)
        self.row, self.what, self.remedy = row, what, remedy


@dataclass
class Layout:
    """Which column is the time (None: rows are samples), which are lines, and whether these are volts.

    counted: the time is a number of samples. origin: nanoseconds from which times of day are counted. alone: no other column of times.
    words: columns of words of several lines, and how many lines each has.
    """

    shape: Shape
    time: int | None = None
    data: list[int] = field(default_factory=list)
    volts: bool = False
    scale: int = 0  # power of ten of the time's unit
    counted: bool = False
    origin: int | None = None
    alone: bool = True
    words: dict[int, int] = field(default_factory=dict)

    def names(self) -> list[str]:
        """The lines, in the order of their bits: a column is one, or as many as its words have, the least significant first."""
        out = []
        for column in self.data:
            name, width = self.shape.columns[column], self.words.get(column, 0)
            span = re.fullmatch(r"(.*?)\[(\d+):(\d+)\]", name)
            first = min(int(span[2]), int(span[3])) if span else 0
            stem = span[1] if span else name
            stem = "" if GENERIC.fullmatch(stem) or stem.startswith("column ") else stem
            out += [f"{stem}{first + bit}" for bit in range(width)] if width else [name]
        return out


@dataclass
class Rows:
    """`count` rows: those at which a level changes (digital; the first is always there), or all of them (volts)."""

    count: int
    at: Times  # (n,) rows
    seconds: NDArray[np.float64]  # (n,) of them, in the column's unit; empty without a time column
    levels: Levels  # (n,) packed; empty for volts
    unknown: Levels | None  # (n,)
    volts: list[NDArray[np.float32]]  # (count,) each; none of digital lines
    span: tuple[float, float] = (0.0, 0.0)  # the first and the last time
    steps: tuple[float, float] = (np.inf, 0.0)  # the smallest and the largest step between two rows
    repeats: tuple[int, int] = (1, 1)  # the fewest and the most rows of one time


def layouts_of(piece: pd.DataFrame, shape: Shape, timed: bool) -> list[Layout]:
    """From names, units and the first piece: one layout for each column of times, with the lines behind it.

    timed: the sample interval is known without a time column.
    """
    out = [Layout(shape)]
    for number, (name, unit) in enumerate(zip(shape.columns, shape.units, strict=True)):
        if number in shape.empty or (number == 0 and shape.counted):
            continue
        if number not in shape.words and (unit in SCALES or TIME_NAME.match(name) or _tells_time(shape, number)):
            if out[-1].time is not None:
                out.append(Layout(shape))
            out[-1].time, out[-1].scale = number, 0 if _tells_time(shape, number) else SCALES.get(unit, 0)
        else:
            out[-1].data.append(number)
    out = [layout for layout in out if layout.data] or out[:1]
    first = out[0]
    if first.time is None and timed and shape.counted:
        first.time, first.counted = 0, True
    elif first.time is None and len(first.data) > 1 and shape.columns[0] == "column 0":
        values = _numbers(piece, first.data[0], shape)
        numbered = bool((values == np.round(values)).all()) and 0 not in shape.words
        if len(values) > 1 and (np.diff(values) > 0).all() and (numbered or not timed):
            first.time, first.counted = first.data.pop(0), timed
    for layout in out:
        layout.alone = len(out) == 1
        _fill(layout, piece)
    return out


def _tells_time(shape: Shape, column: int) -> bool:
    """Whether the cells themselves say that they are times: `12 ns`, `09:30:13.000120`."""
    cells = [row[column] for row in shape.first_rows]
    kinds = {kind_of(cell, shape.decimal) for cell in cells}
    return kinds == {"stamp"} or (
        kinds <= {"quantity", "number"} and "quantity" in kinds and all(c[-1] not in "Vv" for c in cells)
    )


def _fill(layout: Layout, piece: pd.DataFrame) -> None:
    """What the first piece tells of a layout's columns: volts or levels, how wide words are, where times of day begin."""
    shape = layout.shape
    if layout.time is not None and any(kind_of(row[layout.time], shape.decimal) == "stamp" for row in shape.first_rows):
        text = piece[layout.time].astype("string").str.strip()
        layout.origin = int(stamps(text.iloc[:1])[0][0])
    for column in layout.data:
        if column in shape.words:
            # As many lines as the digits say: a word that is written 0x3F is of eight.
            widest = max(len(re.sub(r"^0[xXbB]", "", row[column])) for row in shape.first_rows)
            layout.words[column] = widest * (4 if shape.words[column] == 16 else 1)
            continue
        values = _numbers(piece, column, shape)
        finite = values[~np.isnan(values)]
        layout.volts |= bool(((finite != 0) & (finite != 1)).any())


def rows_of(piece: pd.DataFrame, layout: Layout) -> Rows | None:
    """A piece of at least one row, taken apart; None where no row has a time. Raises WrongRow."""
    none = np.empty(0, np.float64)
    seconds = none if layout.time is None else _times(piece, layout)
    if not layout.alone and len(seconds) and np.isnan(seconds[-1]):  # of columns side by side one may be shorter
        piece = piece.iloc[: int(np.flatnonzero(~np.isnan(seconds)).max(initial=-1)) + 1]
        seconds = seconds[: len(piece)]
        if not len(piece):
            return None
    levels, unknown = np.empty(0, np.uint8), None
    volts: list[NDArray[np.float32]] = []
    if layout.volts:
        volts = [_volts(piece, column, layout).astype(np.float32) for column in layout.data]
    else:
        levels, unknown = (None if layout.words else _plain(piece, layout.data)) or _marked(piece, layout)
    return _rows(layout, len(piece), seconds, levels, unknown, volts)


def plain_rows_of(piece: bytes, layout: Layout) -> Rows | None:
    """The same of the plainest text, without cells; None where it is not of that kind."""
    shape = layout.shape
    if layout.volts or layout.words or not layout.alone or layout.time != 0 or layout.counted or layout.origin is not None:
        return None
    if shape.padded or shape.trailing or shape.leading or shape.decimal != "." or layout.data != [*range(1, len(shape.columns))]:
        return None
    found = plain_rows(piece, len(layout.data), shape.delimiter)
    return None if found is None else _rows(layout, len(found[0]), *found, None, [])


def _rows(
    layout: Layout,
    count: int,
    seconds: NDArray[np.float64],
    levels: Levels,
    unknown: Levels | None,
    volts: list[NDArray[np.float32]],
) -> Rows:
    """Columns of `count` rows, of digital lines those at which a level changes. Raises WrongRow."""
    at = np.arange(count)
    if not layout.volts:
        moved = levels[1:] != levels[:-1]
        if unknown is not None:
            moved |= unknown[1:] != unknown[:-1]
        at = np.append(0, np.flatnonzero(moved) + 1)
        levels, unknown = levels[at], None if unknown is None else unknown[at]
    none = np.empty(0, np.float64)
    out = Rows(count, at, none if layout.time is None else seconds, levels, unknown, volts)
    if layout.time is not None:
        _check(seconds, layout.scale)
        steps = np.diff(seconds)
        if len(steps):
            out.steps = float(steps.min()), float(steps.max())
            if out.steps[0] < 0:
                raise backwards(int(np.flatnonzero(steps < 0)[0]) + 1)
            if out.steps[0] == 0:
                runs = np.diff(np.flatnonzero(steps))  # rows of one time; those that the piece cuts are left out
                out.repeats = (int(runs.min()), int(runs.max())) if len(runs) else (count, 0)
        out.span = float(seconds[0]), float(seconds[-1])
        if not layout.volts:
            out.seconds = seconds[at]
    return out


def backwards(row: int) -> WrongRow:
    """The time of a row is earlier than that of the row before."""
    return WrongRow(row, "time runs backwards", "captures were joined or sorted by another column: export one capture")


def _check(seconds: NDArray[np.float64], scale: int) -> None:
    """Every row has a time that can be one."""
    most = LATEST / 10.0**scale
    if -most < float(seconds.min()) and float(seconds.max()) < most:  # false for what is no number, too
        return
    row = int(np.flatnonzero(~(np.abs(seconds) < most))[0])
    raise WrongRow(row, "a row without a time, or with one beyond all measure", "remove it")


def _times(piece: pd.DataFrame, layout: Layout) -> NDArray[np.float64]:
    """The column of times, in its unit; times of day in seconds from the first. Raises WrongRow."""
    assert layout.time is not None
    if layout.origin is None:
        return _numbers(piece, layout.time, layout.shape)
    text = piece[layout.time].astype("string").str.strip()
    when, bad = stamps(text)
    if bad.any():
        row = int(np.flatnonzero(bad)[0])
        raise WrongRow(row, f"'{text.iloc[row]}' is no time of day", "write it as 09:30:13.000120, with or without the date")
    return (when - layout.origin).astype(np.float64) * 1e-9


def _numbers(piece: pd.DataFrame, column: int, shape: Shape) -> NDArray[np.float64]:
    """A column as numbers, marks for unknown as NaN; raises WrongRow at the first cell that is text."""
    import pandas as pd

    series = piece[column]
    if pd.api.types.is_numeric_dtype(series.dtype):
        plain: NDArray[np.float64] = series.to_numpy(np.float64)
        if series.dtype.kind == "f" and np.isinf(plain).any():
            plain = np.where(np.isinf(plain), np.nan, plain)
        return plain
    text = series.astype("string").str.strip().str.strip('"')
    out, bad = numbers(text, shape.decimal)
    if bad.any():
        row = int(np.flatnonzero(bad)[0])
        what = f"'{text.iloc[row]}' in column '{shape.columns[column]}' is not a number"
        raise WrongRow(row, what, "a line's column holds 0 and 1 (x where unknown) or volts; remove that row or export again")
    out[np.isinf(out)] = np.nan
    return out


def _volts(piece: pd.DataFrame, column: int, layout: Layout) -> NDArray[np.float64]:
    """A column in volts, whatever its unit row says; raises WrongRow where it cannot be volts."""
    shape = layout.shape
    values = _numbers(piece, column, shape)
    volts = values * 1e-3 if shape.units[column] == "mv" else values
    wild = np.flatnonzero(np.abs(volts) > HIGHEST)
    if len(wild):
        row = int(wild[0])
        remedy = "a line's column holds 0 and 1, or volts; remove columns that hold something else"
        raise WrongRow(row, f"{volts[row]:g} V in column '{shape.columns[column]}'", remedy)
    return volts


def _plain(piece: pd.DataFrame, columns: list[int]) -> tuple[Levels, None] | None:
    """Columns of nothing but 0 and 1, packed; None where there is anything else."""
    kind = word_type(len(columns))
    packed = np.zeros(len(piece), kind)
    for number, column in enumerate(columns):
        values = piece[column].to_numpy()
        if values.dtype.kind not in "iu" or values.min() < 0 or values.max() > 1:
            return None
        packed |= values.astype(kind) << kind(number)
    return packed, None


def _marked(piece: pd.DataFrame, layout: Layout) -> tuple[Levels, Levels | None]:
    """Columns of levels with marks for unknown among them, packed; raises WrongRow where there is anything else."""
    shape, kind = layout.shape, word_type(sum(layout.words.get(column, 1) for column in layout.data))
    packed, blurred, bit = np.zeros(len(piece), kind), np.zeros(len(piece), kind), 0
    for index in layout.data:
        if index in layout.words:
            packed |= _words(piece, index, layout).astype(kind) << kind(bit)
            bit += layout.words[index]
            continue
        column = _numbers(piece, index, shape)
        value = np.where(np.isnan(column), np.float64(UNKNOWN), column)
        odd = np.flatnonzero((value != 0) & (value != 1) & (value != UNKNOWN) | (column == UNKNOWN))
        if len(odd):
            row = int(odd[0])
            what = f"'{column[row]:g}' in column '{shape.columns[index]}' is not a level, after rows of 0 and 1"
            raise WrongRow(row, what, "a file is in levels or in volts throughout: export it again")
        packed |= (value == HIGH).astype(kind) << kind(bit)
        blurred |= (value == UNKNOWN).astype(kind) << kind(bit)
        bit += 1
    return packed, blurred if blurred.any() else None


def _words(piece: pd.DataFrame, column: int, layout: Layout) -> NDArray[np.uint64]:
    """A column of words of several lines; raises WrongRow at a cell that is none."""
    text = piece[column].astype("string").str.strip().str.strip('"')
    out, bad = words(text, layout.shape.words[column])
    bad |= out >> np.uint64(layout.words[column] - 1) > 1
    if bad.any():
        row, kind = int(np.flatnonzero(bad)[0]), "hexadecimal" if layout.shape.words[column] == 16 else "binary"
        what = f"'{text.iloc[row]}' in column '{layout.shape.columns[column]}' is no {kind} word of {layout.words[column]} lines"
        raise WrongRow(row, what, "a column of all lines is in one base and of one width throughout: export it again")
    return out
