"""Lines of this machine's GPIO chips, watched: the kernel's edge events with its time stamps, by way of gpiod.

The kernel numbers the events of each line. A gap in the numbers is edges that nobody took in time, so from the event ahead of it on the line's level is
unknown (GPIO character device ABI v2, struct gpio_v2_line_event: line_seqno).
"""

from __future__ import annotations

import re
import time
from datetime import timedelta
from typing import Any

import numpy as np

from ..errors import HushedError
from ..extras import wanted
from .base import LinkLost, LinkUnusable
from .pins import unusable
from .record import Burst

__all__ = ["GpioWatch", "open_gpio"]

ROOM = 16_384  # events that the kernel keeps for us, where it lets us ask for so many
AT_ONCE = 4096


def open_gpio(name: str, lines: dict[str, int]) -> GpioWatch:
    """Opens `gpiochip0` (or /dev/gpiochip0) to watch lines. lines: name to number. Raises LinkUnusable: absent, not permitted, in use."""
    found = re.fullmatch(r"(?:/dev/)?gpio(?:chip|-)?(\d+)", name)
    if not found:
        raise LinkUnusable(
            f"'{name}' watches no lines", where="--link", remedy="gpiochip0, or a probe on a port like /dev/ttyACM0"
        )
    return GpioWatch(f"/dev/gpiochip{found[1]}", lines)


class GpioWatch:
    """Lines of one chip as inputs, with events for both edges."""

    def __init__(self, path: str, lines: dict[str, int]) -> None:
        with wanted("gpiod", "GPIO lines want", "--link"):
            import gpiod
        self.path, self.names = path, tuple(lines)
        self._line_of = {number: line for line, number in enumerate(lines.values())}
        if len(self._line_of) < len(lines):
            raise HushedError("two names for one line", where="--line", remedy="each line needs a number of its own")
        settings = gpiod.LineSettings(direction=gpiod.line.Direction.INPUT, edge_detection=gpiod.line.Edge.BOTH)
        self._rising = gpiod.EdgeEvent.Type.RISING_EDGE
        try:
            if not gpiod.is_gpiochip_device(path):
                raise LinkUnusable("is absent, or no GPIO chip", where=path, remedy="hushed-wire links lists what there is")
            self._began = time.monotonic_ns()
            self._request = gpiod.request_lines(
                path, consumer="hushed-wire", config={tuple(lines.values()): settings}, event_buffer_size=ROOM
            )
            values = self._request.get_values(list(lines.values()))
        except OSError as error:
            used = ", ".join(f"{name} on line {number}" for name, number in lines.items())
            raise unusable(path, error, f"one of its lines is taken ({used}): stop what holds it, or choose another") from error
        except ValueError as error:
            raise LinkUnusable(
                f"has no such line: {error}", where=path, remedy="hushed-wire links tells how many it has"
            ) from error
        self.levels = [1 if value == gpiod.line.Value.ACTIVE else 0 for value in values]
        self._seen: dict[int, int] = {}
        # What came while the levels were asked for: ahead of a line's first edge it stood the other way.
        self._ahead = self._events(0.0)
        for event in reversed(self._ahead):
            self.levels[self._line_of[event.line_offset]] = 0 if event.event_type == self._rising else 1

    def _events(self, seconds: float) -> list[Any]:
        try:
            if not self._request.wait_edge_events(timedelta(seconds=seconds)):
                return []
            out: list[Any] = self._request.read_edge_events(AT_ONCE)
        except OSError as error:
            raise LinkLost(
                f"its events cannot be read: {error.strerror}", where=self.path, remedy="is the chip still there?"
            ) from error
        return out

    def take(self, seconds: float) -> Burst:
        """What came, waiting for so long at most."""
        times: list[int] = []
        lines: list[int] = []
        levels: list[int] = []
        lost = 0
        events, self._ahead = self._ahead or self._events(seconds), []
        for event in events:  # objects of the package, one by one; from here on they are columns
            line = self._line_of[event.line_offset]
            when = event.timestamp_ns - self._began
            gap = event.line_seqno - self._seen.get(line, 0) - 1
            if gap > 0:
                lost += gap
                times.append(when - 1)
                lines.append(line)
                levels.append(2)
            self._seen[line] = event.line_seqno
            times.append(when)
            lines.append(line)
            levels.append(1 if event.event_type == self._rising else 0)
        order = np.argsort(np.array(times, np.int64), kind="stable")
        return Burst(np.array(times, np.int64)[order], np.array(lines, np.intp)[order], np.array(levels, np.uint8)[order], lost)

    def now(self) -> int:
        """Nanoseconds since it began."""
        return time.monotonic_ns() - self._began

    def close(self) -> None:
        """Gives the lines back."""
        self._request.release()
