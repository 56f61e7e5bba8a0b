"""What the first lines of a CSV tell: delimiter, decimal comma, preamble, column names, unit row, sample interval."""

from __future__ import annotations

import contextlib
import csv
import re
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import lru_cache
from itertools import pairwise

from .table_cells import SCALES, base_of, is_number, kind_of, worth

__all__ = ["COUNT_NAME", "TIME_NAME", "Shape", "cells_of", "is_data", "looks_like", "nearest_form", "shape_of", "without_end"]

UNIT = re.compile(r"[(\[]?\s*(s|ms|us|µs|ns|ps|sec|second|seconds|v|mv|volt|volts|a|hz)\s*[)\]]?", re.IGNORECASE)
TIME_NAME = re.compile(r"(time|t|zeit|x|seconds?|x[- ]?axis|timestamp|time[ _]?stamp|time[ _]?\d+)\b", re.IGNORECASE)
COUNT_NAME = re.compile(r"(sample|samples|index|no\.?|number|#)\s*$", re.IGNORECASE)
INTERVAL = re.compile(r"\b(sample|sampling|x)?\s*[-_ ]?(interval|period|increment|incr)\b", re.IGNORECASE)
RATE = re.compile(r"\b(sample|sampling)\s*[-_ ]?(rate|freq\w*)\b", re.IGNORECASE)
WITH_UNIT = re.compile(r"([+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)\s*(GHz|MHz|kHz|Hz|ms|us|µs|ns|ps|s)?\b", re.IGNORECASE)
RATES = {"hz": 1, "khz": 10**3, "mhz": 10**6, "ghz": 10**9}
# Header and step of instruments that number their samples: `X,CH1,Start,Increment` over `Sequence,Volt,-6e-4,1e-7`.
START_NAME = re.compile(r"(x[- ]?)?(start|origin|zero)\b", re.IGNORECASE)
STEP_NAME = re.compile(r"(x[- ]?)?(increment|incr|step|interval)\b", re.IGNORECASE)
COUNT_UNIT = re.compile(r"sequence|samples?|points?|index", re.IGNORECASE)
LISTED = re.compile(r"[#;%/ ]*(?:channels?|lines|signals?|columns|names?)\s*[:=]\s*(.+)", re.IGNORECASE)


@dataclass
class Shape:
    """What the first lines tell. `skip` lines come ahead of the data."""

    delimiter: str = ","
    decimal: str = "."
    skip: int = 0
    columns: list[str] = field(default_factory=list)
    units: list[str] = field(default_factory=list)
    interval: Fraction | None = None
    encoding: str = "utf-8"
    padded: bool = False  # spaces stand behind delimiters
    trailing: bool = False  # a delimiter ends each row, behind which there is nothing
    leading: bool = False  # a delimiter begins each row, as in a table drawn with bars
    counted: bool = False  # the first column numbers the samples
    start: Fraction = Fraction(0)  # seconds of the sample that is numbered 0
    empty: frozenset[int] = frozenset()  # columns that only the lines ahead of the data fill
    words: dict[int, int] = field(
        default_factory=dict
    )  # columns of words of several lines: 16 or 2, the base they are written in
    first_rows: list[list[str]] = field(default_factory=list)

    def last_place(self, column: int) -> float:
        """The worth of the last digit that is written in a column (the coarsest of the first rows): 1e-7 for 0.0000013."""
        return max((worth(row[column]) for row in self.first_rows), default=0.0)


def cells_of(line: str, delimiter: str) -> list[str]:
    """The cells of a line, quotation marks and spaces taken off."""
    if '"' in line:
        with contextlib.suppress(csv.Error):  # a carriage return amid the line, or a cell beyond all measure
            rows = csv.reader([line.rstrip("\r\n")], delimiter=delimiter, skipinitialspace=True)
            return [cell.strip() for cell in next(rows, [""])]
    return [cell.strip().strip('"').strip() for cell in line.rstrip("\r\n").split(delimiter)]


def without_end(cells: list[str], width: int) -> list[str]:
    """Cells without the empty one that a delimiter at the end of the line makes."""
    return cells[:-1] if len(cells) == width + 1 and cells[-1] == "" else cells


def _ends_with_delimiter(cells: list[str], after: list[list[str]], above: list[str]) -> bool:
    """Whether rows end with a delimiter for nothing: unlike a last column that is empty, no name stands above it."""
    empty = len(cells) > 1 and all(row[-1] == "" for row in [cells, *after])
    return empty and not (len(above) == len(cells) and above[-1] != "")


def is_data(cells: list[str], decimal: str) -> bool:
    """Whether a row is one of data: numbers, levels, quantities, times of day, words, and marks for unknown."""
    kinds = [kind_of(cell, decimal) for cell in cells]
    timed = kinds[0] in (
        "number",
        "quantity",
        "stamp",
    )  # names of lines look like bare words (D0, CE): one is data only behind a time
    known = all(kind and (kind != "bare" or (timed and number > 0)) for number, kind in enumerate(kinds))
    return known and any(kind not in ("unknown", "bare") for kind in kinds)


