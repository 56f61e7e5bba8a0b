"""What the first lines of a CSV tell: delimiter, decimal comma, preamble, column names, unit row, sample interval."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from fractions import Fraction

__all__ = ["COUNT_NAME", "SCALES", "TIME_NAME", "UNKNOWN_MARKS", "Shape", "cells_of", "is_number", "looks_like", "shape_of"]

NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
UNIT = re.compile(r"[(\[]?\s*(s|ms|us|µs|ns|ps|sec|second|seconds|v|mv|volt|volts|a|hz)\s*[)\]]?", re.IGNORECASE)
TIME_NAME = re.compile(r"(time|t|zeit|x|seconds?|x[- ]?axis|timestamp|time[ _]?stamp)\b", re.IGNORECASE)
COUNT_NAME = re.compile(r"(sample|samples|index|no\.?|number|#)\s*$", re.IGNORECASE)
SCALES = {"s": 0, "sec": 0, "second": 0, "seconds": 0, "ms": -3, "us": -6, "µs": -6, "μs": -6, "ns": -9, "ps": -12}
INTERVAL = re.compile(r"\b(sample|sampling|x)?\s*[-_ ]?(interval|period|increment|incr)\b", re.IGNORECASE)
RATE = re.compile(r"\b(sample|sampling)\s*[-_ ]?(rate|freq\w*)\b", re.IGNORECASE)
UNKNOWN_MARKS = {"x", "z", "-", "?", ""}


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
    cells = [cell.strip().strip('"').strip() for cell in line.rstrip("\r\n").split(delimiter)]
    return cells[:-1] if len(cells) > 1 and cells[-1] == "" else cells


def is_number(cell: str, decimal: str) -> bool:
    return bool(NUMBER.fullmatch(cell.replace(",", ".") if decimal == "," else cell))


def _data_row(cells: list[str], decimal: str) -> bool:
    marks = [is_number(cell, decimal) or cell.lower() in UNKNOWN_MARKS for cell in cells]
    return all(marks) and any(is_number(cell, decimal) for cell in cells)


def shape_of(head: bytes) -> Shape | None:
    """Reads the first lines; None when they are not a table of numbers."""
    if b"\0" in head[:4096] and not head.startswith((b"\xff\xfe", b"\xfe\xff")):
        return None
    shape = Shape()
    if head.startswith(b"\xff\xfe"):
        shape.encoding = "utf-16"
    elif head.startswith(b"\xef\xbb\xbf"):
        shape.encoding = "utf-8-sig"
    else:
        try:
            head[:-4].decode("utf-8")
        except UnicodeDecodeError:
            shape.encoding = "latin-1"
    lines = head.decode(shape.encoding, "replace").splitlines()
    if len(head) >= 65536 and len(lines) > 1:
        lines = lines[:-1]
    for delimiter, decimal in ((";", ","), (";", "."), ("\t", ","), ("\t", "."), (",", "."), ("|", ".")):
        for number, line in enumerate(lines):
            cells = cells_of(line, delimiter)
            if not line.strip() or not _data_row(cells, decimal):
                continue
            if len(cells) == 1 and (delimiter != "," or not NUMBER.fullmatch(cells[0])):
                continue
            after = [cells_of(text, delimiter) for text in lines[number + 1 : number + 3] if text.strip()]
            if decimal == "," and not any("," in cell for row in [cells, *after] for cell in row):
                continue
            if any(len(row) != len(cells) for row in after[:1]) or (
                after and not _data_row(after[0], decimal) and len(after[0]) < 2
            ):
                continue
            shape.delimiter, shape.decimal, shape.skip = delimiter, decimal, number
            rows = [cells_of(text, delimiter) for text in lines[number : number + 40]]
            shape.first_rows = [row for row in rows if len(row) == len(cells) and all(is_number(cell, decimal) for cell in row)]
            _preamble(shape, [cells_of(text, delimiter) for text in lines[:number]], len(cells))
            return shape
    return None


def _preamble(shape: Shape, rows: list[list[str]], width: int) -> None:
    """Column names, unit row and sample interval from the lines ahead of the data."""
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
    shape.columns = names or [f"column {k}" for k in range(width)]
    for row in rows:
        text = " ".join(row)
        value = next((cell for cell in row[1:] if is_number(cell.split()[0] if cell.split() else "", shape.decimal)), None)
        if value is None or not (INTERVAL.search(text) or RATE.search(text)):
            continue
        given = Fraction(value.split()[0].replace(",", "."))
        unit = next((cell for cell in [*value.split()[1:], *row[2:]] if cell.lower() in SCALES), "s")
        if given > 0:
            shape.interval = 1 / given if RATE.search(text) else given * Fraction(10 ** -SCALES[unit.lower()]) ** -1


def looks_like(head: bytes) -> bool:
    """Whether a file that starts with `head` is a table of numbers."""
    return shape_of(head) is not None
