"""Rows of a CSV as columns: times, packed levels or volts, piece by piece and without memory of the pieces before.

Strategy: what a piece says depends on the layout only (which column is the time, which are lines, whether these are volts),
so pieces are taken apart side by side. Columns of nothing but 0 and 1, as most are, are packed as they come; any other goes
through floating point, where marks for unknown are NaN.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from .model import HIGH, UNKNOWN, Levels, Times, word_type
from .table_shape import COUNT_NAME, SCALES, TIME_NAME, UNKNOWN_MARKS, Shape

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["Layout", "Rows", "WrongRow", "layout_of", "rows_of"]

LATEST = 1e8  # seconds: three years
HIGHEST = 1e4  # volts: more than any display line sees


class WrongRow(Exception):
    """What is wrong with a row of a piece, counted from 0, and the remedy."""

    def __init__(self, row: int, what: str, remedy: str) -> None:
        super().__init__(what)
        self.row, self.what, self.remedy = row, what, remedy


@dataclass
class Layout:
    """Which column is the time (None: rows are samples), which are lines, and whether these are volts."""

    shape: Shape
    time: int | None = None
    data: list[int] = field(default_factory=list)
    volts: bool = False
    scale: int = 0  # power of ten of the time's unit


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


def layout_of(piece: pd.DataFrame, shape: Shape, timed: bool) -> Layout:
    """From names, units and the first piece. timed: the sample interval is known without a time column."""
    out = Layout(shape)
    for number, (name, unit) in enumerate(zip(shape.columns, shape.units, strict=True)):
        if COUNT_NAME.match(name) and number == 0:
            continue
        if out.time is None and (unit in SCALES or TIME_NAME.match(name)):
            out.time, out.scale = number, SCALES.get(unit, 0)
        else:
            out.data.append(number)
    if out.time is None and len(out.data) > 1 and shape.columns[0] == "column 0" and not timed:
        first = _numbers(piece, out.data[0], shape)
        if len(first) > 1 and (np.diff(first) > 0).all():
            out.time = out.data.pop(0)
    for column in out.data:
        values = _numbers(piece, column, shape)
        finite = values[~np.isnan(values)]
        out.volts |= bool(((finite != 0) & (finite != 1)).any())
    return out


def rows_of(piece: pd.DataFrame, layout: Layout) -> Rows:
    """A piece of at least one row, taken apart. Raises WrongRow."""
    count, none = len(piece), np.empty(0, np.float64)
    seconds = none if layout.time is None else _numbers(piece, layout.time, layout.shape)
    levels, unknown = np.empty(0, np.uint8), None
    volts: list[NDArray[np.float32]] = []
    if layout.volts:
        volts = [_volts(piece, column, layout).astype(np.float32) for column in layout.data]
        at = np.arange(count)
    else:
        levels, unknown = _plain(piece, layout.data) or _marked(piece, layout)
        moved = levels[1:] != levels[:-1]
        if unknown is not None:
            moved |= unknown[1:] != unknown[:-1]
        at = np.append(0, np.flatnonzero(moved) + 1)
        levels, unknown = levels[at], None if unknown is None else unknown[at]
    out = Rows(count, at, seconds, levels, unknown, volts)
    if layout.time is not None:
        _check(seconds, layout.scale)
        steps = np.diff(seconds)
        if len(steps):
            out.steps = float(steps.min()), float(steps.max())
            if out.steps[0] < 0:
                raise backwards(int(np.flatnonzero(steps < 0)[0]) + 1)
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


def _numbers(piece: pd.DataFrame, column: int, shape: Shape) -> NDArray[np.float64]:
    """A column as numbers, marks for unknown as NaN; raises WrongRow at the first cell that is text."""
    import pandas as pd

    series = piece[column]
    if pd.api.types.is_numeric_dtype(series.dtype):
        plain: NDArray[np.float64] = series.to_numpy(np.float64)
        return plain
    text = series.astype("string").str.strip()
    marks = text.str.lower().isin(list(UNKNOWN_MARKS)) | text.isna()
    clean = text.str.replace(",", ".", regex=False) if shape.decimal == "," else text
    numbers = pd.to_numeric(clean.mask(marks), errors="coerce")
    out: NDArray[np.float64] = numbers.to_numpy(np.float64, na_value=np.nan)
    bad = np.flatnonzero(np.isnan(out) & ~marks.to_numpy(bool))
    if len(bad):
        row = int(bad[0])
        what = f"'{text.iloc[row]}' in column '{shape.columns[column]}' is not a number"
        raise WrongRow(row, what, "a line's column holds 0 and 1 (x where unknown) or volts; remove that row or export again")
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
    shape, kind = layout.shape, word_type(len(layout.data))
    packed, blurred = np.zeros(len(piece), kind), np.zeros(len(piece), kind)
    for number, index in enumerate(layout.data):
        column = _numbers(piece, index, shape)
        value = np.where(np.isnan(column), np.float64(UNKNOWN), column)
        odd = np.flatnonzero((value != 0) & (value != 1) & (value != UNKNOWN) | (column == UNKNOWN))
        if len(odd):
            row = int(odd[0])
            what = f"'{column[row]:g}' in column '{shape.columns[index]}' is not a level, after rows of 0 and 1"
            raise WrongRow(row, what, "a file is in levels or in volts throughout: export it again")
        packed |= (value == HIGH).astype(kind) << kind(number)
        blurred |= (value == UNKNOWN).astype(kind) << kind(number)
    return packed, blurred if blurred.any() else None