def _levels_only(cells: list[str], decimal: str) -> bool:
    """Whether a row says nothing but H and L: so may a line of names."""
    return all(kind_of(cell, decimal) in ("level", "unknown") for cell in cells)


def shape_of(head: bytes) -> Shape | None:
    """Reads the first lines; None when they are not a table of numbers."""
    found = _shape_of(head)
    return None if found is None else replace(found)


WAYS = (
    (";", ","),
    (";", "."),
    ("\t", ","),
    ("\t", "."),
    (",", "."),
    ("|", "."),
)  # delimiter and decimal point, in the order of trying


@lru_cache(maxsize=1)
def _shape_of(head: bytes) -> Shape | None:
    if b"\0" in head[:4096] and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return None
    encoding = _encoding(head)
    whole = head.decode(encoding, "replace").splitlines()
    if len(head) >= 65536 and len(whole) > 1:
        whole = whole[:-1]
    for delimiter, decimal in WAYS:
        if delimiter != "," and not any(delimiter in line for line in whole):
            continue
        leading = delimiter == "|" and any(line.lstrip().startswith("|") for line in whole)
        lines = [re.sub(r"^\s*\|", "", line) for line in whole] if leading else whole
        number = _first_data(lines, delimiter, decimal)
        if number is not None:
            shape = Shape(encoding=encoding, delimiter=delimiter, decimal=decimal, skip=number, leading=leading)
            return _shape_at(lines, number, shape)
    return None


def _encoding(head: bytes) -> str:
    if head.startswith(b"\xef\xbb\xbf"):
        return "utf-8-sig"
    try:
        head[:-4].decode("utf-8")
    except UnicodeDecodeError:
        return "latin-1"
    return "utf-8"


def _first_data(lines: list[str], delimiter: str, decimal: str) -> int | None:
    """The line at which rows of numbers begin, if a table is written so; None where it is not."""
    for number, line in enumerate(lines):
        cells = cells_of(line, delimiter)
        if not line.strip() or not is_data(cells, decimal):
            continue
        if len(cells) == 1 and (delimiter != "," or kind_of(cells[0], decimal) not in ("number", "hex")):
            continue
        after = [cells_of(text, delimiter) for text in lines[number + 1 : number + 3] if text.strip()]
        if decimal == "," and not any("," in cell for row in [cells, *after] for cell in row):
            continue
        if _levels_only(cells, decimal) and not (after and _levels_only(after[0], decimal)):
            continue
        if not after or (len(after[0]) == len(cells) and (is_data(after[0], decimal) or len(after[0]) > 1)):
            return number
    return None


def _shape_at(lines: list[str], number: int, shape: Shape) -> Shape:
    """The rest of what the lines say, where data begin at one of them."""
    delimiter, decimal = shape.delimiter, shape.decimal
    cells = cells_of(lines[number], delimiter)
    shape.padded = any(f"{delimiter} " in text for text in lines[number:])
    after = [cells_of(text, delimiter) for text in lines[number + 1 : number + 3] if text.strip()]
    above = next((cells_of(text, delimiter) for text in reversed(lines[:number]) if text.strip()), [])
    shape.trailing = _ends_with_delimiter(cells, after, above)
    width = len(cells) - int(shape.trailing)
    rows = [without_end(cells_of(text, delimiter), width) for text in lines[number : number + 40]]
    shape.first_rows = [
        row for row in rows if len(row) == width and all(kind_of(cell, decimal) not in ("", "unknown") for cell in row)
    ]
    head = [without_end(cells_of(text, delimiter), width) for text in lines[:number]]
    _find_step(shape, head, width)
    _name_columns(shape, head, width)
    _find_interval(shape, head)
    listed = next((found[1] for text in lines[:number] if (found := LISTED.fullmatch(text.strip()))), None)
    if listed is not None and shape.columns[-1] == f"column {width - 1}":
        _name_from_list(
            shape, [name.strip().strip('"') for name in re.split(r"[,;\t|]" if re.search(r"[,;\t|]", listed) else r"\s+", listed)]
        )
    shape.counted = shape.counted or bool(COUNT_UNIT.fullmatch(shape.units[0])) or bool(COUNT_NAME.match(shape.columns[0]))
    for column in range(width):
        base = base_of([row[column] for row in shape.first_rows])
        if base and (column > 0 or shape.first_rows[0][0][:2].lower() == "0x"):
            shape.words[column] = base
    return shape


