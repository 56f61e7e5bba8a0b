"""What a part was told in a capture, as a sequence that tells it again: commands by name, rests that a person would notice, edges of reset."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..part import Commands, Part
from .from_words import REST, rest_text
from .listing import Item, to_hush

__all__ = ["from_commands"]


def from_commands(part: Part, chips: Sequence[Commands], tick: float, resets: Sequence[tuple[int, bool]] = ()) -> list[str]:
    """The lines. chips: of each chip its commands. tick: seconds a tick. resets: (tick, high) edges of the reset line."""
    events: list[tuple[int, int, int, Any]] = [(when, -1, 0, high) for when, high in resets]
    for number, own in enumerate(chips):
        for index, _, raw in own.listed():
            fields, note = own.fields_of(index)
            first = int(own.first[index])
            item = Item(own.name_of(index), raw, first, int(own.kind[index]), fields, note)
            events.append((int(own.payload.start[first]), number, own.time_of(index), item))
    events.sort(key=lambda event: event[:2])
    events = _both_chips_at_once(events, len(chips))
    out: list[str] = []
    before: int | None = None
    chip = ALL if len(chips) > 1 else 0
    pending: list[Item] = []
    waits: dict[int, str] = {}

    def flush() -> None:
        out.extend(to_hush(part, pending, waits))
        pending.clear()
        waits.clear()

    for start, number, end, what in events:
        rest = 0.0 if before is None else (start - before) * tick
        if number < 0 or number != chip:
            flush()
            if rest >= REST:
                out.append(f"wait {rest_text(rest)}")
            if number < 0:
                out.append(f"reset {'high' if what else 'low'}")
                before = start
                continue
            chip = number
            out.append("select all" if number == ALL else f"select {number + 1}")
        elif rest >= REST:
            waits[len(pending)] = rest_text(rest)
        pending.append(what)
        before = end
    flush()
    return out


ALL = 1 << 8  # stands for all chips at once


def _both_chips_at_once(events: list[tuple[int, int, int, Any]], chips: int) -> list[tuple[int, int, int, Any]]:
    """Commands that every chip of several got at the same time, as one for all of them."""
    if chips < 2:
        return events
    out: list[tuple[int, int, int, Any]] = []
    at = 0
    while at < len(events):
        group = events[at : at + chips]
        same = len(group) == chips and all(e[1] >= 0 and e[0] == group[0][0] and e[3].raw == group[0][3].raw for e in group)
        if same and [e[1] for e in group] == list(range(chips)):
            out.append((group[0][0], ALL, group[0][2], group[0][3]))
            at += chips
        else:
            out.append(events[at])
            at += 1
    return out
