"""Columns that grow: what a capture, and what it says, is put together in."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..room import LARGE

__all__ = ["Column"]

AHEAD = 64 << 20  # bytes that a long column has room for from the start


class Column:
    """A column that grows at its end, without being held twice on the way. Room is taken ahead, which costs nothing until it is used."""

    def __init__(self, kind: Any) -> None:
        self.kind = np.dtype(kind)
        self.count = 0
        self._few: list[NDArray[Any]] = []  # what is there of a short one
        self._all: NDArray[Any] | None = None

    def add(self, values: NDArray[Any]) -> None:
        """More of them."""
        needed = self.count + len(values)
        if self._all is None and needed * self.kind.itemsize < LARGE:
            self._few.append(values.astype(self.kind))  # a copy: what it is part of is let go
            self.count = needed
            return
        if self._all is None:
            self._all = np.empty(max(needed, AHEAD // self.kind.itemsize), self.kind)
            at = 0
            for few in self._few:
                self._all[at : at + len(few)] = few
                at += len(few)
            self._few = []
        if needed > len(self._all):
            self._all.resize(max(needed, len(self._all) * 5 // 4), refcheck=False)
        self._all[self.count : needed] = values
        self.count = needed

    def whole(self) -> NDArray[Any]:
        """All of them; nothing is added any more."""
        if self._all is None:
            return np.concatenate([np.empty(0, self.kind), *self._few])
        self._all.resize(self.count, refcheck=False)
        return self._all
