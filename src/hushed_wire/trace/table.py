"""CSV as instruments and scripts write it, to and from traces: digital 0/1 columns or volts.

Strategy: the first lines are looked at as text (delimiter, decimal comma, preamble, column names, unit row); the numbers
are read by pandas in pieces. Times come from a time column or from a sample interval (option or preamble). A time column
that is even is a sample clock, and its interval is taken from the whole span, since single rows are rounded; an uneven
one is a list of changes, on a tick as fine as the digits that were written.
"""

from __future__ import annotations

import codecs
import io
import re
import warnings
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from fractions import Fraction
from itertools import islice
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from .model import HIGH, UNKNOWN, Note, Times, Trace, word_type
from .stream import Stream
from .table_shape import (
    COUNT_NAME,
    SCALES,
    TIME_NAME,
    UNKNOWN_MARKS,
    Shape,
    cells_of,
    is_number,
    looks_like,
    shape_of,
    without_end,
)
from .threshold import Waveforms, levels

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["looks_like", "read", "write"]

ROWS = 1 << 17
PIECE = 4 << 20  # bytes that are parsed at once
WORKERS = 2  # pieces parsed side by side: the parser lets go of the interpreter's lock
LONGEST_ROW = 1 << 20  # bytes
EVEN_ROWS = 16
LATEST = 1e8  # seconds: three years
HIGHEST = 1e4  # volts: more than any display line sees


class _Text:
    """Pieces of whole lines in UTF-8; what no line end closes stays in `tail`."""

    def __init__(self, stream: Stream, encoding: str) -> None:
        self.stream = stream
        self.decoder = None if encoding == "utf-8" else codecs.getincrementaldecoder(encoding)("replace")
        self.tail = b""

    def pieces(self, skip: int) -> Iterator[tuple[int, bytes]]:
        """The lines behind the first `skip`, in pieces; with each the number of lines ahead of it."""
        parts, size, ahead = [self.tail], 0, 0
        while True:
            data = self.stream.read()
            if data and self.decoder is not None:
                data = self.decoder.decode(data).encode()
            parts.append(data)
            size += len(data)
            if data and size < PIECE and not self.stream.live:
                continue
            whole, end, self.tail = b"".join(parts).rpartition(b"\n")
            if not end and len(self.tail) > LONGEST_ROW:
                raise HushedError("a row without end", where=self.stream.name, remedy="the file is damaged: export it again")
            text = whole + end
            parts, size = [self.tail], len(self.tail)
            while skip and text:
                _, end, text = text.partition(b"\n")
                skip, ahead = skip - 1, ahead + 1
            if text:
                yield ahead, text
                ahead += text.count(b"\n")
            if not data and (self.stream.ended or not data):
                return


def read(
    stream: Stream, rate: Fraction | None = None, threshold: float | None = None, hysteresis: float | None = None
) -> tuple[Trace, Waveforms | None]:
    """The trace of a CSV, and its waveforms when it is in volts. Raises HushedError with file and line."""
    import pandas as pd

    shape = shape_of(stream.head)
    if shape is None:
        raise HushedError("not a table of numbers", where=stream.name, remedy="a CSV needs a row of 0/1 or volts for each moment")
    text = _Text(stream, shape.encoding)
    table = Table(stream.name, shape, rate)

    def parsed(ahead: int, piece: bytes) -> pd.DataFrame | None:
        try:
            return pd.read_csv(
                io.BytesIO(piece),
                sep=shape.delimiter,
                decimal=shape.decimal,
                header=None,
                names=list(range(len(shape.columns) + shape.trailing)),
                index_col=False,
                skip_blank_lines=True,
                on_bad_lines="error",
                low_memory=True,  # parses in small pieces, which stay in the cache
                skipinitialspace=True,
                na_filter=False,  # marks for unknown make a column text, which `_numbers` reads: rare, and far slower for all else
            )
        except pd.errors.EmptyDataError:
            return None  # nothing but empty lines
        except (pd.errors.ParserError, pd.errors.ParserWarning, UnicodeDecodeError) as error:
            found = re.search(r"line (\d+)", str(error))
            place = f"{stream.name}:{int(found[1]) + ahead}" if found else stream.name
            remedy = "the file is damaged: export it again"
            raise HushedError("a row with more cells than the others", where=place, remedy=remedy) from error

    with warnings.catch_warnings(), ThreadPoolExecutor(WORKERS) as pool:
        warnings.simplefilter("error", pd.errors.ParserWarning)  # it would drop cells
        warnings.simplefilter("ignore", pd.errors.DtypeWarning)  # a column of numbers and marks is read by `_numbers`
        waiting: deque[Future[pd.DataFrame | None]] = deque()
        pieces = text.pieces(shape.skip)
        while True:
            for ahead, piece in islice(pieces, WORKERS + 1 - len(waiting)):
                waiting.append(pool.submit(parsed, ahead, piece))
            if not waiting:
                break
            frame = waiting.popleft().result()
            if frame is not None:
                table.take(frame)
    table.last_row(text.tail.decode("utf-8", "replace"), stream.cut)
    if table.volts:
        waveforms = table.waveforms()
        trace = levels(waveforms, threshold, hysteresis)
        return Trace(**{**_fields(trace), "notes": tuple(table.notes)}), waveforms
    return table.trace(), None


