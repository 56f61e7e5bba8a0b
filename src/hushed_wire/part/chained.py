"""LEDs that pass their data on: a chain, each of which takes the first colour that comes and hands on the rest.

Strategy: an update is a run of data; where LEDs have a byte of their own ahead of each colour (111 and a brightness), an update begins behind
so many zero bytes, and those LEDs count that follow; else every three bytes are one. What a LED shows is what it was sent last.
Which place of a panel a LED has says the panel: where the chain begins, along what it runs, and whether it turns back at each end.

Source: APA102 datasheet, "Cascading data structure" (start frame, 111, brightness, blue, green, red); WS2812B datasheet, "Composition of 24bit data"
(green, red, blue).
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from .describe import Panel, Part
from .glass import ColourGlass
from .model import NEVER, Journal
from .mounting import as_seen

__all__ = ["LEAD", "ChainMemory", "chain_of", "update_of"]

LEAD, FULL = 0xE0, 31  # what a byte of brightness begins with, and the brightest


class ChainMemory(Journal):
    """The journal of colours, 0xRRGGBB; address = number of the LED, 0 the nearest to the driver."""

    kind = np.uint32

    def __init__(self, part: Part, tick: float = 1e-9, from_reset: bool = True) -> None:
        super().__init__(part, tick, from_reset)
        self.longest = 0  # LEDs of the longest update

    def _place(self, times: NDArray[np.int64], values: NDArray[np.uint8]) -> None:
        leds = self.part.memory.leds
        assert leds is not None  # `check` sees to it
        if leds.start:
            for first, count in _frames(values, leds.start):
                rows = values[first : first + 4 * count].reshape(-1, 4)
                self._lit(times[first + 3 : first + 4 * count : 4], rows[:, 1:], (rows[:, 0] & FULL) / FULL)
            return
        count = len(values) // 3
        self._lit(times[2 : 3 * count : 3], values[: 3 * count].reshape(-1, 3), np.ones(count))

    def _lit(self, when: NDArray[np.int64], colours: NDArray[np.uint8], share: NDArray[Any]) -> None:
        order = self.part.memory.leds.order if self.part.memory.leds is not None else "rgb"
        rgb = (colours[:, [order.index(name) for name in "rgb"]] * share[:, None]).round().astype(np.uint32)
        self.longest = max(self.longest, len(rgb))
        self._write(when, np.arange(len(rgb)), rgb[:, 0] << 16 | rgb[:, 1] << 8 | rgb[:, 2])

    def glass(self, panel: Panel, when: int = NEVER, from_reset: bool = True) -> ColourGlass:
        """What the LEDs show at a tick."""
        places = chain_of(panel)
        size = panel.width * panel.height
        times, addresses, values = self.journal()
        inside = addresses < size
        upto = inside & (times <= when)
        out, written = np.zeros(size, np.uint32), np.zeros(size, bool)
        out[addresses[upto]], written[addresses[upto]] = values[upto], True
        packed, known = out[places], written[places]
        rgb = np.stack([packed >> 16 & 0xFF, packed >> 8 & 0xFF, packed & 0xFF], axis=2).astype(np.uint8)
        return ColourGlass(as_seen(rgb, panel), as_seen(known, panel), True)


def _frames(values: NDArray[np.uint8], start: int) -> list[tuple[int, int]]:
    """Where LEDs begin behind so many zero bytes, and how many there are. What closes an update looks like LEDs of full white, too: those
    at its very end are none."""
    if len(values) <= start:
        return []
    zero = values == 0
    ends = (
        np.flatnonzero(
            (values[start:] >= LEAD) & np.lib.stride_tricks.sliding_window_view(zero, start)[: len(values) - start].all(axis=1)
        )
        + start
    )
    out = []
    for first in ends.tolist():
        whole = (len(values) - first) // 4
        led = values[first : first + 4 * whole : 4] >= LEAD
        count = whole if led.all() else int(np.argmin(led))
        rows = values[first : first + 4 * count].reshape(-1, 4)
        closing = (rows == 0xFF).all(axis=1)
        if first + 4 * count >= len(values) - 3:
            count -= int(np.argmin(closing[::-1])) if not closing.all() else 0
        out.append((first, count))
    return out


def chain_of(panel: Panel) -> NDArray[np.int64]:
    """(height, width) the number of the LED at each place of a panel."""
    high, wide = panel.height, panel.width
    lines, along = (high, wide) if panel.run == "rows" else (wide, high)
    order = np.arange(lines * along).reshape(lines, along)
    if panel.serpentine:
        order[1::2] = order[1::2, ::-1].copy()
    out: NDArray[np.int64] = order if panel.run == "rows" else order.T
    out = out[::-1] if panel.begin.startswith("bottom") else out
    return out[:, ::-1] if panel.begin.endswith("right") else out


def update_of(part: Part, panel: Panel, rgb: NDArray[np.uint8]) -> bytes:
    """The bytes of an update: (height, width, 3) colours as a person sees them on the panel as it hangs; the twin of what a memory places."""
    leds = part.memory.leds
    assert leds is not None
    flat = np.zeros((panel.width * panel.height, 3), np.uint8)
    flat[chain_of(panel).reshape(-1)] = rgb.reshape(-1, 3)
    ordered = flat[:, ["rgb".index(name) for name in leds.order]]
    if not leds.start:
        return ordered.tobytes()
    framed = np.concatenate([np.full((len(flat), 1), LEAD | FULL, np.uint8), ordered], axis=1)
    closing = max(4, -(-len(flat) // 16))  # half a clock a LED brings the last one's colour home
    return bytes(leds.start) + framed.tobytes() + bytes(closing)
