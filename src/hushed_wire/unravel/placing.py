"""Which words move a pointer or set a window, worked out from what steps while data follow.

Four kinds of memory are known: pages of eight rows, windows of pixels, cells of letters, registers of digits. Each is tried; the score of a
machine says how much of the data it accounts for, and by how many words that agree.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from .blocks import Block, Told
from .machine import Machine, Pointer, Window

__all__ = ["machines"]

MOST_PAGES = 32
LEAST_BLOCKS = 4
LETTERS = 0.9  # share of data that can be read where they are text
LONGEST_ROW = 40
TAIL = 40  # words of a lead in which windows are looked for
LEAST_AREA = 16


def machines(told: Told, marked: bool, pairs: bool = False) -> list[Machine]:
    """Every way that makes sense, the best first. marked: data are told from commands; pairs: words are of register and value."""
    found: list[Machine] = []
    if marked:
        found += [*_windows(told), *_pointers(told), *_letters(told)]
    else:
        from .digits import digits

        found += digits(told.steps, pairs)
    return sorted(found, key=lambda own: -own.score)


# ---- windows ----


Ends = tuple[NDArray[np.int64], NDArray[np.int64]]


@dataclass(frozen=True)
class _Range:
    """Two numbers that stand side by side in every lead. at: the place of the first. wide: bytes of each."""

    at: int
    wide: int
    ends: Ends

    @property
    def behind(self) -> int:
        """The place behind it."""
        return self.at + 2 * self.wide

    @property
    def cells(self) -> NDArray[np.int64]:
        """(n,) how many it spans."""
        out: NDArray[np.int64] = self.ends[1] - self.ends[0] + 1
        return out


def _windows(told: Told) -> Iterator[Machine]:
    """Two ranges ahead of a block, of which the product is as many cells as the block has."""
    blocks = [block for block in told.blocks if len(block.data) >= LEAST_AREA]
    length = min(TAIL, told.usual_lead)
    blocks = [block for block in blocks if len(block.lead) >= length]
    if length < 4 or not blocks:
        return
    leads = np.array([[value for _, value in block.lead[-length:]] for block in blocks], np.int64)
    marks = np.array([[data for data, _ in block.lead[-length:]] for block in blocks])
    size = np.array([len(block.data) for block in blocks])
    ranges = [_Range(at, wide, _ends(leads, at, wide)) for wide in (2, 1) for at in range(1, length - 2 * wide + 1)]
    ranges = [
        own for own in ranges if bool((own.cells > 0).all()) and not (told.parameters == "data" and not _marked(marks, own))
    ]
    best: tuple[tuple[float, ...], Machine] | None = None
    for a in ranges:
        for b in ranges:
            codes = int(leads[0, a.at - 1]), int(leads[0, b.at - 1])
            if b.at <= a.behind or a.wide != b.wide or codes[0] == codes[1]:
                continue
            if (leads[:, a.at - 1] != codes[0]).any() or (leads[:, b.at - 1] != codes[1]).any():
                continue
            for each in (1, 2, 3):
                share = float(np.mean(a.cells * b.cells * each == size))
                # Among so many words some pair is as large as one block by chance: it stands right ahead of the data, or fits several sizes.
                if b.behind < length - 1 and len(np.unique(size)) < 3:
                    continue
                if share < MOSTLY_WHOLE or int((a.cells * b.cells).max()) < LEAST_AREA:
                    continue
                made = _window_machine(told, codes, a, b, each, share)
                rank = share, float(min(codes) != 0), float(b.at - 1 == a.behind), float(a.wide), float(each > 1)
                if made is not None and (best is None or rank > best[0]):
                    best = rank, made
    if best is not None:
        yield best[1]


def _marked(marks: NDArray[np.bool_], own: _Range) -> bool:
    """Whether a range is marked as data, and the code ahead of it is not."""
    return bool(marks[:, own.at : own.behind].all()) and not bool(marks[:, own.at - 1].any())


MOSTLY_WHOLE = 0.7  # share of blocks that fill their window to the byte


def _ends(leads: NDArray[np.int64], at: int, wide: int) -> Ends:
    if wide == 1:
        return leads[:, at], leads[:, at + 1]
    return leads[:, at] << 8 | leads[:, at + 1], leads[:, at + 2] << 8 | leads[:, at + 3]


def _window_machine(told: Told, codes: tuple[int, int], a: _Range, b: _Range, each: int, share: float) -> Machine | None:
    counts = [int(own.cells.max()) for own in (a, b)]
    paged = each == 1
    if paged and min(counts) > MOST_PAGES:
        return None
    ordered = ((a, codes[0]), (b, codes[1]))
    (columns, column_code), (lines, line_code) = ordered if not paged or counts[0] >= counts[1] else ordered[::-1]
    first_column, first_line = int(columns.ends[0].min()), int(lines.ends[0].min())
    width, height = int(columns.ends[1].max()) - first_column + 1, int(lines.ends[1].max()) - first_line + 1
    windows = {
        "column": Window(column_code, a.wide, first_column, first_column + width - 1),
        "line": Window(line_code, a.wide, first_line, first_line + height - 1),
    }
    whole = f"{share:.0%} of the blocks have as many bytes as their window has cells"
    because = f"{whole}: {width} columns of {height} {'pages' if paged else 'lines'}" + (
        "" if paged else f", {each} bytes a pixel"
    )
    machine = Machine("paged" if paged else "pixel", 0.9 + 0.1 * share, width, height, because, windows=windows)
    machine.write = _write_code(told, b)
    machine.bytes_a_cell, machine.first_column, machine.first_line = each, first_column, first_line
    return machine


def _write_code(told: Told, behind: _Range) -> int:
    """The code right ahead of the data, where one stands behind the windows."""
    last = {block.lead[-1] for block in told.blocks}
    if len(last) != 1:
        return -1
    data, value = next(iter(last))
    return value if not data and (told.parameters == "data" or value not in behind.ends[1] & 0xFF) else -1


# ---- pointers ----


def _matrix(told: Told) -> tuple[NDArray[np.int64], list[Block], int]:
    """(n, length) the words ahead of each block, as far as most have them."""
    length = told.usual_lead
    blocks = [block for block in told.blocks if len(block.lead) >= length]
    if not length or length > 8:
        return np.empty((0, 0), np.int64), [], 0
    return np.array([[value for _, value in block.lead[-length:]] for block in blocks], np.int64), blocks, length


def _pointers(told: Told) -> Iterator[Machine]:
    """A page that steps from block to block, and a column."""
    leads, blocks, length = _matrix(told)
    if len(blocks) < LEAST_BLOCKS:
        return
    size = np.array([len(block.data) for block in blocks])
    best: Machine | None = None
    for at in range(length):
        page = _numbers(leads, at)
        if page is None or not 2 <= len(page.seen) <= MOST_PAGES:
            continue
        number = leads[:, at] - page.code
        steps = np.abs(np.diff(number))
        counted = float(np.mean(steps[np.diff([block.capture for block in blocks]) == 0] <= 1)) if len(steps) else 0.0
        spread = page.seen[-1] - page.seen[0] + 1
        for column, pointers in _columns(leads, at, length):
            width = int((column + size).max() - column.min())
            filled = _filled(number, column, size, page.seen[0], int(column.min()), spread, width)
            tight = len(page.seen) / spread
            alike = (page.behind >= 0) == (pointers["column"].behind >= 0)  # both are parameters, or neither is
            known = bool(pointers["column"].sure or len(pointers) > 1)
            score = 0.33 * counted + 0.35 * filled + 0.2 * tight + 0.04 * known + 0.06 * alike
            if best is None or score > best.score:
                because = (
                    f"{page.code:02X}h counts from {page.seen[0]} to {page.seen[-1]} while {width} columns follow each time; "
                    f"{filled:.0%} of what that spans is written"
                )
                best = Machine(
                    "paged", score, width, spread, because, {"page": page, **pointers},
                    first_column=int(column.min()), first_line=page.seen[0],
                )  # fmt: skip
    if best is not None and best.width >= 8:
        yield best


def _numbers(leads: NDArray[np.int64], at: int) -> Pointer | None:
    """A position as a word that holds a number: bits that never change, and those below that do; None where it never moves."""
    values = np.unique(leads[:, at])
    if len(values) < 2:
        return None
    moving = int(np.bitwise_or.reduce(values ^ values[0]))
    bits = moving.bit_length()
    code = int(values[0]) >> bits << bits
    behind = -1
    if not code and at and len(np.unique(leads[:, at - 1])) == 1:
        behind = int(leads[0, at - 1])
    return Pointer(code, bits, tuple(int(value) - code for value in values), behind)


def _columns(leads: NDArray[np.int64], page: int, length: int) -> Iterator[tuple[NDArray[np.int64], dict[str, Pointer]]]:
    """Where each block's columns begin, by every reading of the words beside the page."""
    rest = [at for at in range(length) if at != page]
    page_behind = page - 1 if _numbers(leads, page) is not None and (own := _numbers(leads, page)) and own.behind >= 0 else -1
    rest = [at for at in rest if at != page_behind]
    moving = [at for at in rest if len(np.unique(leads[:, at])) > 1]
    if len(moving) > 2:
        return
    for high, low in _nibbles(leads, rest):
        if set(moving) <= {high, low}:
            column = (leads[:, high] & 15) << 4 | leads[:, low] & 15
            yield column, {"column-high": _part(leads, high, 4), "column": _part(leads, low, 4)}
    for at in rest:
        if not set(moving) <= {at}:
            continue
        behind = int(leads[0, at - 1]) if at and at - 1 in rest and len(np.unique(leads[:, at - 1])) == 1 else -1
        if (leads[:, at] >= 0x80).all() and behind < 0:
            yield leads[:, at] & 0x7F, {"column": _part(leads, at, 7)}
        elif behind >= 0:
            yield leads[:, at], {"column": Pointer(0, 8, tuple(np.unique(leads[:, at]).tolist()), behind, at in moving)}
        elif len(rest) == 1:
            own = _part(leads, at, max(4, int(np.bitwise_or.reduce(leads[:, at] ^ leads[0, at])).bit_length()))
            yield leads[:, at] - own.code, {"column": own}
    if not moving:
        yield np.zeros(len(leads), np.int64), {"column": Pointer(-1, 0, (0,), sure=False)}


