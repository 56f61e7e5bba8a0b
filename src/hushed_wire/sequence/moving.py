"""Pictures as the commands that bring them to a panel: the first one whole, of those after it only what changed."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from fractions import Fraction
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..errors import HushedError
from ..part.wrap import Send
from ..picture.motion import changed_boxes
from .canvas import box_sends, canvas_of, must_show_pixels
from .expand import _steps
from .listing import items_of, to_hush
from .parse import parse_file, parse_text
from .start import start_text
from .state import State
from .target import Target

__all__ = ["as_hush_lines", "frame_sends", "hush_of", "ready_state"]


def ready_state(target: Target, after: Path | None = None) -> State:
    """What a panel is set to when pictures come: after a sequence of the user's, or after the ready bring-up."""
    state = State({target.name: target}, after.parent if after else Path(), target)
    if after is not None:
        statements = parse_file(after)
    else:
        try:
            statements = parse_text(start_text(target), f"bring-up of {target.part.name}")
        except HushedError:
            statements = []  # no ready bring-up: as after a reset
    for _ in _steps(state, statements):
        pass
    state.canvases.clear()
    return state


def frame_sends(state: State, frames: Iterable[NDArray[Any]]) -> Iterator[list[Send]]:
    """The words of each frame, as seen by a person: whole, or the boxes that changed, whichever is less."""
    must_show_pixels(state)
    canvas, first = canvas_of(state), True
    for frame in frames:
        if frame.shape != canvas.pixels.shape:
            raise HushedError(f"a frame of {frame.shape[1]}x{frame.shape[0]}", remedy="make it as large as the panel")
        boxes = [] if first else changed_boxes(canvas.pixels, frame)
        whole = 0, 0, frame.shape[1], frame.shape[0]
        changed = not first and not np.array_equal(canvas.pixels, frame)
        canvas.pixels[:] = frame
        if first or changed:
            everything = box_sends(state, whole)
            pieces = [send for box in boxes for send in box_sends(state, box)]
            yield everything if first or _length(pieces) >= _length(everything) else pieces
        else:
            yield []
        first = False


def _length(sends: list[Send]) -> int:
    return sum(len(send.raw) for send in sends)


def as_hush_lines(target: Target, sends: list[Send]) -> list[str]:
    """Words as lines of a sequence that sends the same, chip by chip."""
    out: list[str] = []
    now, group = 0, []  # type: ignore[var-annotated]
    for send in [*sends, None]:
        if send is None or send.chips != now:
            if group:
                out += to_hush(target.part, items_of(target.part, group))
            if send is not None:
                out.append(f"select {send.chips.bit_length()}" if send.chips else "select all")
                now, group = send.chips, [send]
        else:
            group.append(send)
    return [*out, "select all"] if now else out


def rest(seconds: Fraction) -> str:
    """A wait as the language writes it."""
    return f"wait {float(seconds) * 1e3:g}ms"


def hush_of(target: Target, frames: Iterable[list[Send]], every: Fraction, head: list[str]) -> str:
    """A whole sequence: comment lines, then each frame, with rests between."""
    out = [f"# {line}" for line in head]
    for number, sends in enumerate(frames):
        if number:
            out += [rest(every), f"# frame {number}"]
        out += as_hush_lines(target, sends)
    return "\n".join(out) + "\n"
