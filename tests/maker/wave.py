"""Lines over time: a master sets levels and lets time pass; every delay wavers as real ones do."""

from __future__ import annotations

import random
from collections.abc import Iterable

__all__ = ["Wave"]


class Wave:
    """Named lines with their changes, in nanoseconds. wavering: the share by which each delay is longer or shorter."""

    def __init__(self, seed: int, wavering: float = 0.02, **levels: int) -> None:
        self.chance = random.Random(seed)
        self.wavering = wavering
        self.now = 0.0
        self.levels = dict(levels)
        self.first = dict(levels)
        self.changes: list[tuple[int, str, int]] = []
        self.held = 0.0  # chance of an interrupt at each delay between words

    def wait(self, ns: float) -> None:
        """Lets time pass: never less than a nanosecond."""
        self.now += max(1.0, ns * (1 + self.wavering * (-1 + 2 * self.chance.random())))

    def pause(self, ns: float) -> None:
        """A delay between words, during which an interrupt may come."""
        self.wait(ns)
        if self.held and self.chance.random() < self.held:
            self.wait(self.chance.uniform(5e3, 60e3))

    def put(self, **levels: int) -> None:
        """Sets lines, at the same time."""
        for name, level in levels.items():
            if self.levels[name] != level:
                self.levels[name] = level
                self.changes.append((int(self.now), name, level))

    def later(self, ns: float, name: str, level: int) -> None:
        """Sets a line that somebody else drives, some time from now; `in_order` brings it to its place."""
        self.levels[name] = level
        self.changes.append((int(self.now + ns), name, level))

    def in_order(self) -> None:
        """Changes by their times."""
        self.changes.sort(key=lambda change: change[0])
        self.now = max(self.now, self.changes[-1][0] if self.changes else 0)

    @property
    def names(self) -> list[str]:
        """The lines, in order."""
        return list(self.first)

    def from_(self, share: float) -> None:
        """Forgets what came before a share of the traffic, so that the capture begins in its middle."""
        at = int(share * self.changes[-1][0]) if self.changes else 0
        kept = []
        for change in self.changes:
            if change[0] <= at:
                self.first[change[1]] = change[2]
            else:
                kept.append((change[0] - at, *change[1:]))
        self.changes, self.now = kept, self.now - at

    def beside(self, others: Iterable[Wave]) -> None:
        """Takes the lines of other waves in, which ran at the same time."""
        for other in others:
            self.first |= other.first
            self.levels |= other.levels
            self.changes += other.changes
            self.now = max(self.now, other.now)
        self.changes.sort(key=lambda change: change[0])
