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
from ..units import counted
from .model import MAX_LINES, TOO_MANY, Note, Times, Trace, Waveforms, first_of, written_names
from .stream import Stream
from .table_cells import UNKNOWN_MARKS, kind_of
from .table_grid import Grid, side_by_side
from .table_rows import Rows, WrongRow, layouts_of, plain_rows_of, rows_of
from .table_shape import Shape, cells_of, looks_like, nearest_form, shape_of, without_end
from .threshold import levels

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["looks_like", "nearest_form", "opened", "write"]

ROWS = 1 << 17
PIECE = 4 << 20  # bytes that are parsed at once
WORKERS = 2  # pieces parsed side by side: the parser lets go of the interpreter's lock
LONGEST_ROW = 1 << 20  # bytes
LONGEST_FOOTER = 32  # lines behind the table
BAR = re.compile(rb"(?m)^[ \t]*\|")  # that begins a row of a table drawn with bars


class _Text:
    """Pieces of whole lines in UTF-8; what no line end closes stays in `tail`, lines behind the table in `footer`."""

    def __init__(self, stream: Stream, shape: Shape) -> None:
        self.stream, self.shape = stream, shape
        self.decoder = None if shape.encoding == "utf-8" else codecs.getincrementaldecoder(shape.encoding)("replace")
        self.old_ends = b"\n" not in stream.head and b"\r" in stream.head  # lines that a carriage return alone ends
        self.tail = b""
        self.footer = 0  # lines behind the table

    def pieces(self) -> Iterator[bytes]:
        """The lines of data, in pieces; without those behind the table that are none of it."""
        held = b""
        for piece in self._lines():
            if held:
                yield held
            held = BAR.sub(b"", piece) if self.shape.leading else piece
        self.tail = BAR.sub(b"", self.tail) if self.shape.leading else self.tail
        if held and (kept := self._without_footer(held)):
            yield kept

    def _without_footer(self, piece: bytes) -> bytes:
        """The last piece without a few lines at its end that are no rows: a sum, a remark, a rule."""
        kept = piece
        for _ in range(LONGEST_FOOTER):
            line = kept[kept.rfind(b"\n", 0, -1) + 1 :]
            cells = cells_of(line.decode("utf-8", "replace"), self.shape.delimiter)
            if not kept or (
                line.strip()
                and (cells[0].lower() not in UNKNOWN_MARKS and kind_of(cells[0], self.shape.decimal) not in ("", "bare"))
            ):
                return kept
            if line.strip() and not any(cell and not kind_of(cell, self.shape.decimal) for cell in cells):
                return kept
            self.footer += bool(line.strip())
            kept = kept[: len(kept) - len(line)]
        self.footer = 0
        return piece

    def _lines(self) -> Iterator[bytes]:
        skip = self.shape.skip
        while True:
            data = self.stream.read(PIECE)
            more = bool(data)
            if data and self.decoder is not None:
                data = self.decoder.decode(data).encode()
            if self.old_ends:
                data = data.replace(b"\r", b"\n")
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


def opened(
    stream: Stream,
    rate: Fraction | None = None,
    threshold: float | None = None,
    hysteresis: float | None = None,
    wanted: list[str] | None = None,
) -> tuple[Trace, Waveforms | None] | tuple[tuple[str, ...], Fraction, Iterator[Trace]]:
    """The trace of a CSV, and its waveforms when it is in volts; of a list of changes its lines, its tick and its blocks. Raises HushedError with file
    and line, of a list of changes on the way, too.

    wanted: names of lines to take where there are more than fit.
    """
    shape = shape_of(stream.head)
    if shape is None:
        raise HushedError("not a table of numbers", where=stream.name, remedy="a CSV needs a row of 0/1 or volts for each moment")
    table = _Table(stream, shape, rate, wanted)
    steps = table.steps()
    for _ in steps:
        if table.flowing is not None:
            first = table.flowing.flow()
            if first is not None:
                return first.names, first.tick, _flow(table, steps, first)
    return table.whole(threshold, hysteresis)


def _flow(table: _Table, steps: Iterator[None], first: Trace) -> Iterator[Trace]:
    """The blocks of a list of changes."""
    yield first
    assert table.flowing is not None
    for _ in steps:
        block = table.flowing.flow()
        if block is not None:
            yield block
    last = table.flowing.flow(last=True)
    if last is not None:
        yield last