def _fields(trace: Trace) -> dict[str, Any]:
    return {name: getattr(trace, name) for name in trace.__dataclass_fields__}


class Table:
    """Collects the columns piece by piece: changes only for digital files, every sample for volts."""

    def __init__(self, name: str, shape: Shape, rate: Fraction | None) -> None:
        self.name, self.shape, self.rate = name, shape, rate
        self.notes: list[Note] = []
        self.volts = False
        self.rows = 0
        self.time_column: int | None = None
        self.data_columns: list[int] = []
        self.scale = 0
        self.times: list[NDArray[np.float64]] = []  # of changes (digital) or of all samples (volts)
        self.at: list[Times] = []
        self.values: list[list[NDArray[Any]]] = []
        self.last: list[int] = []
        self.span = (0.0, 0.0)
        self.steps = (np.inf, 0.0)

    def _decide(self, piece: pd.DataFrame) -> None:
        """Which column is the time, which are lines, and whether these are volts: from names, units and the first piece."""
        shape = self.shape
        for number, (name, unit) in enumerate(zip(shape.columns, shape.units, strict=True)):
            if COUNT_NAME.match(name) and number == 0:
                continue
            if self.time_column is None and (unit in SCALES or TIME_NAME.match(name)):
                self.time_column = number
                self.scale = SCALES.get(unit, 0)
            else:
                self.data_columns.append(number)
        if self.time_column is None and len(self.data_columns) > 1 and shape.columns[0] == "column 0" and not self.rate:
            first = self._numbers(piece, self.data_columns[0])
            if len(first) > 1 and (np.diff(first) > 0).all():
                self.time_column = self.data_columns.pop(0)
        if not self.data_columns:
            raise HushedError("has a time column but no line", where=self.name, remedy="export at least one channel")
        if self.time_column is None and not self._interval():
            raise HushedError(
                "has no time column and no sample interval", where=self.name, remedy="give the sample rate, like --rate 20MHz"
            )
        for column in self.data_columns:
            values = self._numbers(piece, column)
            finite = values[~np.isnan(values)]
            self.volts |= bool(((finite != 0) & (finite != 1)).any())
        self.last = [-1] * len(self.data_columns)

    def _interval(self) -> Fraction | None:
        return 1 / self.rate if self.rate else self.shape.interval

    def _numbers(self, piece: pd.DataFrame, column: int) -> NDArray[np.float64]:
        """A column as numbers, marks for unknown as NaN; raises HushedError at the first cell that is text."""
        import pandas as pd

        series = piece[column]
        if pd.api.types.is_numeric_dtype(series.dtype):
            out: NDArray[np.float64] = series.to_numpy(np.float64)
        else:
            text = series.astype("string").str.strip()
            marks = text.str.lower().isin(list(UNKNOWN_MARKS)) | text.isna()
            clean = text.str.replace(",", ".", regex=False) if self.shape.decimal == "," else text
            numbers = pd.to_numeric(clean.mask(marks), errors="coerce")
            out = numbers.to_numpy(np.float64, na_value=np.nan)
            bad = np.flatnonzero(np.isnan(out) & ~marks.to_numpy(bool))
            if len(bad):
                row = int(bad[0])
                line = self.shape.skip + self.rows + row + 1
                raise HushedError(
                    f"'{text.iloc[row]}' in column '{self.shape.columns[column]}' is not a number",
                    where=f"{self.name}:{line}",
                    remedy="a line's column holds 0 and 1 (x where unknown) or volts; remove that row or export again",
                )
        return out

    def take(self, piece: pd.DataFrame) -> None:
        """The next rows."""
        if not len(piece):
            return
        if not self.data_columns:
            self._decide(piece)
        seconds = None
        if self.time_column is not None:
            seconds = self._numbers(piece, self.time_column)
            self._check(seconds)
        plain = None if self.volts else _plain(piece, self.data_columns)
        columns = [] if plain is not None else [self._numbers(piece, column) for column in self.data_columns]
        if plain is not None:
            at = self._moved(plain)
            self.at.append(at + self.rows)
            self.values.append([level[at] for level in plain])
            if seconds is not None:
                self.times.append(seconds[at])
        elif self.volts:
            columns = [self._volts(column, index) for column, index in zip(columns, self.data_columns, strict=True)]
            self.values.append([column.astype(np.float32) for column in columns])
            if seconds is not None:
                self.times.append(seconds)
        else:
            at, values = self._changes(columns)
            self.at.append(at + self.rows)
            self.values.append([value[at] for value in values])
            if seconds is not None:
                self.times.append(seconds[at])
        self.rows += len(piece)

    def _volts(self, column: NDArray[np.float64], index: int) -> NDArray[np.float64]:
        """A column in volts, whatever its unit row says; raises HushedError where it cannot be volts."""
        volts = column * 1e-3 if self.shape.units[index] == "mv" else column
        wild = np.flatnonzero(np.abs(volts) > HIGHEST)
        if len(wild):
            raise HushedError(
                f"{volts[wild[0]]:g} V in column '{self.shape.columns[index]}'",
                where=f"{self.name}:{self.shape.skip + self.rows + int(wild[0]) + 1}",
                remedy="a line's column holds 0 and 1, or volts; remove columns that hold something else",
            )
        return volts

    def last_row(self, tail: str, cut: bool) -> None:
        """A row that no line end closes: taken when it is whole and in step, else the file was cut in it."""
        import pandas as pd

        cells = without_end(cells_of(tail, self.shape.delimiter), len(self.shape.columns))
        whole = len(cells) == len(self.shape.columns) and all(is_number(cell, self.shape.decimal) for cell in cells)
        if tail.strip() and whole and not cut:
            row = [float(cell.replace(",", ".") if self.shape.decimal == "," else cell) for cell in cells]
            step = row[self.time_column] - self.span[1] if self.time_column is not None else 0.0
            if not self.rows or self.time_column is None or 0 < step <= 1.5 * self.steps[1]:
                self.take(pd.DataFrame([row]))
                return
        if tail.strip() or cut:
            self.notes.append(Note("capture.cut-short", "the file ends in the middle of a row; what came before it was read"))

    def _check(self, seconds: NDArray[np.float64]) -> None:
        """Times ascend; their steps are noted."""
        usable = np.abs(seconds) * 10.0**self.scale < LATEST  # false for what is no number, too
        if not usable.all():
            row = int(np.flatnonzero(~usable)[0])
            raise HushedError(
                "a row without a time, or with one beyond all measure",
                where=f"{self.name}:{self.shape.skip + self.rows + row + 1}",
                remedy="remove it",
            )
        steps = np.diff(seconds, prepend=self.span[1] if self.rows else seconds[0])
        back = np.flatnonzero(steps < 0)
        if len(back):
            row = int(back[0])
            raise HushedError(
                "time runs backwards",
                where=f"{self.name}:{self.shape.skip + self.rows + row + 1}",
                remedy="captures were joined or sorted by another column: export one capture",
            )
        steps = steps if self.rows else steps[1:]
        if len(steps):
            self.steps = (min(self.steps[0], float(steps.min())), max(self.steps[1], float(steps.max())))
        self.span = (self.span[0] if self.rows else float(seconds[0]), float(seconds[-1]))

    def _changes(self, columns: list[NDArray[np.float64]]) -> tuple[Times, list[NDArray[np.uint8]]]:
        out = []
        for column, index in zip(columns, self.data_columns, strict=True):
            value = np.where(np.isnan(column), np.float64(UNKNOWN), column)
            odd = np.flatnonzero((value != 0) & (value != 1) & (value != UNKNOWN) | (column == UNKNOWN))
            if len(odd):
                line = self.shape.skip + self.rows + int(odd[0]) + 1
                what = f"'{column[odd[0]]:g}' in column '{self.shape.columns[index]}' is not a level, after rows of 0 and 1"
                raise HushedError(
                    what, where=f"{self.name}:{line}", remedy="a file is in levels or in volts throughout: export it again"
                )
            out.append(value.astype(np.uint8))
        return self._moved(out), out

    def _moved(self, levels: list[NDArray[np.uint8]]) -> Times:
        """The rows in which a level is another one than in the row before."""
        changed = np.zeros(len(levels[0]), dtype=bool)
        for number, level in enumerate(levels):
            changed[1:] |= level[1:] != level[:-1]
            changed[0] |= bool(level[0] != self.last[number])
            self.last[number] = int(level[-1])
        return np.flatnonzero(changed)

    def _grid(self) -> tuple[Fraction, bool]:
        """The tick, and whether rows lie on an even grid of it."""
        interval = self._interval()
        if self.time_column is None:
            assert interval is not None
            return interval, True
        scale = Fraction(10) ** self.scale
        step = (self.span[1] - self.span[0]) / max(1, self.rows - 1)
        spread = self.steps[1] - self.steps[0]
        # Times are rounded to the digits that were written, so the steps of a sample clock differ by that much at the most.
        # A few rows may look even by chance: they count only when they are so exactly.
        allowed = 2.1 * self.shape.last_place(self.time_column) if self.rows >= EVEN_ROWS else 1e-6 * step
        if self.rows > 2 and self.steps[0] > 0 and spread <= allowed and self.steps[1] < 1.7 * step:
            if self.rate:
                return 1 / self.rate, True
            return Fraction(f"{step:.10e}") * scale, True
        return min(scale / 1000, Fraction(1, 10**9)), False

    def _ticks(self, at: Times, seconds: NDArray[np.float64], tick: Fraction, even: bool) -> Times:
        if even:
            return at + self._first(tick)
        factor = float(Fraction(10) ** self.scale / tick)
        return np.round(seconds * factor).astype(np.int64)

    def _first(self, tick: Fraction) -> int:
        """The tick of the first row: captures often count from their trigger, so it may be negative."""
        return round(Fraction(self.span[0]) * Fraction(10) ** self.scale / tick)

    def _names(self) -> tuple[str, ...]:
        names = [self.shape.columns[column] for column in self.data_columns]
        double = next((name for name in names if names.count(name) > 1), None)
        if double is not None:
            raise HushedError(f"two columns are called '{double}'", where=self.name, remedy="rename one of them")
        return tuple(names)

    def trace(self) -> Trace:
        """Of a digital file."""
        if not self.rows:
            raise HushedError("has no rows", where=self.name, remedy="record the capture again")
        tick, even = self._grid()
        at = np.concatenate(self.at)
        seconds = np.concatenate(self.times) if self.times else np.empty(0)
        columns = [np.concatenate(parts) for parts in zip(*self.values, strict=True)]
        kind = word_type(len(columns))
        packed, blurred = np.zeros(len(at), kind), np.zeros(len(at), kind)
        for number, column in enumerate(columns):
            packed |= (column == HIGH).astype(kind) << kind(number)
            blurred |= (column == UNKNOWN).astype(kind) << kind(number)
        unknown = blurred if blurred.any() else None
        changed = self._ticks(at, seconds, tick, even)
        if len(changed) > 1 and not (changed[1:] > changed[:-1]).all():  # of rows of one time the last one stays
            keep = np.append(changed[1:] != changed[:-1], True)
            changed, packed, unknown = changed[keep], packed[keep], None if unknown is None else unknown[keep]
        last = self._first(tick) + self.rows - 1 if even else round(self.span[1] * float(Fraction(10) ** self.scale / tick))
        return Trace(self._names(), changed, packed, last + 1, tick, unknown, 1 if even else 0, tuple(self.notes))

    def waveforms(self) -> Waveforms:
        """Of a file in volts."""
        tick, even = self._grid()
        columns = tuple(np.concatenate(parts) for parts in zip(*self.values, strict=True))
        seconds = np.concatenate(self.times) if self.times else np.empty(0)
        times = self._ticks(np.arange(self.rows), seconds, tick, even)
        return Waveforms(self._names(), times, columns, tick, int(times[-1]) + 1, 1 if even else 0)


