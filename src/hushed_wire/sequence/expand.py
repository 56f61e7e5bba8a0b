"""Sequences expanded: statements to steps, each with the words that a part gets.

Every verb that is not one of the language's own is a command of the current device's part; `VERBS` is the table of the
language's own.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from fractions import Fraction
from pathlib import Path
from typing import TYPE_CHECKING

from ..errors import HushedError, nearest
from ..part.describe import Panel, Part, Value
from . import parse
from .parse import Statement

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

__all__ = ["Step", "Target", "alter_step", "drop_step", "expand", "picture_step", "shorten"]


@dataclass(frozen=True)
class Target:
    """A device that a sequence may speak to."""

    name: str
    part: Part
    panel: Panel


@dataclass(frozen=True)
class Step:
    """One statement's effect. sends: (is data, bytes), one transaction each. wait: seconds of rest behind it."""

    place: str
    text: str
    device: str
    name: str
    sends: tuple[tuple[bool, bytes], ...] = ()
    wait: Fraction = Fraction(0)


@dataclass
class State:
    """What statements leave behind for those after them."""

    targets: dict[str, Target]
    folder: Path
    target: Target
    modes: dict[str, str] = field(default_factory=dict)

    def mode(self) -> str:
        register = self.target.part.memory.registers.get("mode", "")
        return self.modes.get(self.target.name, str(self.target.part.reset.get(register, "page")))


def expand(statements: list[Statement], targets: list[Target], folder: Path) -> list[Step]:
    """The steps of a sequence. `folder` is where its pictures lie. Raises HushedError with file:line."""
    if not targets:
        raise HushedError("the rig has no device that a sequence could speak to", remedy="add a [[device]] to the rig")
    state = State({target.name: target for target in targets}, folder, targets[0])
    steps = []
    for statement in statements:
        try:
            step = VERBS.get(statement.verb, _command)(state, statement)
        except HushedError as error:
            error.where = error.where or statement.place
            raise
        if step is not None:
            steps.append(step)
    return steps


def _step(state: State, statement: Statement, *sends: tuple[bool, bytes], wait: Fraction = Fraction(0)) -> Step:
    return Step(statement.place, statement.text, state.target.name, statement.verb, sends, wait)


def _device(state: State, statement: Statement) -> None:
    if len(statement.words) != 1 or statement.words[0] not in state.targets:
        name = statement.words[0] if statement.words else ""
        raise HushedError(f"the rig has no device '{name}'", remedy=nearest(name, state.targets))
    state.target = state.targets[statement.words[0]]


def _wait(state: State, statement: Statement) -> Step:
    return _step(state, statement, wait=parse.duration(statement))


def _bytes(state: State, statement: Statement) -> Step:
    return _step(state, statement, (False, parse.byte_list(statement)))


def _data(state: State, statement: Statement) -> Step:
    return _step(state, statement, (True, parse.byte_list(statement)))


def _picture(state: State, statement: Statement) -> Step:
    """A picture over the whole panel, brought to its place by the part's own commands."""
    from ..picture import image

    if len(statement.words) != 1 or statement.fields:
        raise HushedError("'picture' needs one file", remedy="like: picture tide.pbm")
    target = state.target
    pixels = image.load(state.folder / statement.words[0], statement.place)
    panel = target.panel
    size = (panel.height, panel.width) if panel.rotate % 180 == 0 else (panel.width, panel.height)
    if pixels.shape != size:
        raise HushedError(
            f"'{statement.words[0]}' is {pixels.shape[1]}x{pixels.shape[0]}, the panel shows {size[1]}x{size[0]}",
            remedy="crop or scale the picture to the panel's size",
        )
    step = picture_step(target, pixels, state.mode(), statement.text)
    return Step(statement.place, step.text, step.device, step.name, step.sends)