def _part(leads: NDArray[np.int64], at: int, bits: int) -> Pointer:
    code = int(leads[0, at]) >> bits << bits
    return Pointer(code, bits, tuple(np.unique(leads[:, at] & ((1 << bits) - 1)).tolist()), sure=len(np.unique(leads[:, at])) > 1)


def _nibbles(leads: NDArray[np.int64], rest: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Pairs of words whose upper halves never change and differ: halves of a column."""
    for high, low in ((a, b) for pair in pairwise(rest) for a, b in (pair, pair[::-1])):
        tops = np.unique(leads[:, high] >> 4), np.unique(leads[:, low] >> 4)
        if len(tops[0]) == len(tops[1]) == 1 and tops[0][0] != tops[1][0]:
            yield high, low


def _filled(
    page: NDArray[np.int64],
    column: NDArray[np.int64],
    size: NDArray[np.int64],
    first_page: int,
    first: int,
    pages: int,
    width: int,
) -> float:
    """The share of the rectangle that all blocks span that is written."""
    if pages * width > 1 << 20 or width < 1:
        return 0.0
    seen = np.zeros((pages, width), bool)
    for line, at, count in zip((page - first_page).tolist(), (column - first).tolist(), size.tolist(), strict=True):
        seen[line, at : at + count] = True
    return float(seen.mean())


# ---- letters ----


def _letters(told: Told) -> Iterator[Machine]:
    """Short blocks that can be read, behind an address."""
    blocks = [block for block in told.blocks if block.lead]
    data = b"".join(block.data for block in blocks)
    if len(blocks) < 2 or not data or max(len(block.data) for block in blocks) > 2 * LONGEST_ROW:
        return
    readable = sum(0x20 <= byte < 0x7F for byte in data) / len(data)
    lengths = {len(block.lead) for block in blocks}
    if readable < LETTERS or min(lengths) < 1:
        return
    last = np.array([block.lead[-1][1] for block in blocks])
    values = np.unique(last)
    base = 0x80 if bool((values >= 0x80).all()) else 0x00
    if base == 0x00 and int(values.max()) >= 0x80:
        return
    rows = _rows([(int(at) - base, len(block.data)) for at, block in zip(last, blocks, strict=True)])
    width = max(count for _, count in rows)
    because = f"{readable:.0%} of the data can be read; they begin at {', '.join(f'{at:02X}h' for at, _ in rows[:4])}"
    pointer = Pointer(base, 7, tuple(int(value) - base for value in values), sure=len(values) > 1)
    yield Machine(
        "character", 0.6 + 0.4 * readable, width, len(rows), because, {"cell": pointer}, rows=tuple(at for at, _ in rows)
    )


def _rows(written: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """(first address, letters) of each row: where texts begin that do not begin within another one."""
    rows: list[tuple[int, int]] = []
    for at, count in sorted(set(written), key=lambda own: (own[0], -own[1])):
        if rows and at < rows[-1][0] + rows[-1][1]:
            first, known = rows[-1]
            rows[-1] = first, max(known, at + count - first)
        else:
            rows.append((at, count))
    return rows