class _Table:
    """The rows of a file on their way to grids, one for each column of times. broken: it ends in the middle of a row."""

    def __init__(self, stream: Stream, shape: Shape, rate: Fraction | None, wanted: list[str] | None) -> None:
        self.stream, self.shape, self.rate, self.wanted = stream, shape, rate, wanted
        self.text = _Text(stream, shape)
        self.grids: list[Grid] = []
        self.ahead = shape.skip  # lines

    @property
    def flowing(self) -> Grid | None:
        """The one grid whose rows need not be held, where it is so."""
        return self.grids[0] if len(self.grids) == 1 and self.grids[0].flows else None

    def whole(self, threshold: float | None, hysteresis: float | None) -> tuple[Trace, Waveforms | None]:
        """All of it, behind the last step."""
        grids = self.grids
        if not any(grid.rows for grid in grids):
            raise HushedError("has no rows", where=self.stream.name, remedy="record the capture again")
        if len(grids) > 1:
            trace, waveforms = side_by_side([grid for grid in grids if grid.rows])
        else:
            trace, waveforms = (None, grids[0].waveforms()) if grids[0].layout.volts else (grids[0].trace(), None)
        if waveforms is None:
            assert trace is not None
            return trace, None
        trace = levels(waveforms, threshold, hysteresis)
        return replace(trace, notes=(*grids[0].notes, *trace.notes)), waveforms

    def steps(self) -> Iterator[None]:
        """Takes all rows, step by step. Raises HushedError with file and line."""
        import pandas as pd

        with warnings.catch_warnings(), ThreadPoolExecutor(WORKERS) as pool:
            warnings.simplefilter("error", pd.errors.ParserWarning)  # it would drop cells
            warnings.simplefilter(
                "ignore", pd.errors.DtypeWarning
            )  # a column of numbers and marks is read as text: see `rows_of`
            try:
                yield from self._rows(pool)
            except WrongRow as wrong:
                where = f"{self.stream.name}:{self.ahead + wrong.row + 1}"
                raise HushedError(wrong.what, where=where, remedy=wrong.remedy) from wrong

    def _rows(self, pool: ThreadPoolExecutor) -> Iterator[None]:
        pieces = self.text.pieces()
        for piece in pieces:
            first = _frame(piece, self.shape)
            if first is not None and len(first):
                self._begin(first)
                self._take([rows_of(first, grid.layout) for grid in self.grids])
            self.ahead += piece.count(b"\n")
            if self.grids:
                yield
                break
        waiting: deque[Future[tuple[list[Rows | None], int]]] = deque()
        while True:
            waiting.extend(pool.submit(self._parsed, piece) for piece in islice(pieces, WORKERS + 1 - len(waiting)))
            if not waiting:
                break
            rows, lines = waiting.popleft().result()
            self._take(rows)
            self.ahead += lines
            yield
        self._finish(self.text.tail.decode("utf-8", "replace"))

    def _begin(self, first: pd.DataFrame) -> None:
        self.grids = _grids(self.stream.name, first, self.shape, self.rate, self.wanted)

    def _parsed(self, piece: bytes) -> tuple[list[Rows | None], int]:
        """The rows of a piece, for each grid, and how many lines it has."""
        plain = plain_rows_of(piece, self.grids[0].layout)
        if plain is not None:
            return [plain], plain.count
        frame = _frame(piece, self.shape)
        full = frame is not None and len(frame)
        return [rows_of(frame, grid.layout) if full else None for grid in self.grids], piece.count(b"\n")

    def _take(self, rows: list[Rows | None]) -> None:
        for grid, own in zip(self.grids, rows, strict=True):
            grid.take(own)

    def _finish(self, tail: str) -> None:
        """What no line end closes, and what is behind the table."""
        last_row, taken = _last_row(tail, self.shape), False
        if last_row is not None and not self.stream.cut:
            if not self.grids:
                self._begin(last_row)
            last = [rows_of(last_row, grid.layout) for grid in self.grids]
            taken = all(
                grid.layout.time is None or own is None or grid.follows(own.span[0])
                for grid, own in zip(self.grids, last, strict=True)
            )
            if taken:
                self._take(last)
        if not self.grids:
            return
        if self.text.footer:
            are = "are no rows" if self.text.footer > 1 else "is no row"
            self.grids[0].notes.append(Note("", f"{counted(self.text.footer, 'line')} behind the table, which {are}: left out"))
        if (_broken_off(tail, self.shape) and not taken) or self.stream.cut:
            self.grids[0].notes.append(
                Note("capture.cut-short", "the file ends in the middle of a row; what came before it was read")
            )


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
            dtype=dict.fromkeys(shape.words, str),
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


def _grids(name: str, first: pd.DataFrame, shape: Shape, rate: Fraction | None, wanted: list[str] | None) -> list[Grid]:
    """What the rows are collected in, one for each column of times. Raises HushedError where the columns tell no time, or nothing but it."""
    layouts = layouts_of(first, shape, bool(rate or shape.interval))
    lines = [line for layout in layouts for line in layout.names()]
    if len(lines) > MAX_LINES:
        lowered = {line.lower() for line in wanted or []}
        for layout in layouts:
            layout.data = [column for column in layout.data if shape.columns[column].lower() in lowered]
        if not 0 < sum(len(layout.names()) for layout in layouts) <= MAX_LINES:
            what = f"the file has {len(lines)} lines ({first_of(lines)}); {MAX_LINES} fit into one trace"
            raise HushedError(what, where=name, remedy=TOO_MANY)
    grids = [Grid(name, layout, rate) for layout in layouts if layout.data]
    if not grids:
        raise HushedError("has a time column but no line", where=name, remedy="export at least one channel")
    if grids[0].layout.time is None and not grids[0].interval():
        raise HushedError(
            "has no time column and no sample interval", where=name, remedy="give the sample rate, like --rate 20MHz"
        )
    return grids


def _last_row(tail: str, shape: Shape) -> pd.DataFrame | None:
    """A row that no line end closes, where it is whole; else the file may have been cut in it."""
    cells = without_end(cells_of(tail, shape.delimiter), len(shape.columns))
    kinds = [kind_of(cell, shape.decimal) for cell in cells]
    if not tail.strip() or len(cells) != len(shape.columns) or not all(kind and kind != "unknown" for kind in kinds):
        return None
    return _frame(tail.encode() + b"\n", shape)


def _broken_off(tail: str, shape: Shape) -> bool:
    """Whether a line that no line end closes is the beginning of a row, not a remark behind the table."""
    cells = cells_of(tail, shape.delimiter)
    return bool(tail.strip()) and (cells[0] == "" or any(cell[:1].isdigit() or cell[:1] in "+-." for cell in cells if cell))


def write(trace: Trace | Waveforms) -> Iterator[bytes]:
    """A trace as a list of changes, or waveforms as samples, with a time column in seconds; the twin of `opened`."""
    # Quoted where a reader would take a name for something else: for several cells, for a comment, for a name with a unit.
    names = [
        '"' + name.replace('"', '""') + '"' if re.search(r'[,;"|#\t]', name) else name
        for name in written_names(trace.names, True)
    ]
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
