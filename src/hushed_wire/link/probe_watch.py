"""Lines of a probe on a serial port, watched: bursts of edges with the probe's own times (docs/probe.md, "Watching")."""

from __future__ import annotations

import time

import numpy as np

from .base import LinkLost, LinkUnusable
from .record import Burst
from .serial_probe import SerialProbe

__all__ = ["ProbeWatch"]

US = 1000  # nanoseconds
QUIET = 0.3  # seconds without a word from the probe from which on its time is taken to be ours


class ProbeWatch:
    """What a probe sees on some of its lines."""

    def __init__(self, probe: SerialProbe, lines: dict[str, str]) -> None:
        """lines: name in the capture to name at the probe."""
        self.probe, self.names = probe, tuple(lines)
        answer, words = probe.ask("watch", *lines.values())
        if answer != "done" or not words or len(words[0]) != len(lines) or not set(words[0]) <= set("01"):
            known = " ".join(words)
            raise LinkUnusable(
                f"the probe does not watch {', '.join(lines.values())}: {answer} {known}".rstrip(), where=probe.path,
                remedy="name its lines, like scl and sda; firmware that does not know watch is older: emit it anew",
            )  # fmt: skip
        self.levels = [int(level) for level in words[0]]
        self._word = sum(level << line for line, level in enumerate(self.levels))
        self._line = 0
        self._end = 0
        self._began = time.monotonic_ns()

    def take(self, seconds: float) -> Burst:
        """What came, waiting for so long at most."""
        limit = time.monotonic() + seconds
        times: list[int] = []
        lines: list[int] = []
        levels: list[int] = []
        lost = 0
        while True:
            got = self.probe.heard(max(0.0, limit - time.monotonic()))
            if got is None:
                break
            verb, words = got
            if verb not in ("edges", "lost") or len(words) < 2:
                raise LinkLost(f"the probe says '{verb}' while it watches", where=self.probe.path, remedy="mend its firmware")
            try:
                number, first = int(words[0], 16), int(words[1], 16)
                steps = [(int(step, 16), int(word, 16)) for step, _, word in (entry.partition(":") for entry in words[2:])]
            except ValueError as error:
                said = " ".join(words)[:60]
                raise LinkLost(
                    f"the probe says '{said}', which are no edges", where=self.probe.path, remedy="mend its firmware"
                ) from error
            missed = (number - self._line) & 0xFFFF
            if missed or verb == "lost":  # a line that was damaged, or edges for which the probe had no room
                lost += max(1, missed)
                for line in range(len(self.names)):
                    times.append(self._end + 1)
                    lines.append(line)
                    levels.append(2)
                self._word = -1
            self._line = (number + 1) & 0xFFFF
            when = first * US
            for step, word in steps:
                when += step * US
                self._edges(when, word, times, lines, levels)
            if times and len(times) > 10_000:
                break
        return Burst(np.array(times, np.int64), np.array(lines, np.intp), np.array(levels, np.uint8), lost)

    def _edges(self, when: int, word: int, times: list[int], lines: list[int], levels: list[int]) -> None:
        """What a state of all lines adds to the one before; behind a loss each line is told."""
        when = max(when, self._end)
        for line in range(len(self.names)):
            level = word >> line & 1
            if self._word < 0 or (self._word >> line & 1) != level:
                times.append(when)
                lines.append(line)
                levels.append(level)
        self._word, self._end = word, when

    def now(self) -> int:
        """Nanoseconds since it began: of the last edge, or, where the probe has been quiet, our own."""
        ours = time.monotonic_ns() - self._began
        return max(self._end, ours - int(QUIET * 1e9))

    def close(self) -> None:
        """Ends the watch, and closes the port."""
        try:
            self.probe.ask("stop")
        finally:
            self.probe.close()
