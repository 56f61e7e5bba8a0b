"""What the first lines of a CSV tell: delimiter, decimal comma, preamble, column names, unit row, sample interval."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from fractions import Fraction
from functools import lru_cache

__all__ = ["COUNT_NAME", "SCALES", "TIME_NAME", "UNKNOWN_MARKS", "Shape", "cells_of", "is_number", "looks_like", "shape_of"]

NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
UNIT = re.compile(r"[(\[]?\s*(s|ms|us|µs|ns|ps|sec|second|seconds|v|mv|volt|volts|a|hz)\s*[)\]]?", re.IGNORECASE)
TIME_NAME = re.compile(r"(time|t|zeit|x|seconds?|x[- ]?axis|timestamp|time[ _]?stamp)\b", re.IGNORECASE)
COUNT_NAME = re.compile(r"(sample|samples|index|no\.?|number|#)\s*$", re.IGNORECASE)
SCALES = {"s": 0, "sec": 0, "second": 0, "seconds": 0, "ms": -3, "us": -6, "µs": -6, "μs": -6, "ns": -9, "ps": -12}
INTERVAL = re.compile(r"\b(sample|sampling|x)?\s*[-_ ]?(interval|period|increment|incr)\b", re.IGNORECASE)
RATE = re.compile(r"\b(sample|sampling)\s*[-_ ]?(rate|freq\w*)\b", re.IGNORECASE)
WITH_UNIT = re.compile(r"([+-]?\d+(?:\.\d+)?(?:[eE][+-]?\d+)?)\s*(GHz|MHz|kHz|Hz|ms|us|µs|ns|ps|s)?\b", re.IGNORECASE)
RATES = {"hz": 1, "khz": 10**3, "mhz": 10**6, "ghz": 10**9}
UNKNOWN_MARKS = {"x", "z", "-", "?", "", "nan"}


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
    first_rows: list[list[str]] = field(default_factory=list)

    def last_place(self, column: int) -> float:
        """The worth of the last digit that is written in a column (the coarsest of the first rows): 1e-7 for 0.0000013."""
        worth = 0.0
        for row in self.first_rows:
            mantissa, _, exponent = row[column].replace(",", ".").lower().partition("e")
            digits = len(mantissa.partition(".")[2])
            worth = max(worth, 10.0 ** (int(exponent or 0) - digits))
        return worth


def cells_of(line: str, delimiter: str) -> list[str]:
    """The cells of a line, quotation marks and spaces taken off."""
    return [cell.strip().strip('"').strip() for cell in line.rstrip("\r\n").split(delimiter)]


def without_end(cells: list[str], width: int) -> list[str]:
    """Cells without the empty one that a delimiter at the end of the line makes."""
    return cells[:-1] if len(cells) == width + 1 and cells[-1] == "" else cells


def _ends_with_delimiter(cells: list[str], after: list[list[str]], above: list[str]) -> bool:
    """Whether rows end with a delimiter for nothing: unlike a last column that is empty, no name stands above it."""
    empty = len(cells) > 1 and all(row[-1] == "" for row in [cells, *after])
    return empty and not (len(above) == len(cells) and above[-1] != "")


def is_number(cell: str, decimal: str) -> bool:
    return bool(NUMBER.fullmatch(cell.replace(",", ".") if decimal == "," else cell))


def _data_row(cells: list[str], decimal: str) -> bool:
    marks = [is_number(cell, decimal) or cell.lower() in UNKNOWN_MARKS for cell in cells]
    return all(marks) and any(is_number(cell, decimal) for cell in cells)


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
    lines = head.decode(encoding, "replace").splitlines()
    if len(head) >= 65536 and len(lines) > 1:
        lines = lines[:-1]
    for delimiter, decimal in WAYS:
        if delimiter != "," and not any(delimiter in line for line in lines):
            continue
        number = _first_data(lines, delimiter, decimal)
        if number is not None:
            return _shape_at(lines, number, Shape(encoding=encoding, delimiter=delimiter, decimal=decimal, skip=number))
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
        if not line.strip() or not _data_row(cells, decimal):
            continue
        if len(cells) == 1 and (delimiter != "," or not NUMBER.fullmatch(cells[0])):
            continue
        after = [cells_of(text, delimiter) for text in lines[number + 1 : number + 3] if text.strip()]
        if decimal == "," and not any("," in cell for row in [cells, *after] for cell in row):
            continue
        if not after or (len(after[0]) == len(cells) and (_data_row(after[0], decimal) or len(after[0]) > 1)):
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
    shape.first_rows = [row for row in rows if len(row) == width and all(is_number(cell, decimal) for cell in row)]
    head = [without_end(cells_of(text, delimiter), width) for text in lines[:number]]
    _name_columns(shape, head, width)
    _find_interval(shape, head)
    return shape


def _name_columns(shape: Shape, rows: list[list[str]], width: int) -> None:
    """Column names and units from the lines ahead of the data."""
    names: list[str] = []
    for row in reversed([row for row in rows if len(row) == width and any(row)]):
        if all(UNIT.fullmatch(cell) or not cell for cell in row) and not shape.units:
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


def looks_like(head: bytes) -> bool:
    """Whether a file that starts with `head` is a table of numbers."""
    return shape_of(head) is not None
