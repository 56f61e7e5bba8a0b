"""Whose relative a display may be: every part of the catalog as it stands, and what would have to be different of it."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from ..part import Command, Part, catalog_names, load
from ..part.split import UNKNOWN, Splitter
from ..part.wrap import BUS_OF
from ..units import counted
from .machine import Machine

__all__ = ["Relative", "relatives"]

MOST = 6  # of them
LEAST = 0.2
COST = 0.25  # of a change
EFFECTS = {  # of a machine's pointers and windows: what the commands of parts do that set them
    "page": ("page",), "column": ("column", "column-low"), "column-high": ("column-high",), "cell": ("cell",), "digit": ("digit", "address"),
}  # fmt: skip
WINDOWS = {
    "paged": {"column": "column-window", "line": "page-window"},
    "pixel": {"column": "column-window", "line": "row-window"},
}


@dataclass(frozen=True)
class Relative:
    """A part, how near it is (0 to 1), and what differs, in words."""

    part: str
    score: float
    changes: tuple[str, ...]


def relatives(machine: Machine, framing: str, parameters: str, set_up: list[tuple[bool, int]]) -> list[Relative]:
    """The nearest parts. set_up: its words, (data?, value)."""
    out = []
    for name in catalog_names():
        part = load(name)
        if part.memory.kind != machine.kind:
            continue
        changes = list(_changes(machine, part))
        if framing not in part.framings:
            kinds = {BUS_OF[own] for own in part.framings}
            changes.append(f"it is spoken to by {framing}, where that part is by {', '.join(part.framings)}")
            if BUS_OF[framing] not in kinds:
                changes.append(f"on {BUS_OF[framing]}, not {' or '.join(sorted(kinds))}")
        if machine.kind == "pixel" and parameters != part.parameters:
            changes.append(f"parameters come as {parameters} words")
        share, strange = _understood(part, set_up)
        if strange:
            codes = ", ".join(f"{code:02X}h" for code in strange[:6])
            more = f" and {len(strange) - 6} more" if len(strange) > 6 else ""
            changes.append(
                f"{counted(len(strange), 'code')} of the set-up {'is' if len(strange) == 1 else 'are'} none of its commands: {codes}{more}"
            )
        score = (0.4 + 0.6 * share) / (1 + COST * len(changes))
        if score >= LEAST:
            out.append(Relative(name, round(score, 3), tuple(changes)))
    return sorted(out, key=lambda own: -own.score)[:MOST]


def _with(part: Part, effects: tuple[str, ...]) -> list[Command]:
    return [command for command in part.command if command.effect in effects]


def _changes(machine: Machine, part: Part) -> list[str]:
    """What of a part's geometry and placing commands would have to be different."""
    return [*_pointers(machine, part), *_windows(machine, part), *GEOMETRY[machine.kind](machine, part)]


def _opens(command: Command, code: int) -> bool:
    mask, fixed = command.fixed[0]
    return code & mask == fixed


def _pointers(machine: Machine, part: Part) -> Iterator[str]:
    for role, pointer in machine.pointers.items():
        theirs = _with(part, EFFECTS[role])
        code = pointer.behind if pointer.behind >= 0 else pointer.code
        if code < 0:
            continue
        if not theirs:
            yield f"it has a command for the {role} ({code:02X}h)"
            continue
        alike = theirs if role == "digit" else [own for own in theirs if (own.length > 1) == (pointer.behind >= 0)]
        if not any(_opens(command, code) for command in alike):
            yield f"{theirs[0].name} is {code:02X}h, not {theirs[0].fixed[0][1]:02X}h"


def _windows(machine: Machine, part: Part) -> Iterator[str]:
    for role, window in machine.windows.items():
        theirs = _with(part, (WINDOWS[machine.kind][role],))
        if not theirs:
            yield f"it has a window for the {role} ({window.code:02X}h)"
            continue
        if not any(_opens(command, window.code) for command in theirs):
            yield f"{theirs[0].name} is {window.code:02X}h, not {theirs[0].fixed[0][1]:02X}h"
        if all(command.length != 1 + 2 * window.wide for command in theirs):
            yield f"its ends have {counted(window.wide, 'byte')} each"
    writes = _with(part, ("write",))
    if machine.write >= 0 and writes and not _opens(writes[0], machine.write):
        yield f"{writes[0].name} is {machine.write:02X}h, not {writes[0].fixed[0][1]:02X}h"


def _of_pixels(machine: Machine, part: Part) -> Iterator[str]:
    memory = part.memory
    right, bottom = machine.first_column + machine.width, machine.first_line + machine.height
    rows, unit = (memory.pages, "pages") if machine.kind == "paged" else (memory.rows, "lines")
    if right > memory.columns:
        yield f"its columns are {right} wide, not {memory.columns}"
    if bottom > rows:
        yield f"it has {bottom} {unit}, not {rows}"
    widths = sorted({panel.width for panel in part.panels.values()} | ({memory.columns} if memory.chips > 1 else set()))
    if right <= memory.columns and widths and machine.width not in widths:
        yield f"its glass is {machine.width} wide, not {' or '.join(map(str, widths))}"


def _of_letters(machine: Machine, part: Part) -> Iterator[str]:
    known = {row[0] & 0x7F for panel in part.panels.values() for row in panel.cells}
    if any(at not in known for at in machine.rows):
        yield f"rows begin at {', '.join(f'{at:02X}h' for at in machine.rows)}"


def _of_digits(machine: Machine, part: Part) -> Iterator[str]:
    wirings = [panel.segments for panel in part.panels.values() if panel.form == "digits" and len(panel.segments) == 8]
    if wirings and list(machine.wiring) not in wirings:
        yield f"its outputs are wired to {' '.join(machine.wiring)}, the lowest bit first"


GEOMETRY = {"paged": _of_pixels, "pixel": _of_pixels, "character": _of_letters, "digit": _of_digits}


def _understood(part: Part, set_up: list[tuple[bool, int]]) -> tuple[float, list[int]]:
    """The share of the set-up's commands that are commands of a part, and the codes that are not."""
    raw = bytes(value for _, value in set_up)
    if not raw:
        return 0.5, []
    runs: list[tuple[bool, int, int]] = []
    for at, (data, _) in enumerate(set_up):
        if runs and runs[-1][0] == data:
            runs[-1] = data, runs[-1][1], at + 1
        else:
            runs.append((data, at, at + 1))
    splitter = Splitter(part)
    splitter.feed(raw, runs)
    count = len(splitter.kinds)
    strange = [raw[first] for kind, first in zip(splitter.kinds, splitter.firsts, strict=True) if kind == UNKNOWN]
    return 1 - len(strange) / max(1, count), sorted(set(strange))