def _find_step(shape: Shape, rows: list[list[str]], width: int) -> None:
    """Start and step where two cells of the line of names are called so and the line below it gives them; both are taken out of the lines."""
    for names, values in pairwise(rows):
        step = next((k for k in range(1, len(names)) if STEP_NAME.fullmatch(names[k])), None)
        if step is None or step >= len(values) or not is_number(values[step], shape.decimal):
            continue
        start = next((k for k in range(1, len(names)) if START_NAME.fullmatch(names[k])), None)
        given = Fraction(values[step].replace(",", "."))
        if given <= 0:
            continue
        shape.interval, shape.counted = given, True
        if start is not None and start < len(values) and is_number(values[start], shape.decimal):
            shape.start = Fraction(values[start].replace(",", "."))
        extra = {k for k in (start, step) if k is not None}
        shape.empty = frozenset(k for k in extra if k < width)
        for row in (names, values):
            row[:] = [cell for k, cell in enumerate(row) if k not in extra or k < width][:width]
            for k in shape.empty:
                row[k] = ""
        return


def _name_columns(shape: Shape, rows: list[list[str]], width: int) -> None:
    """Column names and units from the lines ahead of the data."""
    names: list[str] = []
    for row in reversed([row for row in rows if len(row) == width and any(row)]):
        caption = width > 1 and row[0] and not any(row[1:])  # `Waveform Data,`
        if caption or LISTED.match(row[0]) or all(set(cell) <= set("-=:+ ") for cell in row):
            continue
        units = all(UNIT.fullmatch(cell) or COUNT_UNIT.fullmatch(cell) or not cell for cell in row)
        if units and any(UNIT.fullmatch(cell) for cell in row) and not shape.units:
            shape.units = row
        elif not names and not (width == 2 and (INTERVAL.search(row[0]) or RATE.search(row[0]))):
            names = row
    shape.units = shape.units or [""] * width
    for number, name in enumerate(names):
        inside = re.search(r"[(\[]\s*(\S+?)\s*[)\]]\s*$", name)
        if inside and UNIT.fullmatch(inside[1]):
            names[number] = name[: inside.start()].strip()
            shape.units[number] = shape.units[number] or inside[1]
    shape.units = [unit.strip("()[] ").lower() for unit in shape.units]
    names = [name.lstrip("#;% ") or name for name in names]  # some mark the line of names as a comment
    shape.columns = names or [f"column {k}" for k in range(width)]


def _name_from_list(shape: Shape, names: list[str]) -> None:
    """Names from a line like `# Channels: SCL, SDA`, of all columns or of all behind the time."""
    names = [name for name in names if name]
    width = len(shape.columns)
    if len(names) == width:
        shape.columns = names
    elif len(names) == width - 1:
        shape.columns = ["Time", *names]


def _find_interval(shape: Shape, rows: list[list[str]]) -> None:
    """The sample interval, or rate, from the lines ahead of the data."""
    for row in rows:
        text = " ".join(row)
        asks_rate = RATE.search(text)
        found = WITH_UNIT.search(text.replace(",", ".") if shape.decimal == "," else text)
        if found is None or not (asks_rate or INTERVAL.search(text)):
            continue
        given, unit = Fraction(found[1]), (found[2] or "").lower()
        if given > 0 and (asks_rate or unit.endswith("hz")):
            shape.interval = 1 / (given * RATES.get(unit, 1))
        elif given > 0:
            shape.interval = given / 10 ** -SCALES.get(unit, 0)


def nearest_form(head: bytes) -> tuple[str, str]:
    """What a file that was not understood looks like, and the nearest form that would be read, with the option that helps."""
    if b"\0" in head[:4096] or sum(byte < 9 for byte in head[:4096]) > 16:
        return "bytes, not text", "if these are samples, say how many bytes each has and how often: --raw 1 --rate 20MHz"
    lines = [line for line in head.decode(_encoding(head), "replace").splitlines() if line.strip()]
    best: tuple[int, int, str, str] = (0, 0, ",", "")
    for delimiter, decimal in (*WAYS, (" ", ".")):
        for number, line in enumerate(lines[:200]):
            cells = line.split() if delimiter == " " else cells_of(line, delimiter)
            kinds = [kind_of(cell, decimal) for cell in cells]
            score = sum(kind not in ("", "unknown") for kind in kinds)
            if len(cells) > 1 and score > best[0]:
                odd = next((cell for cell, kind in zip(cells, kinds, strict=True) if not kind), "")
                best = score, number, delimiter, odd
    score, number, delimiter, odd = best
    shape = "the nearest form is a CSV with a time and a level or volts in each row: Time,SCL,SDA over 0.000001,1,0"
    if not score:
        return "text in which no row holds numbers", f"export the capture as VCD or CSV; {shape}"
    if delimiter == " ":
        return "numbers that are set apart by spaces", "set them apart by commas, semicolons or tabs: tr -s ' ' ','"
    if odd:
        what = f"a table whose row '{lines[number][:40]}' holds '{odd[:20]}', which is no number, level or quantity"
        return what, f"remove that column or mark; {shape}"
    return "a table whose rows differ in length or hold nothing but a time", f"export it again; {shape}"


def looks_like(head: bytes) -> bool:
    """Whether a file that starts with `head` is a table of numbers."""
    return shape_of(head) is not None
