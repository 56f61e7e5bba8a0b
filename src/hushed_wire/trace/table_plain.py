"""The plainest rows of a CSV, as most files are made of: a time with a fixed number of decimals, then a 0 or a 1 for each line.

Everything in such a row but the digits ahead of the point stands at a fixed distance from its end, so that a piece is taken apart without
looking for cells. Anything else is left to the general reader, piece by piece.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from .model import Levels, word_type
from .vcd_plain import MOST_DIGITS, decimals

__all__ = ["plain_rows"]

STRETCH = 1 << 19  # bytes that are looked at together
NEWLINE, RETURN, POINT, ZERO = 10, 13, 46, 48


def plain_rows(piece: bytes, lines: int, delimiter: str) -> tuple[NDArray[np.float64], Levels] | None:
    """Times (n,) as they are written, and packed levels (n,); None where the piece is not of the plain kind.

    piece: whole lines. lines: columns behind the time.
    """
    found = []
    begin = 0
    while begin < len(piece):  # some at a time, so that they stay in the cache
        end = piece.find(b"\n", begin + STRETCH) + 1 or len(piece)
        one = _stretch(piece[begin:end], lines, delimiter)
        if one is None:
            return None
        found.append(one)
        begin = end
    if not found:
        return None
    return np.concatenate([times for times, _ in found]), np.concatenate([levels for _, levels in found])


def _stretch(piece: bytes, lines: int, delimiter: str) -> tuple[NDArray[np.float64], Levels] | None:
    """The same of a few."""
    buf = np.frombuffer(piece, np.uint8)
    ends = np.flatnonzero(buf == NEWLINE)
    if not len(ends) or ends[-1] != len(buf) - 1:
        return None
    begins = np.concatenate([[0], ends[:-1] + 1])
    if ends[0] > 0 and buf[ends[0] - 1] == RETURN:
        ends = ends - 1
        if not (buf.take(ends) == RETURN).all():
            return None
    behind = ends - 2 * lines  # of the time
    first = piece[: max(0, int(behind[0]))]
    places = len(first) - 1 - first.rfind(b".")
    whole = behind - places - 1 - begins  # digits ahead of the point
    if b"." not in first or not 0 < places <= MOST_DIGITS or whole.min() < 1 or whole.max() + places > MOST_DIGITS:
        return None
    if not (buf.take(behind - places - 1) == POINT).all():
        return None
    kind = word_type(lines)
    levels = np.zeros(len(ends), kind)
    comma = ord(delimiter)
    for line in range(lines):
        at = behind + 2 * line
        level = buf.take(at + 1) - np.uint8(ZERO)
        if not (buf.take(at) == comma).all() or level.max() > 1:
            return None
        levels |= level.astype(kind) << kind(line)
    ahead, odd = decimals(buf, behind - places - 1, whole)
    parts, wrong = decimals(buf, behind, np.full(len(ends), places))
    if odd.any() or wrong.any():
        return None
    return (ahead * 10**places + parts) / float(10**places), levels