def _plain(piece: pd.DataFrame, columns: list[int]) -> list[NDArray[np.uint8]] | None:
    """Columns of nothing but 0 and 1, as most are; None where there is anything else."""
    out = []
    for column in columns:
        values = piece[column].to_numpy()
        if values.dtype.kind not in "iu" or (values & ~1).any():
            return None
        out.append(values.astype(np.uint8))
    return out


def write(trace: Trace | Waveforms) -> Iterator[bytes]:
    """A trace as a list of changes, or waveforms as samples, with a time column in seconds; the twin of `read`."""
    names = [f'"{name}"' if "," in name else name for name in trace.names]
    yield (",".join(["Time", *names]) + "\n").encode()
    # As many decimals as the tick needs, and at least nanoseconds.
    decimals = next((d for d in range(9, 13) if (trace.tick * 10**d).denominator == 1), 12)
    times = trace.times
    if isinstance(trace, Waveforms):
        yield (",".join(["s", *["V"] * len(names)]) + "\n").encode()
    elif trace.end - 1 > trace.times[-1]:
        # The state at the end closes the last stretch, so that the file lasts as long as the capture.
        times = np.append(times, trace.end - 1)
    factor = float(trace.tick * 10**decimals)
    for first in range(0, len(times), ROWS):
        part = slice(first, first + ROWS)
        cells = [_fixed(np.round(times[part] * factor).astype(np.int64), decimals)]
        for line in range(len(names)):
            if isinstance(trace, Waveforms):
                volts = trace.volts[line][part]
                column, present = _fixed(np.round(np.nan_to_num(volts) * 1000).astype(np.int64), 3)
                present &= ~np.isnan(volts)[:, None]
            else:
                column = np.frombuffer(b"01x", np.uint8)[trace.level_at(line, times[part])][:, None]
                present = np.ones(column.shape, dtype=bool)
            cells.append((column, present))
        rows, shown = [], []
        for number, (column, present) in enumerate(cells):
            end = np.full((len(column), 1), ord("\n") if number == len(cells) - 1 else ord(","), dtype=np.uint8)
            rows += [column, end]
            shown += [present, np.ones(end.shape, dtype=bool)]
        yield np.concatenate(rows, axis=1)[np.concatenate(shown, axis=1)].tobytes()


def _fixed(number: Times, decimals: int) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """Whole numbers of 10^-decimals as text: (n, width) characters, and which of them are there."""
    digits = max(decimals + 1, len(str(int(np.abs(number).max(initial=0)))))
    chars = np.empty((len(number), digits + 2), dtype=np.uint8)
    present = np.ones(chars.shape, dtype=bool)
    chars[:, 0], present[:, 0] = ord("-"), number < 0
    rest = np.abs(number)
    column = digits + 1
    for place in range(digits):
        if place == decimals:
            chars[:, column] = ord(".")
            column -= 1
        chars[:, column] = rest % 10 + ord("0")
        present[:, column] = (rest > 0) | (place <= decimals)
        rest //= 10
        column -= 1
    return chars, present
