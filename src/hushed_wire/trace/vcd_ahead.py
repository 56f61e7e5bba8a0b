"""The body of a long VCD, taken apart by two processes: a helper is given pieces to come, and what it is not done with in time is done here.

A piece ends where a time line begins, so that it can be taken apart before what comes ahead of it is known (`vcd_plain.py`); that it fits what
is ahead is looked at when its turn comes. Only this process tells the helper what to do, by a pipe, and the helper ends when that pipe does,
however this process went. Its columns come back in memory that both share. If it cannot begin, or dies, all goes on here.
"""

from __future__ import annotations

import contextlib
import mmap
import os
import select
import signal
import struct
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, NoReturn

import numpy as np
from numpy.typing import NDArray

from .model import word_type
from .vcd_plain import MOST_DIGITS, Parted, Plain

__all__ = ["Piece", "Pieces", "pays"]

SMALLEST = 16 << 20  # bytes from which on a second process pays
STRETCH = 1 << 19  # bytes of a piece
BEYOND = 4096  # bytes behind a piece in which the next time line has to begin, and to end
SLOTS = 6  # pieces that the helper is given ahead
AHEAD = 4  # that are done here while the helper is at one
SHORTEST = 6  # bytes of a moment and its change: `#1`, `0a`
ORDER, ANSWER = struct.Struct("=q"), struct.Struct("=qqqqqQQq")


@dataclass(frozen=True, slots=True)
class Piece:
    """A stretch of a file. start, end: its bytes; until: the time behind it, -1 where no time line was found. part: None where it is not plain."""

    start: int
    end: int
    until: int
    part: Parted | None


def pays(size: int, begin: int) -> bool:
    """Whether a file of `size` bytes whose changes start at `begin` is worth a second process, and there can be one."""
    return size - begin >= SMALLEST and (os.cpu_count() or 1) > 1 and hasattr(os, "fork")


class Pieces:
    """The pieces of a file from `begin` on, in order."""

    def __init__(self, file: int, begin: int, size: int, plain: Plain, lines: int) -> None:
        """file: descriptor of a file of `size` bytes. begin: where a time line starts. lines: of the capture."""
        self.file, self.begin, self.size, self.plain = file, begin, size, plain
        self.kind = np.dtype(word_type(lines))
        self.count = -(-(size - begin) // STRETCH)
        self.room = (STRETCH + BEYOND) // SHORTEST + 1  # moments of a piece, at most
        self.slot = self.room * (8 + self.kind.itemsize)
        self.shared: mmap.mmap | None = None
        self.helper = self.orders = self.answers = -1
        self.given: list[int] = []  # pieces that the helper is at, in order
        self.done: dict[int, Piece] = {}
        self.next = 0  # the first that nobody is at

    def cut(self, number: int) -> Piece:
        """Takes a piece apart."""
        at = self.begin + number * STRETCH - 1  # a byte more, which may be the line break
        data = os.pread(self.file, STRETCH + BEYOND, at)
        start = data.find(b"\n#") + 1 if number else 1
        end = data.find(b"\n#", STRETCH) + 1
        stop = data.find(b"\n", end)
        digits = data[end + 1 : stop]
        if not start or not end > start or not digits.isdigit() or len(digits) > MOST_DIGITS:
            return Piece(at + start, at + end, -1, None)
        return Piece(at + start, at + end, int(digits), self.plain.parted(data[start:end], int(digits)))

    def __iter__(self) -> Iterator[Piece]:
        try:
            self._begin()
            for number in range(self.count):
                while number not in self.done:
                    self._give()
                    if not self.given or (len(self.done) < AHEAD and self.next < self.count and not self._ready()):
                        self.done[self.next] = self.cut(self.next)
                        self.next += 1
                    else:
                        self._take()
                yield self.done.pop(number)
        finally:
            self.close()

    def _begin(self) -> None:
        """Starts the helper."""
        with contextlib.suppress(OSError, ValueError):
            self.shared = mmap.mmap(-1, SLOTS * self.slot)
            theirs, self.orders = os.pipe()
            self.answers, ours = os.pipe()
            self.helper = os.fork()
            if not self.helper:
                os.close(self.orders)
                os.close(self.answers)
                self._help(theirs, ours)
            os.close(theirs)
            os.close(ours)

    def _help(self, orders: int, answers: int) -> NoReturn:
        """The helper: takes apart what it is told to, until the orders end."""
        status = 1
        with contextlib.suppress(BaseException):
            signal.signal(signal.SIGINT, signal.SIG_IGN)  # the other process is told, and closes the pipe
            signal.signal(signal.SIGTERM, signal.SIG_DFL)
            order = 0
            while len(told := os.read(orders, ORDER.size)) == ORDER.size:
                piece = self.cut(*ORDER.unpack(told))
                part = piece.part
                if part is not None:
                    times, levels = self._columns(order % SLOTS, len(part.times))
                    times[:], levels[:] = part.times, part.levels
                facts = (-1, 0, 0, 0) if part is None else (len(part.times), part.turned, part.stood, part.lines)
                os.write(answers, ANSWER.pack(order, piece.start, piece.end, piece.until, *facts))
                order += 1
            status = 0
        os._exit(status)

    def _columns(self, slot: int, count: int) -> tuple[NDArray[np.int64], NDArray[Any]]:
        """The columns of a slot in the memory that both share."""
        assert self.shared is not None
        at = slot * self.slot
        levels = np.frombuffer(self.shared, self.kind, count, at + 8 * self.room)
        return np.frombuffer(self.shared, np.int64, count, at), levels

    def _give(self) -> None:
        """Keeps the helper busy with what comes next."""
        while self.helper > 0 and len(self.given) < SLOTS and self.next < self.count:
            try:
                os.write(self.orders, ORDER.pack(self.next))
            except OSError:
                self._lost()
                return
            self.given.append(self.next)
            self.next += 1

    def _ready(self) -> bool:
        """Whether the helper has an answer."""
        return bool(select.select([self.answers], [], [], 0)[0])

    def _take(self) -> None:
        """The helper's next answer; its columns are copied, as the slot is used again."""
        told = os.read(self.answers, ANSWER.size)
        if len(told) < ANSWER.size:
            self._lost()
            return
        order, start, end, until, count, turned, stood, lines = ANSWER.unpack(told)
        part = None
        if count >= 0:
            times, levels = self._columns(order % SLOTS, count)
            part = Parted(times.copy(), levels.copy(), turned, stood, lines)
        self.done[self.given.pop(0)] = Piece(start, end, until, part)

    def _lost(self) -> None:
        """The helper is gone: what it was at is done here."""
        for number in self.given:
            self.done[number] = self.cut(number)
        self.given = []
        self.close()

    def close(self) -> None:
        """Ends the helper."""
        for pipe in (self.orders, self.answers):
            if pipe >= 0:
                os.close(pipe)
        self.orders = self.answers = -1
        if self.helper > 0:
            with contextlib.suppress(OSError):
                os.kill(self.helper, signal.SIGTERM)
                os.waitpid(self.helper, 0)
        self.helper = -1
