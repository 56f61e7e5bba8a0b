"""NPZ captures: NumPy arrays in a ZIP archive. The form is our own; docs/captures.md describes it.

Changes (what `write` makes): times, levels, unknown, names, tick, end, sample. Samples (what people have): one array a line, all of one
length, and `rate`. Nothing in such a file is executed: pickled objects are refused.
"""

from __future__ import annotations

import io
import zipfile
import zlib
from fractions import Fraction
from typing import Any

import numpy as np

from ..errors import HushedError
from .model import MAX_LINES, Trace, fold, word_type
from .stream import Stream

__all__ = ["looks_like", "read", "write"]

LARGEST = 1 << 31  # bytes of an archive that is read as a whole
REMEDY = "see docs/captures.md for what such a file holds"


def looks_like(head: bytes) -> bool:
    """Whether this is an archive of arrays."""
    return head.startswith(b"PK\x03\x04") and b".npy" in head[:300]


def read(stream: Stream, rate: Fraction | None = None) -> Trace:
    """The trace of an archive; raises HushedError naming the array that is wrong."""
    data = bytearray()
    while piece := stream.read(1 << 20):
        data += piece
        if len(data) > LARGEST:
            raise HushedError(
                "more than 2 GiB of arrays", where=stream.name, remedy="write a part of it, or raw samples with --raw"
            )
    try:
        with np.load(io.BytesIO(bytes(data)), allow_pickle=False) as archive:
            total = sum(entry.file_size for entry in archive.zip.infolist())
            if total > LARGEST:
                raise HushedError("more than 2 GiB of arrays", where=stream.name, remedy="write a part of it")
            arrays = {name: archive[name] for name in archive.files}
    except (ValueError, OSError, EOFError, KeyError, RuntimeError, zlib.error, zipfile.BadZipFile, NotImplementedError) as error:
        raise HushedError(f"the arrays cannot be read: {error}"[:160], where=stream.name, remedy=REMEDY) from error
    try:
        return _changes(arrays) if "times" in arrays else _samples(arrays, rate)
    except HushedError as error:
        error.where = error.where or stream.name
        raise
    except (ValueError, TypeError, IndexError, OverflowError) as error:
        raise HushedError(f"the arrays do not go together: {error}"[:160], where=stream.name, remedy=REMEDY) from error


def _whole(arrays: dict[str, Any], name: str, default: int | None = None) -> int:
    if name not in arrays and default is not None:
        return default
    if name not in arrays or arrays[name].size != 1 or arrays[name].dtype.kind not in "iu":
        raise HushedError(f"'{name}' is missing, or no whole number", remedy=REMEDY)
    return int(arrays[name].reshape(-1)[0])


def _changes(arrays: dict[str, Any]) -> Trace:
    for name in ("times", "levels", "names", "tick"):
        if name not in arrays or arrays[name].ndim != 1 or not len(arrays[name]):
            raise HushedError(f"'{name}' is missing, or no list", remedy=REMEDY)
    times, levels, names, tick = (arrays[name] for name in ("times", "levels", "names", "tick"))
    if (
        times.dtype.kind not in "iu"
        or levels.dtype.kind not in "iu"
        or len(times) != len(levels)
        or (np.diff(times.astype(np.int64)) <= 0).any()
    ):
        raise HushedError("'times' do not ascend, or there are not as many 'levels'", remedy=REMEDY)
    if names.dtype.kind != "U" or not 1 <= len(names) <= MAX_LINES or len(set(names.tolist())) != len(names):
        raise HushedError(f"'names' are no 1 to {MAX_LINES} different texts", remedy=REMEDY)
    if tick.dtype.kind not in "iu" or len(tick) != 2 or min(tick.tolist()) <= 0:
        raise HushedError("'tick' is not two numbers: seconds as numerator and denominator", remedy=REMEDY)
    kind = word_type(len(names))
    unknown = arrays.get("unknown")
    if unknown is not None and (unknown.shape != levels.shape or unknown.dtype.kind not in "iu"):
        raise HushedError("'unknown' is not as long as 'levels'", remedy=REMEDY)
    end = max(_whole(arrays, "end", int(times[-1]) + 1), int(times[-1]) + 1)
    return Trace(
        tuple(str(name) for name in names.tolist()), times.astype(np.int64), levels.astype(kind), end,
        Fraction(int(tick[0]), int(tick[1])), None if unknown is None else unknown.astype(kind), max(0, _whole(arrays, "sample", 0)),
    )  # fmt: skip


def _samples(arrays: dict[str, Any], rate: Fraction | None) -> Trace:
    lines = {name: array for name, array in arrays.items() if array.ndim == 1 and array.size > 1 and array.dtype.kind in "biu"}
    if not lines or len(lines) > MAX_LINES:
        raise HushedError("there are no arrays of samples in it", remedy=REMEDY)
    lengths = {len(array) for array in lines.values()}
    if len(lengths) > 1:
        raise HushedError("the lines have different numbers of samples", remedy="write all lines with the same length")
    if rate is None:
        told = arrays.get("rate")
        if (
            told is None
            or told.size != 1
            or told.dtype.kind not in "iuf"
            or not np.isfinite(told).all()
            or float(told.reshape(-1)[0]) <= 0
        ):
            raise HushedError(
                "nothing tells the sample rate", remedy="put 'rate' (samples a second) into the file, or say --rate 20MHz"
            )
        rate = Fraction(float(told.reshape(-1)[0])).limit_denominator(10**6)
    times, numbers, values = [], [], []
    for number, array in enumerate(lines.values()):
        level = array != 0
        at = np.append(0, np.flatnonzero(level[1:] != level[:-1]) + 1)
        times.append(at)
        numbers.append(np.full(len(at), number, np.uint8))
        values.append(level[at].astype(np.uint8))
    order = np.argsort(np.concatenate(times), kind="stable")
    changed, packed, _ = fold(
        np.concatenate(times)[order], np.concatenate(numbers)[order], np.concatenate(values)[order], len(lines)
    )
    return Trace(tuple(lines), changed, packed, lengths.pop(), 1 / rate, None, 1)


def write(trace: Trace) -> bytes:
    """The trace as an archive; the twin of `read`."""
    up, down = trace.tick.as_integer_ratio()
    if max(up, down) >= 1 << 63:
        raise HushedError("the tick is too fine for this format", remedy="write VCD")
    arrays: dict[str, Any] = {
        "times": trace.times, "levels": trace.levels, "names": np.array(trace.names, "U"), "tick": np.array([up, down], np.int64),
        "end": np.array(trace.end, np.int64), "sample": np.array(trace.sample, np.int64),
    }  # fmt: skip
    if trace.unknown is not None:
        arrays["unknown"] = trace.unknown
    out = io.BytesIO()
    np.savez_compressed(out, **arrays)
    return out.getvalue()
