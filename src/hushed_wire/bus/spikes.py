"""Pulses that are too short to count, taken out of SCL and SDA, as the input filters of parts do (I2C-bus specification, tSP)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from ..trace import fold
from ..trace.model import Times

__all__ = ["BLIND", "Spikes"]

BLIND = 0b1100  # the code of both lines unknown: bits are scl, sda, scl unknown, sda unknown


class Spikes:
    """Takes pulses shorter than `width` ticks out of both lines; `feed` gives entries up to end - width."""

    def __init__(self, width: int) -> None:
        self.width = width
        self.raw = self.clean = BLIND
        self.waiting = (np.empty(0, np.int64), np.empty(0, np.uint8))
        self.count = [0, 0]

    def feed(self, times: Times, code: NDArray[np.uint8], end: int, last: bool) -> tuple[Times, NDArray[np.uint8]]:
        if len(self.waiting[0]):
            times, code = np.concatenate([self.waiting[0], times]), np.concatenate([self.waiting[1], code])
        sure = end if last else end - self.width
        ready = len(times) if last else int(np.searchsorted(times, sure, side="right"))
        self.waiting = (times[ready:], code[ready:])
        if not len(times):
            return times, code
        if self.raw == self.clean and self._none(times, code):
            out = times[:ready], code[:ready]
        else:
            out = self._filter(times, code, end, ready)
        if ready:
            self.raw, self.clean = int(code[ready - 1]), int(out[1][-1]) if len(out[1]) else self.clean
        return out

    def _none(self, times: Times, code: NDArray[np.uint8]) -> bool:
        """Whether no line changes twice within the width; nearly always so, and cheap to see."""
        after = 1
        near = np.flatnonzero(times[1:] - times[:-1] < self.width)
        if not len(near):
            return True
        moved = code.copy()
        moved[1:] ^= code[:-1]
        moved[0] ^= np.uint8(self.raw)
        moved |= moved >> 2  # into and out of the unknown are changes, too
        while len(near):
            if (moved[near] & moved[near + after] & 3).any():
                return False
            after += 1
            near = near[near + after < len(times)]
            near = near[times[near + after] - times[near] < self.width]
        return True

    def _filter(self, times: Times, code: NDArray[np.uint8], end: int, ready: int) -> tuple[Times, NDArray[np.uint8]]:
        at, lines, values = [], [], []
        before = np.concatenate([[self.raw], code[:-1]]).astype(np.uint8)
        limit = times[ready - 1] if ready else -1
        for line, mask in enumerate((0b0101, 0b1010)):
            change = np.flatnonzero((before ^ code) & mask)
            edges = times[change]
            lasting = np.diff(edges, append=max(end, int(times[-1]) + self.width)) >= self.width
            decided = edges <= limit
            self.count[line] += int(np.count_nonzero(~lasting & decided))
            keep = change[lasting & decided]
            at.append(times[keep])
            lines.append(np.full(len(keep), line))
            high = (code[keep] >> line) & 1
            values.append(np.where(code[keep] & (4 << line), 2, high).astype(np.uint8))
        order = np.argsort(np.concatenate(at), kind="stable")
        when, which, what = (np.concatenate(part)[order] for part in (at, lines, values))
        out, level, unknown = fold(when, which, what, 2, (self.clean & 3, self.clean >> 2), repeats=True)
        code = level if unknown is None else level | (unknown << 2)
        return out, code.astype(np.uint8)
