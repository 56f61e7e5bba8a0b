"""CSV as instruments and scripts write it, to and from traces: digital 0/1 columns or volts.

Strategy: the first lines are looked at as text (delimiter, decimal comma, preamble, column names, unit row); the numbers
are read by pandas in pieces, side by side, which `table_rows` takes apart and `table_grid` collects. Times come from a time
column or from a sample interval (option or preamble).
"""

from __future__ import annotations

import codecs
import io
import re
import warnings
from collections import deque
from collections.abc import Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import replace
from fractions import Fraction
from itertools import islice
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from .model import MAX_LINES, TOO_MANY, Note, Times, Trace, first_of
from .stream import Stream
from .table_grid import Grid
from .table_rows import Rows, WrongRow, layout_of, rows_of
from .table_shape import Shape, cells_of, is_number, looks_like, shape_of, without_end
from .threshold import Waveforms, levels

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["looks_like", "read", "write"]

ROWS = 1 << 17
PIECE = 8 << 20  # bytes that are parsed at once
WORKERS = 2  # pieces parsed side by side: the parser lets go of the interpreter's lock
LONGEST_ROW = 1 << 20  # bytes


class _Text:
    """Pieces of whole lines in UTF-8; what no line end closes stays in `tail`."""

    def __init__(self, stream: Stream, encoding: str) -> None:
        self.stream = stream
        self.decoder = None if encoding == "utf-8" else codecs.getincrementaldecoder(encoding)("replace")
        self.tail = b""

    def pieces(self, skip: int) -> Iterator[bytes]:
        """The lines behind the first `skip`, in pieces."""
        while True:
            data = self.stream.read(PIECE)
            more = bool(data)
            if data and self.decoder is not None:
                data = self.decoder.decode(data).encode()
            data = self.tail + data
            end = data.rfind(b"\n") + 1
            if not end and len(data) > LONGEST_ROW:
                raise HushedError("a row without end", where=self.stream.name, remedy="the file is damaged: export it again")
            text, self.tail = data[:end], data[end:]
            while skip and text:
                text = text[text.index(b"\n") + 1 :]
                skip -= 1
            if text:
                yield text
            if not more:
                return


def read(
    stream: Stream,
    rate: Fraction | None = None,
    threshold: float | None = None,
    hysteresis: float | None = None,
    wanted: list[str] | None = None,
) -> tuple[Trace, Waveforms | None]:
    """The trace of a CSV, and its waveforms when it is in volts. Raises HushedError with file and line.

    wanted: names of lines to take where there are more than fit.
    """
    import pandas as pd

    shape = shape_of(stream.head)
    if shape is None:
        raise HushedError("not a table of numbers", where=stream.name, remedy="a CSV needs a row of 0/1 or volts for each moment")
    text, ahead = _Text(stream, shape.encoding), shape.skip
    pieces = text.pieces(shape.skip)
    grid: Grid | None = None

    def parsed(piece: bytes) -> tuple[Rows | None, int]:
        """The rows of a piece, and how many lines it has."""
        frame = _frame(piece, shape)
        assert grid is not None
        return rows_of(frame, grid.layout) if frame is not None and len(frame) else None, piece.count(b"\n")

    with warnings.catch_warnings(), ThreadPoolExecutor(WORKERS) as pool:
        warnings.simplefilter("error", pd.errors.ParserWarning)  # it would drop cells
        warnings.simplefilter("ignore", pd.errors.DtypeWarning)  # a column of numbers and marks is read as text: see `rows_of`
        waiting: deque[Future[tuple[Rows | None, int]]] = deque()
        try:
            for piece in pieces:
                first = _frame(piece, shape)
                if first is not None and len(first):
                    grid = _grid(stream.name, first, shape, rate, wanted)
                    grid.take(rows_of(first, grid.layout))
                ahead += piece.count(b"\n")
                if grid is not None:
                    break
            while True:
                waiting.extend(pool.submit(parsed, piece) for piece in islice(pieces, WORKERS + 1 - len(waiting)))
                if not waiting:
                    break
                rows, lines = waiting.popleft().result()
                if rows is not None and grid is not None:
                    grid.take(rows)
                ahead += lines
            tail = _last_row(text.tail.decode("utf-8", "replace"), shape)
            taken = False
            if tail is not None and not stream.cut:
                grid = grid or _grid(stream.name, tail, shape, rate, wanted)
                row = rows_of(tail, grid.layout)
                taken = grid.layout.time is None or grid.follows(row.span[0])
                if taken:
                    grid.take(row)
        except WrongRow as wrong:
            raise HushedError(wrong.what, where=f"{stream.name}:{ahead + wrong.row + 1}", remedy=wrong.remedy) from wrong
    if grid is None or not grid.rows:
        raise HushedError("has no rows", where=stream.name, remedy="record the capture again")
    if (text.tail.strip() and not taken) or stream.cut:
        grid.notes.append(Note("capture.cut-short", "the file ends in the middle of a row; what came before it was read"))
    if not grid.layout.volts:
        return grid.trace(), None
    waveforms = grid.waveforms()
    trace = levels(waveforms, threshold, hysteresis)
    return replace(trace, notes=(*grid.notes, *trace.notes)), waveforms


def _frame(piece: bytes, shape: Shape) -> pd.DataFrame | None:
    """The cells of whole lines; None where all of them are empty. Raises WrongRow at a row of too many cells."""
    import pandas as pd

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
            skipinitialspace=shape.padded,
            na_filter=False,  # marks for unknown make a column text, which `rows_of` reads: rare, and far slower for all else
        )
    except pd.errors.EmptyDataError:
        return None
    except (pd.errors.ParserError, pd.errors.ParserWarning, UnicodeDecodeError) as error:
        found = re.search(r"line (\d+)", str(error))
        row = int(found[1]) - 1 if found else 0
        raise WrongRow(row, "a row with more cells than the others", "the file is damaged: export it again") from error


def _grid(name: str, first: pd.DataFrame, shape: Shape, rate: Fraction | None, wanted: list[str] | None) -> Grid:
    """What the rows are collected in. Raises HushedError where the columns tell no time, or nothing but it."""
    layout = layout_of(first, shape, bool(rate))
    if len(layout.data) > MAX_LINES:
        lowered = {line.lower() for line in wanted or []}
        chosen = [column for column in layout.data if shape.columns[column].lower() in lowered]
        if not chosen or len(chosen) > MAX_LINES:
            names = first_of([shape.columns[column] for column in layout.data])
            what = f"the file has {len(layout.data)} lines ({names}); {MAX_LINES} fit into one trace"
            raise HushedError(what, where=name, remedy=TOO_MANY)
        layout.data = chosen
    grid = Grid(name, layout, rate)
    if not grid.layout.data:
        raise HushedError("has a time column but no line", where=name, remedy="export at least one channel")
    if grid.layout.time is None and not grid.interval():
        raise HushedError(
            "has no time column and no sample interval", where=name, remedy="give the sample rate, like --rate 20MHz"
        )
    return grid


def _last_row(tail: str, shape: Shape) -> pd.DataFrame | None:
    """A row that no line end closes, where it is whole; else the file may have been cut in it."""
    import pandas as pd

    cells = without_end(cells_of(tail, shape.delimiter), len(shape.columns))
    if not tail.strip() or len(cells) != len(shape.columns) or not all(is_number(cell, shape.decimal) for cell in cells):
        return None
    return pd.DataFrame([[float(cell.replace(",", ".") if shape.decimal == "," else cell) for cell in cells]])


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
