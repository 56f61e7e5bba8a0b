"""What a cell of a table may be, and columns of cells as numbers.

Most columns are plain numbers and never come here as text. The rest is read column by column: levels in words (`H`, `true`),
quantities with their unit (`12 ns`), times of day (ISO 8601, with or without the date), marks for unknown (`x`, `OL`), and
words of several lines in hexadecimal or binary.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

if TYPE_CHECKING:
    import pandas as pd

__all__ = ["LEVEL_WORDS", "SCALES", "UNKNOWN_MARKS", "base_of", "is_number", "kind_of", "numbers", "stamps", "words", "worth"]

NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?")
SCALES = {"s": 0, "sec": 0, "second": 0, "seconds": 0, "ms": -3, "us": -6, "µs": -6, "μs": -6, "ns": -9, "ps": -12}
VOLTS = {"v": 0, "mv": -3, "uv": -6, "µv": -6, "μv": -6}
QUANTITY = re.compile(r"([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d+)?)\s*([pnumµμ]?[sv]|sec)", re.IGNORECASE)
STAMP = re.compile(r"(\d{4}-\d\d-\d\d[T ])?\d{1,2}:\d\d:\d\d([.,]\d+)?(Z|[+-]\d\d:?\d\d)?")
# "OL" and infinities are what an instrument writes where the input was beyond its range: no level can be told from it.
UNKNOWN_MARKS = {"x", "z", "-", "--", "---", "?", "", "nan", "n/a", "ol", "-ol", "+ol", "inf", "-inf", "+inf"}
UNKNOWN_MARKS |= {"infinity", "-infinity", "+infinity", "overload", "clipped"}
LEVEL_WORDS = {"l": 0, "low": 0, "false": 0, "h": 1, "high": 1, "true": 1}
HEX_MARKED = re.compile(r"0[xX][0-9a-fA-F]{1,16}")
HEX_BARE = re.compile(r"[0-9a-fA-F]{2,16}")
BINARY = re.compile(r"(0[bB])?[01]{4,64}")


def is_number(cell: str, decimal: str) -> bool:
    """Whether a cell is a plain number."""
    return bool(NUMBER.fullmatch(cell.replace(",", ".") if decimal == "," else cell))


def kind_of(cell: str, decimal: str) -> str:
    """`number`, `unknown`, `level`, `quantity`, `stamp`, `hex` (marked with 0x), `bare` (hexadecimal without a mark), or nothing."""
    if is_number(cell, decimal):
        return "number"
    lowered = cell.lower()
    if lowered in UNKNOWN_MARKS:
        return "unknown"
    if lowered in LEVEL_WORDS:
        return "level"
    for kind, pattern in (("stamp", STAMP), ("hex", HEX_MARKED), ("bare", HEX_BARE)):
        if pattern.fullmatch(cell):
            return kind
    return "quantity" if QUANTITY.fullmatch(cell.replace(",", ".") if decimal == "," else cell) else ""


def worth(cell: str) -> float:
    """The worth of the last digit of a number, quantity or time of day: 1e-7 for 0.0000013, 1e-9 for 12 ns."""
    power, text = 0, cell.replace(",", ".").lower()
    if STAMP.fullmatch(cell):
        text = re.sub(r"z$|[+-]\d\d:?\d\d$", "", text.rpartition(":")[2])
    elif found := QUANTITY.fullmatch(text):
        text, power = found[1], {**SCALES, **VOLTS}.get(found[2], 0)
    mantissa, _, exponent = text.partition("e")
    return float(10.0 ** (int(exponent or 0) + power - len(mantissa.partition(".")[2])))


def base_of(cells: list[str]) -> int:
    """16 or 2 where the cells of a column are words of several lines in hexadecimal or binary; else 0.

    Numbers have no leading zeros and no common width: what has both is a word.
    """
    if not cells:
        return 0
    if all(HEX_MARKED.fullmatch(cell) for cell in cells):
        return 16
    level = len({len(cell) for cell in cells}) == 1
    if not level or not all(HEX_BARE.fullmatch(cell) for cell in cells):
        return 2 if all(cell[:2].lower() == "0b" and BINARY.fullmatch(cell) for cell in cells) else 0
    if all(BINARY.fullmatch(cell) for cell in cells):
        return 2
    lettered = any(not cell.isdecimal() and not NUMBER.fullmatch(cell) for cell in cells)
    return 16 if lettered or any(cell[0] == "0" for cell in cells) else 0


def numbers(text: pd.Series, decimal: str) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:
    """A column of text as numbers, (n,): quantities in seconds or volts, levels as 0 and 1, marks for unknown NaN; and which cells are none of them."""
    import pandas as pd

    lowered = text.str.lower()
    marks = (lowered.isin(list(UNKNOWN_MARKS)) | text.isna()).to_numpy(bool)
    plain = text.str.replace(",", ".", regex=False) if decimal == "," else text
    out: NDArray[np.float64] = pd.to_numeric(plain.mask(marks), errors="coerce").to_numpy(np.float64, na_value=np.nan)
    bad = np.isnan(out) & ~marks
    if bad.any():
        out[bad] = lowered[bad].map(LEVEL_WORDS).to_numpy(np.float64, na_value=np.nan)
        bad &= np.isnan(out)
    if bad.any():
        found = plain[bad].str.extract(rf"^{QUANTITY.pattern}$", flags=re.IGNORECASE)
        powers = found[1].str.lower().map({**SCALES, **VOLTS}).to_numpy(np.float64, na_value=np.nan)
        out[bad] = pd.to_numeric(found[0], errors="coerce").to_numpy(np.float64, na_value=np.nan) * 10.0**powers
        bad &= np.isnan(out)
    return out, bad


def stamps(text: pd.Series) -> tuple[NDArray[np.int64], NDArray[np.bool_]]:
    """A column of times of day as nanoseconds since 1970 (without a date: since midnight), (n,); and which cells are none."""
    import pandas as pd

    bad = ~text.str.fullmatch(STAMP.pattern, na=False).to_numpy(bool)
    clean = text.mask(bad, "00:00:00").str.replace(",", ".", regex=False).str.replace(" ", "T", regex=False)
    clean = clean.str.replace(r"^(\d:)", r"0\1", regex=True)
    dated = clean.str.contains("-", regex=False) & clean.str.contains("T", regex=False)
    times = pd.to_datetime(clean.where(dated, "1970-01-01T" + clean), format="ISO8601", utc=True, errors="coerce")
    bad |= times.isna().to_numpy(bool)
    out: NDArray[np.int64] = times.dt.as_unit("ns").to_numpy("datetime64[ns]").astype(np.int64)
    return out, bad


def words(text: pd.Series, base: int) -> tuple[NDArray[np.uint64], NDArray[np.bool_]]:
    """A column of words in hexadecimal or binary, (n,), and which cells are none. Captures repeat few words, so each is read once."""
    import pandas as pd

    codes, distinct = pd.factorize(text)
    pattern = re.compile(rf"(?:{HEX_MARKED.pattern}|[0-9a-fA-F]{{1,16}})" if base == 16 else r"(?:0[bB])?[01]{1,64}")
    fits = [bool(pattern.fullmatch(str(cell))) for cell in distinct]
    values = [int(str(cell), base) if fit else 0 for cell, fit in zip(distinct, fits, strict=True)]
    return np.array([*values, 0], dtype=np.uint64)[codes], ~np.array([*fits, False], dtype=bool)[codes]
