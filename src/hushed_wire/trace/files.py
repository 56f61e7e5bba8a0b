"""Opens captures of any format. Formats are told by content, never by the name; raw samples have none, so they are named.

`open_capture` gives a Source whose blocks come in order, so that a long capture need not be held; `read_capture` gives
the whole trace. `write_capture` writes the format that the file's ending asks for, by way of a temporary file.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING, BinaryIO, TypeVar

from ..errors import HushedError
from ..written_file import replace_file
from .model import Samples, Trace, joined
from .stream import Stream, open_stream

if TYPE_CHECKING:
    from .added import Added
    from .model import Waveforms

__all__ = ["Source", "open_capture", "read_capture", "write_capture"]

# What people hand over by mistake, by the first bytes.
STRANGERS = {
    b"\x89PNG": "a PNG picture",
    b"\xff\xd8\xff": "a JPEG picture",
    b"GIF8": "a GIF picture",
    b"BM": "a bitmap picture",
    b"P1": "a PBM picture",
    b"P4": "a PBM picture",
    b"%PDF": "a PDF document",
    b"PK\x03\x04": "a ZIP archive (unpack it first)",
    b"\x7fELF": "a program",
    b"{": "a JSON document",
    b"<": "an XML or HTML document",
}


PIECE = 1 << 19  # changes of a block of what was read whole
Piece = TypeVar("Piece", Trace, Samples)


@dataclass
class Source:
    """A capture that is open: `blocks()` gives its traces in order, once."""

    path: str
    kind: str  # "VCD", "CSV", "raw"
    names: list[str]
    tick: Fraction
    _blocks: Iterator[Trace]
    waveforms: Waveforms | None = None
    stream: Stream | None = None
    _samples: Iterator[Samples] | None = None
    _whole: Trace | None = None  # of formats that are read whole: blocks are parts of it

    @property
    def whole(self) -> bool:
        """Whether its format is read whole, so that all of it is there already."""
        return self._whole is not None

    def position(self) -> tuple[int, int]:
        """Bytes of the file that were read, and how many there are; zeros where that is not known."""
        return (0, 0) if self.stream is None else self.stream.position()

    def blocks(self) -> Iterator[Trace]:
        """The blocks in order; each starts where the one before ended."""
        return self._blocks

    def pieces(self) -> Iterator[Trace | Samples]:
        """The same; of raw samples the samples themselves, which are only there until the next piece is asked for."""
        return self._blocks if self._samples is None else self._samples

    def read(self, blocks: Iterator[Trace] | None = None) -> Trace:
        """The whole capture as one trace. blocks: its blocks, where somebody watches how they come."""
        return joined(blocks or self._blocks) if self._whole is None else self._whole


def open_capture(
    path: str | Path,
    *,
    stdin: BinaryIO | None = None,
    raw: int | str | None = None,
    rate: Fraction | None = None,
    wanted: list[str] | None = None,
    named: list[str] | None = None,
    threshold: float | None = None,
    hysteresis: float | None = None,
    cores: int = 1,
) -> Source:
    """Opens a capture.

    path: file, or "-" for `stdin`. raw: bytes a sample, or lines in packed bits ("2bit"), for raw samples (needs `rate`). rate: samples a second.
    wanted: lines that matter, by name or number: changes of others may be left out. named: lines to take where a file has more than fit
    and all of them matter. threshold, hysteresis: volts, for files in volts. cores: with two, a second process helps with a long VCD.
    Raises HushedError naming file, place and remedy.
    """
    stream = open_stream(path, stdin)
    try:
        return _opened(stream, raw, rate, wanted, named, threshold, hysteresis, cores)
    except BaseException:
        stream.close()
        raise


def _opened(
    stream: Stream,
    raw: int | str | None,
    rate: Fraction | None,
    wanted: list[str] | None,
    named: list[str] | None,
    threshold: float | None,
    hysteresis: float | None,
    cores: int,
) -> Source:
    """The source that a stream turns out to be."""
    if raw is not None:
        if rate is None:
            raise HushedError("raw samples carry no sample rate", where=stream.name, remedy="add it, like --raw 1 --rate 20MHz")
        from .raw import lines_in, samples
        from .raw import read as read_raw

        lines = [int(name) for name in wanted if name.isdecimal() and int(name) < lines_in(raw)] if wanted else None
        names, tick, blocks = read_raw(stream, raw, rate, lines or None)
        out = Source(stream.name, "raw", names, tick, _closing(stream, blocks), stream=stream)
        if isinstance(raw, int):
            out._samples = _closing(stream, samples(stream, raw, rate, lines or None))
        return out
    if stream.head.startswith((b"\xff\xfe", b"\xfe\xff")):
        stream.recode()
    head = stream.head
    if not head:
        reason = "the file is empty" if not stream.cut else "the gzip data is damaged from the start"
        raise HushedError(reason, where=stream.name, remedy="record or export the capture again")
    from . import vcd

    if vcd.looks_like(head):
        names, tick, blocks = vcd.read(stream, wanted or named, cores)
        return Source(stream.name, "VCD", names, tick, _closing(stream, blocks), stream=stream)
    from . import npz

    if npz.looks_like(head):
        trace = npz.read(stream, rate)
        stream.close()
        return _of_whole(stream, "NPZ", trace)
    for magic, what in STRANGERS.items():
        # Two letters may also open a table (pins are called P1): pictures go on with white space or with zero bytes.
        short = magic in (b"P1", b"P4", b"BM")
        if head.startswith(magic) and (not short or head[2:3].isspace() or b"\0" in head[2:16]):
            raise HushedError(
                f"this is {what}, not a capture",
                where=stream.name,
                remedy="give a capture in VCD or CSV, or raw with --raw and --rate",
            )
    from . import table

    if table.looks_like(head):
        read = table.opened(stream, rate, threshold, hysteresis, wanted or named)
        if len(read) == 3:
            columns, tick, blocks = read
            return Source(stream.name, "CSV", list(columns), tick, _closing(stream, blocks), stream=stream)
        stream.close()
        return _of_whole(stream, "CSV", *read)
    seen, remedy = table.nearest_form(head)
    raise HushedError(f"neither a VCD nor a CSV of levels or volts; it looks like {seen}", where=stream.name, remedy=remedy)


def _of_whole(stream: Stream, kind: str, trace: Trace, waveforms: Waveforms | None = None) -> Source:
    """The source of a format that is read whole."""
    return Source(stream.name, kind, list(trace.names), trace.tick, trace.pieces(PIECE), waveforms, _whole=trace)


def _closing(stream: Stream, blocks: Iterator[Piece]) -> Iterator[Piece]:
    """The blocks, and the file closed behind the last."""
    try:
        yield from blocks
    finally:
        stream.close()


def read_capture(path: str | Path, **options: object) -> Trace:
    """The whole capture; options as for `open_capture`."""
    return open_capture(path, **options).read()  # type: ignore[arg-type]


def encode_capture(
    name: str, trace: Trace, waveforms: Waveforms | None = None, comment: str = "", added: list[Added] | None = None
) -> Iterator[bytes]:
    """The bytes of a capture in the format that `name` asks for by its ending: .vcd, .csv, .npz or .raw, with .gz packed.

    added: variables beside the lines, in a VCD.
    """
    endings = [ending.lower() for ending in Path(name).suffixes]
    packed = bool(endings) and endings[-1] == ".gz"
    kind = (endings[:-1] if packed else endings)[-1:]
    if name == "-" or kind == [".vcd"]:
        if waveforms is not None:
            raise HushedError("VCD holds levels, not volts", where=name, remedy="write volts to a .csv file")
        from . import vcd

        pieces = vcd.write(trace, comment, added)
    elif kind == [".csv"]:
        from . import table

        pieces = table.write(waveforms if waveforms is not None else trace)
    elif kind == [".npz"]:
        from . import npz

        pieces = iter([npz.write(trace)])
    elif kind in ([".raw"], [".bin"]):
        from . import raw

        pieces = raw.write(trace)
    else:
        raise HushedError(
            "the ending does not tell the format",
            where=name,
            remedy="end the name in .vcd or .csv (or .vcd.gz, .csv.gz), .npz or .raw",
        )
    if added and kind not in ([], [".vcd"]):
        raise HushedError("only a VCD can hold decoded words beside the lines", where=name, remedy="end the name in .vcd")
    if not packed:
        return pieces
    import gzip

    return iter([gzip.compress(b"".join(pieces), compresslevel=6, mtime=0)])


def write_capture(path: str | Path, trace: Trace, waveforms: Waveforms | None = None, comment: str = "") -> None:
    """Writes a capture; see `encode_capture` for formats. Raises HushedError, and leaves the target as it was."""
    replace_file(path, encode_capture(str(path), trace, waveforms, comment))
