"""VCD (IEEE 1364, four-state) to and from traces.

Strategy: the header is small and is read word by word (`vcd_header.py`). The body is read in pieces and taken apart with array operations only
(`vcd_body.py`); of a long file a second process takes pieces apart ahead (`vcd_ahead.py`).

Rules kept: nothing that the file says is guessed away (x and z are unknown levels); what is left out (reals, events) is
noted; an error names the line. The writer is the reader's twin, also in array operations only.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator
from fractions import Fraction
from itertools import chain

import numpy as np
from numpy.typing import NDArray

from . import vcd_ahead
from .added import Added, woven
from .model import Times, Trace, written_names
from .stream import Stream
from .vcd_body import Body
from .vcd_header import PIECE, UNITS, Lines, looks_like, read_header

__all__ = ["looks_like", "read", "write"]

LONGEST_TIME = 64  # bytes in which a time line ends
MOST_ODD = 64  # pieces that are not of the plain kind, from which on a second process is of no use


def read(stream: Stream, wanted: list[str] | None = None, cores: int = 1) -> tuple[list[str], Fraction, Iterator[Trace]]:
    """Names, tick and the blocks of a VCD. `wanted` picks lines from a file that has more than fit. cores: two read a long one faster."""
    header, rest, line = read_header(stream)
    lines = Lines(header, wanted, stream.name)
    return lines.names, header.tick, _blocks(stream, Body(header, lines, stream.name, line), rest, cores > 1)


def _blocks(stream: Stream, body: Body, rest: bytes, helped: bool) -> Iterator[Trace]:
    while True:
        block = body.feed(rest)
        if block is not None:
            yield block
        if helped and body.clean and body.rest.startswith(b"#"):
            helped = False
            yield from _ahead(stream, body)
        piece = stream.read(PIECE)
        if not piece:
            break
        rest = body.rest + piece
    yield body.finish(stream.cut)


def _ahead(stream: Stream, body: Body) -> Iterator[Trace]:
    """The blocks that two processes take apart, as far as that pays; the stream is behind them then."""
    place = stream.place()
    if place is None or body.plain is None or not vcd_ahead.pays(place.size, place.at):
        return
    odd = 0
    begin = place.at - len(body.rest)
    for piece in vcd_ahead.Pieces(place.file, begin, place.size, body.plain, len(body.lines.names)):
        if piece.until < 0 or odd >= MOST_ODD:
            break
        block = None if piece.part is None or not body.clean else body.placed(piece.part, piece.until)
        behind = piece.end
        if block is not None:
            body.rest = b""
        else:  # with the time line behind it, by which it is known to be whole
            odd += 1
            data = os.pread(place.file, piece.end - piece.start + LONGEST_TIME, piece.start)
            length = data.find(b"\n", piece.end - piece.start) + 1
            block = body.feed(data[:length])
            if len(body.rest) == piece.start + length - piece.end:
                body.rest = b""
            else:  # it goes on behind that line
                behind, odd = piece.start + length, MOST_ODD
        stream.go(behind)
        if block is not None:
            yield block


def write(trace: Trace, comment: str = "", added: list[Added] | None = None, more: Iterable[Trace] = ()) -> Iterator[bytes]:
    """The trace as VCD, in pieces; the twin of `read`. The sample interval, where told, goes into a `$comment`.

    added: variables beside the lines. more: what follows the trace, piece by piece as it comes.
    """
    power = 0
    while power > -15 and (trace.tick / Fraction(10) ** power).denominator != 1:
        power -= 1
    while power < -9 and float(trace.end * trace.tick / Fraction(10) ** power) > 2**60:
        power += 1  # a tick that no timescale meets is rounded, as finely as 64 bits allow
    factor, divisor = (trace.tick / Fraction(10) ** power).as_integer_ratio()
    unit = max(exponent for exponent in UNITS.values() if exponent <= power)
    name = next(name for name, exponent in UNITS.items() if exponent == unit)
    header = [f"$timescale {10 ** (power - unit)}{name} $end"]
    if comment:
        header.insert(0, f"$comment {comment.replace('$', ' ')} $end")
    if trace.sample:
        interval = trace.sample * trace.tick
        unit_of = next((u for u, e in UNITS.items() if (interval / Fraction(10) ** e).denominator == 1), "ns")
        header.append(f"$comment sample-interval {interval / Fraction(10) ** UNITS[unit_of]} {unit_of} $end")
    header.append("$scope module capture $end")
    codes = [chr(33 + k) for k in range(len(trace.names))]
    named = written_names(tuple(name.replace("$end", "_end") for name in trace.names), spaces=False)
    header += [f"$var wire 1 {code} {name} $end" for code, name in zip(codes, named, strict=True)]
    origin = min(0, trace.start)  # VCD knows no time before zero
    events: list[tuple[int, str]] = []
    for number, entry in enumerate(added or []):
        header.append(f"$var reg {entry.bits} ~{number} {'_'.join(entry.name.split())} [{entry.bits - 1}:0] $end")
        when = _scaled(entry.times - origin, factor, divisor).tolist()
        events += [(time, f"{value} ~{number}") for time, value in zip(when, entry.values, strict=True)]
    events.sort(key=lambda event: event[0])
    header += ["$upscope $end", "$enddefinitions $end", ""]
    yield "\n".join(header).encode()
    before: NDArray[np.uint8] | None = None
    last = trace
    for piece in chain((trace,), more):
        last = piece
        for first in range(0, len(piece), ROWS):
            rows = slice(first, first + ROWS)
            times = _scaled(piece.times[rows] - origin, factor, divisor)
            row, present, before = _rows(piece, rows, times, codes, before)
            if not events:
                yield row[present].tobytes()
                continue
            lengths = present.sum(axis=1)
            yield from woven(row[present].tobytes(), np.cumsum(lengths) - lengths, times, events, first + ROWS >= len(piece))
    if not len(last.times) or last.end - 1 > int(last.times[-1]):
        yield f"#{int(_scaled(np.array([last.end - origin]), factor, divisor)[0])}\n".encode()


ROWS = 1 << 15  # moments that are written at once


def _rows(
    trace: Trace, rows: slice, times: Times, codes: list[str], before: NDArray[np.uint8] | None
) -> tuple[NDArray[np.uint8], NDArray[np.bool_], NDArray[np.uint8]]:
    """Some moments of a trace as rows of letters, which of these are written, and how all lines stand behind them. times: of the moments.
    before: how they stood."""
    width = len(codes)
    shifts = np.arange(width, dtype=trace.levels.dtype)
    unknown = np.zeros_like(trace.levels) if trace.unknown is None else trace.unknown
    bits = ((trace.levels[rows, None] >> shifts) & 1).astype(np.uint8)
    hidden = ((unknown[rows, None] >> shifts) & 1).astype(bool)
    char = np.where(hidden, np.uint8(ord("x")), bits + np.uint8(ord("0")))
    above = char[:1] ^ 0xFF if before is None else before
    changed = char != np.concatenate([above, char[:-1]])
    row = np.empty((len(times), 21 + 3 * width), dtype=np.uint8)
    present = np.ones(row.shape, dtype=bool)
    row[:, 0], row[:, 20] = ord("#"), ord("\n")
    rest = times.copy()
    for place in range(19, 0, -1):
        row[:, place] = rest % 10 + ord("0")
        present[:, place] = (rest > 0) | (place == 19)
        rest //= 10
    row[:, 21::3], row[:, 22::3], row[:, 23::3] = char, [ord(code) for code in codes], ord("\n")
    present[:, 21:] = np.repeat(changed, 3, axis=1)
    return row, present, char[-1:]


def _scaled(times: Times, factor: int, divisor: int) -> Times:
    """times * factor / divisor, rounded, without leaving 64 bits on the way."""
    whole, part = np.divmod(times, divisor)
    out: Times = whole * factor + (2 * part * factor + divisor) // (2 * divisor)
    return out
