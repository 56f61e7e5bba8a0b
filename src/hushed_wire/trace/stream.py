"""Bytes of a capture file: plain or gzip, from a path or a pipe, read in pieces, with a file cut short told apart."""

from __future__ import annotations

import codecs
import io
import os
import select
import zlib
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import BinaryIO, cast

from ..errors import HushedError

__all__ = ["Place", "Stream", "open_stream"]

GZIP = b"\x1f\x8b"
PIECE = 1 << 18
ENOUGH = 4096  # bytes of a pipe by which its format is told


@dataclass(frozen=True, slots=True)
class Place:
    """Where a plain file stands: its descriptor, the byte that comes next, and how many bytes it has."""

    file: int
    at: int
    size: int


class Stream:
    """`read(n)` gives up to n bytes and b"" at the end; `head` is what the file starts with; `cut` tells a broken gzip."""

    def __init__(self, file: BinaryIO, name: str, own: bool = True) -> None:
        """own: the file is closed with the stream (standard input is not)."""
        self.name, self._own = name, own
        self.cut = False
        self._file = file
        self.live = not own  # what comes from a pipe is handed on as it comes
        self.ended = False
        first = file.read(PIECE) if own else self._begun()
        self.compressed = first.startswith(GZIP)
        self._recoder: codecs.IncrementalDecoder | None = None
        self._unpack = zlib.decompressobj(wbits=31) if self.compressed else None
        self._packed = first if self.compressed else b""
        self._plain = b"" if self.compressed else first
        if self.compressed:
            self._plain = self._inflate(PIECE)
        self.head = self._plain[:65536]

    def _begun(self) -> bytes:
        """Enough of a pipe to tell what it carries."""
        out = b""
        while len(out) < ENOUGH and (piece := self._some(PIECE)):
            out += piece
        return out

    def _some(self, size: int) -> bytes:
        """What is there, at most `size` bytes, waiting only while there is nothing."""
        read: Callable[[int], bytes] = getattr(self._file, "read1", self._file.read)
        out = read(size) if self.live else self._file.read(size)
        self.ended = self.ended or not out
        return out

    def _waiting(self) -> bool:
        """Whether more is there at once."""
        try:
            return bool(select.select([self._file], [], [], 0)[0])
        except (OSError, ValueError, io.UnsupportedOperation):
            return True  # no pipe, so nothing to wait for

    def _inflate(self, size: int) -> bytes:
        """At most `size` bytes more from the compressed file, so that memory stays bounded whatever the file claims."""
        while not self.cut:
            assert self._unpack is not None
            if self._unpack.eof:  # gzip files may be several members behind one another
                self._packed = self._unpack.unused_data or self._file.read(PIECE)
                if not self._packed:
                    return b""
                self._unpack = zlib.decompressobj(wbits=31)
            if not self._packed:
                self._packed = self._file.read(PIECE)
                if not self._packed:
                    self.cut = True
                    return b""
            try:
                out = self._unpack.decompress(self._packed, size)
            except zlib.error:
                self.cut = True
                return b""
            self._packed = self._unpack.unconsumed_tail
            if out:
                return out
        return b""

    def read(self, size: int = 1 << 20) -> bytes:
        """Up to `size` bytes; b"" at the end of the file."""
        if self._plain:
            out, self._plain = self._plain[:size], self._plain[size:]
            return out
        piece = self._next(size)
        while self._recoder is not None:
            out = self._recoder.decode(piece, final=not piece).encode("utf-8", "replace")
            if out or not piece:
                return out
            piece = self._next(size)
        return piece

    def _next(self, size: int) -> bytes:
        return self._inflate(size) if self.compressed else self._some(size)

    def recode(self) -> None:
        """Text in UTF-16, as some programs export it, is handed on in UTF-8 from here on."""
        self._recoder = codecs.getincrementaldecoder("utf-16")("replace")
        self._plain = self._recoder.decode(self._plain).encode("utf-8", "replace")
        self.head = self._plain[:65536]

    def readinto(self, buffer: memoryview, unit: int = 1) -> int:
        """Fills `buffer` as far as the file goes (a pipe: as far as it has come, in whole units); returns how many bytes."""
        done = 0
        while done < len(buffer):
            if self.live and done and done % unit == 0 and not self._plain and not self._waiting():
                break
            if self._plain or self.compressed or self.live or self._recoder is not None:
                piece = self.read(len(buffer) - done)
                count = len(piece)
                buffer[done : done + count] = piece
            else:
                count = cast(io.BufferedReader, self._file).readinto(buffer[done:])
            if not count:
                self.ended = True
                break
            done += count
        return done

    def position(self) -> tuple[int, int]:
        """Bytes of the file (as it is packed) that were read, and how many it has; zeros for a pipe."""
        if self.live or self._file.closed:
            return 0, 0
        try:
            return self._file.tell(), os.fstat(self._file.fileno()).st_size
        except (OSError, ValueError, io.UnsupportedOperation):
            return 0, 0

    def place(self) -> Place | None:
        """Where it stands, of a plain file that can be read at any place; None of what is packed, recoded or no file."""
        if self.live or self.compressed or self._recoder is not None:
            return None
        try:
            file = self._file.fileno()
            return Place(file, self._file.tell() - len(self._plain), os.fstat(file).st_size)
        except (OSError, ValueError, io.UnsupportedOperation):
            return None

    def go(self, at: int) -> None:
        """Goes on at a byte of a file that has a place."""
        self._plain = b""
        self._file.seek(at)

    def close(self) -> None:
        """Closes the file, if it is the stream's own."""
        if self._own:
            self._file.close()


def open_stream(path: str | Path, stdin: BinaryIO | None = None) -> Stream:
    """Opens a capture; "-" is `stdin`. Raises HushedError naming the file, the reason and what to do."""
    name = "standard input" if str(path) == "-" else str(path)
    try:
        if str(path) == "-" and stdin is not None:
            return Stream(stdin, name, own=False)
        if Path(path).is_dir():
            raise HushedError("is a folder, not a file", where=name, remedy="name a file in it")
        return Stream(Path(path).open("rb"), name)
    except FileNotFoundError as error:
        raise HushedError("no such file", where=name, remedy="check the path; names are taken from the current folder") from error
    except PermissionError as error:
        raise HushedError("may not be read", where=name, remedy="check the permissions of the file (chmod +r)") from error
    except OSError as error:
        raise HushedError(f"cannot be read: {error.strerror or error}", where=name) from error
