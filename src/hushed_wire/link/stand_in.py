"""A stand-in for a probe: the probe's side of the line protocol on a pseudo-terminal, with a desk for a bus.

It ships so that the whole way over a serial port can be tried, and tested, with no hardware; `garble` spoils a share of all lines.
"""

from __future__ import annotations

import os
import random
import select
import threading
import tty
from typing import TYPE_CHECKING

from . import wire_talk
from .base import BusHeld, Refused
from .desk import Desk

if TYPE_CHECKING:
    from ..trace import Trace

__all__ = ["StandIn"]

QUIET = 4  # times
EDGES = 16  # in a burst
ROOM = 64  # bytes of one transfer: micro-controllers have little memory
LINES = ("reset",)


class StandIn:
    """Speaks on `path`, in a thread of its own, until closed."""

    def __init__(self, desk: Desk, garble: float = 0.0, seed: int = 0, wires: Trace | None = None) -> None:
        """garble: share of lines, in either direction, that arrive spoilt. wires: what its lines scl and sda do while they are watched."""
        self.desk, self.garble, self.random = desk, garble, random.Random(seed)
        self.wires = wires
        self.last: tuple[int, bytes] | None = None
        self.lines: dict[str, int] = {}
        self.repeated = 0
        self._watching = 0  # the number of the request
        self._names: list[str] = []
        self._master, slave = os.openpty()
        tty.setraw(slave)
        self._slave = slave
        self.path = os.ttyname(slave)
        self._hear_end, self._end = os.pipe()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._thread.start()

    def _serve(self) -> None:
        waiting = b""
        while True:
            ready, _, _ = select.select([self._master, self._hear_end], [], [])
            if self._hear_end in ready:
                return
            try:
                piece = os.read(self._master, 4096)
            except OSError:
                return
            if not piece:
                return
            waiting += piece
            while b"\n" in waiting:
                line, _, waiting = waiting.partition(b"\n")
                answer = self._spoil(self.answer(self._spoil(line)))
                try:
                    os.write(self._master, answer)
                    if self._watching:
                        self._show()
                except OSError:
                    return

    def _show(self) -> None:
        """All that the wires do, in bursts; then quiet."""
        assert self.wires is not None
        number, lines, self._watching = self._watching, self.wires, 0
        which = [lines.names.index(name) for name in self._names]
        when = [int(tick * float(lines.tick) * 1e6) for tick in lines.times.tolist()]
        words = [sum((word >> line & 1) << place for place, line in enumerate(which)) for word in lines.levels.tolist()]
        said = 0
        for first in range(1, len(when), EDGES):
            own = range(first, min(first + EDGES, len(when)))
            steps = [f"{when[at] - when[max(at - 1, first)]:x}:{words[at]:x}" for at in own]
            os.write(self._master, self._spoil(wire_talk.pack(number, "edges", f"{said & 0xFFFF:x}", f"{when[first]:x}", *steps)))
            said += 1
        for _ in range(QUIET):  # as it goes on to say that nothing moves, what was damaged ahead of that is missed
            os.write(self._master, self._spoil(wire_talk.pack(number, "edges", f"{said & 0xFFFF:x}", f"{when[-1]:x}")))
            said += 1

    def _spoil(self, line: bytes) -> bytes:
        if self.random.random() >= self.garble:
            return line
        at = self.random.randrange(max(1, len(line) - 1))
        return line[:at] + bytes([self.random.choice(b"#~?x")]) + line[at + 1 :]

    def answer(self, line: bytes) -> bytes:
        """The answer to one line."""
        request = wire_talk.unpack(line)
        if request is None:
            return wire_talk.pack(0, "garbled")
        number, verb, words = request
        if self.last is not None and self.last[0] == number and verb != "who":
            self.repeated += 1
            return self.last[1]  # asked again: the answer was lost, the deed is done
        answer = wire_talk.pack(number, *self._act(number, verb, words))
        self.last = (number, answer)
        return answer

    def _act(self, number: int, verb: str, words: list[str]) -> list[str]:
        try:
            if verb == "who":
                return ["done", "talk=1", "name=stand-in", f"room={ROOM}"]
            if verb == "levels":
                try:
                    self.desk.check()
                except BusHeld as held:
                    role = "sda" if "SDA" in held.what.upper() else "scl"
                    return ["done", *(f"{name}={int(name != role)}" for name in ("scl", "sda"))]
                return ["done", "scl=1", "sda=1"]
            if verb == "transfer":
                return self._transfer(int(words[0], 16), b"" if words[1] == "-" else bytes.fromhex(words[1]), int(words[2]))
            if verb == "scan":
                return [
                    "done",
                    *(f"{a:02x}" for a in range(int(words[0], 16), int(words[1], 16) + 1) if a in self.desk.by_address),
                ]
            if verb == "line" and words[0] in LINES:
                self.lines[words[0]] = int(words[1])
                return ["done"]
            if verb == "watch" and self.wires is not None and words and set(words) <= set(self.wires.names):
                self._watching, self._names = number, words
                return ["done", "".join(str(int(self.wires.levels[0]) >> self.wires.names.index(name) & 1) for name in words)]
            if verb == "stop":
                return ["done"]
            if verb == "wait":
                self.desk.wait(int(words[0]) / 1e6)
                return ["done"]
        except (ValueError, IndexError):
            return ["failed", "arguments"]
        return ["failed", "unknown"]

    def _transfer(self, address: int, data: bytes, count: int) -> list[str]:
        if len(data) > ROOM:
            return ["failed", "room"]
        try:
            if data or not count:
                self.desk.write(address, data)
            got = self.desk.read(address, count) if count else b""
        except Refused as refused:
            return ["refused", str(refused.position)]
        except BusHeld as held:
            return ["held", "sda" if "SDA" in held.what.upper() else "scl"]
        return ["done", got.hex() or "-"]

    def close(self) -> None:
        """Hangs up. The thread ends first: a closed handle's number may soon be another file's, which it must never read."""
        os.write(self._end, b".")
        self._thread.join()
        for handle in (self._slave, self._master, self._hear_end, self._end):
            os.close(handle)