def picture_step(target: Target, pixels: NDArray[np.bool_], mode: str, text: str) -> Step:
    """Pixels as a person sees them, over the whole panel of a target, in its memory mode."""
    from ..picture import layout

    panel = target.panel
    pages = layout.pack_pages(layout.as_mounted(pixels, panel))
    left = panel.column_offset
    places = {"left": left, "right": left + panel.width - 1, "top": 0, "bottom": len(pages) - 1}
    places |= {"left_low": left & 15, "left_high": left >> 4}
    area = target.part.memory.area.get(mode)
    if area is None:
        raise HushedError(
            f"{target.part.name} has no way to place a picture in {mode} mode", remedy="set another memory mode first"
        )
    sends: list[tuple[bool, bytes]] = []
    for page in range(len(pages)) if mode == "page" else [0]:
        for line in area:
            filled = parse.parse_text(line.format(**places, page=page), text)[0]
            sends.append((False, target.part.find(filled.verb).encode(filled.fields)))
        piece = pages[page] if mode == "page" else (pages.T if mode == "vertical" else pages)
        sends.append((True, piece.tobytes()))
    return Step(text, text, target.name, "picture", tuple(sends))


def _command(state: State, statement: Statement) -> Step:
    part = state.target.part
    if statement.verb not in part.by_name:
        known = [*VERBS, *part.by_name]
        raise HushedError(
            f"'{statement.verb}' is neither a verb nor a command of {part.name}", remedy=nearest(statement.verb, known)
        )
    command = part.find(statement.verb)
    fields = dict(statement.fields)
    if statement.words:
        # A command of one field takes its value bare: `display on`, `multiplex-ratio 64`.
        if len(statement.words) > 1 or len(command.fields) != 1 or fields:
            raise HushedError(
                f"'{statement.words[0]}' names no field", remedy=_usage(command.name, [f.name for f in command.fields.values()])
            )
        bare = parse.number(statement.words[0])
        fields[next(iter(command.fields.values())).name] = statement.words[0] if bare is None else bare
    raw = command.encode(fields)
    mode = part.memory.registers.get("mode", "")
    for name, value in fields.items():
        if f"{command.name}.{name}" == mode:
            state.modes[state.target.name] = str(value)
    return _step(state, statement, (False, raw))


def _usage(name: str, fields: list[str]) -> str:
    return f"write {name} " + " ".join(f"{field}=…" for field in fields) if fields else f"write {name} alone"


VERBS: dict[str, Callable[[State, Statement], Step | None]] = {
    "device": _device,
    "wait": _wait,
    "bytes": _bytes,
    "data": _data,
    "picture": _picture,
}


# ---- mishaps: what can be done to a sequence on purpose ---------------------------------------------------------------


def _must_match(steps: list[Step], name: str) -> None:
    if not any(step.name == name for step in steps):
        raise HushedError(f"the sequence has no step '{name}'", remedy=nearest(name, sorted({step.name for step in steps})))


def drop_step(steps: list[Step], detail: str) -> list[Step]:
    """`drop-step:NAME`: the driver never sends these steps."""
    _must_match(steps, detail)
    return [step for step in steps if step.name != detail]


def shorten(steps: list[Step], detail: str) -> list[Step]:
    """`shorten:NAME,COUNT`: the driver sends only the first COUNT data bytes of the last such step."""
    name, _, text = detail.partition(",")
    count = parse.number(text)
    if count is None or count < 0:
        raise HushedError(f"'{detail}' is not NAME,COUNT", remedy="like: --mishap shorten:picture,512")
    _must_match(steps, name)
    at = max(index for index, step in enumerate(steps) if step.name == name)
    sends = []
    for is_data, raw in steps[at].sends:
        kept = raw[:count] if is_data else raw
        count -= len(kept) if is_data else 0
        if kept:
            sends.append((is_data, kept))
    return [*steps[:at], replace(steps[at], sends=tuple(sends)), *steps[at + 1 :]]


def alter_step(statements: list[Statement], detail: str) -> list[Statement]:
    """`alter-step:NAME.FIELD=VALUE`: the driver sends this command with another value."""
    left, equals, value = detail.partition("=")
    name, dot, field_name = left.partition(".")
    if not equals or not dot or not any(statement.verb == name for statement in statements):
        known = sorted({statement.verb for statement in statements})
        raise HushedError(
            f"'{detail}' names no step and field", remedy=f"like: alter-step:multiplex-ratio.lines=32; {nearest(name, known)}"
        )
    as_number = parse.number(value)
    new: Value = value if as_number is None else as_number
    return [
        replace(statement, words=(), fields={**statement.fields, field_name: new}) if statement.verb == name else statement
        for statement in statements
    ]
