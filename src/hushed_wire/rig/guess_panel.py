"""Which ready panel of a part a captured set-up is for: by the registers that depend on the glass, and by the windows that are written."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..part import Commands, Part
from ..part.bring_up import set_up_in
from ..part.describe import Panel, chips_of
from ..part.model import Model, model_of
from ..part.orientation import WAYS, Orientation, box_of, upright
from ..part.wrap import WRAPS

__all__ = ["Fitting", "chained", "panel_for"]


@dataclass(frozen=True)
class Fitting:
    """A panel by name, in how many points the set-up is not for it, and what told it: "" where nothing in the set-up depends on the panel."""

    panel: str
    unlike: int
    why: str


def chained(part: Part, drivers: int) -> str | dict[str, Any]:
    """The panel of a chain of LED drivers: the ready one of dots, else a table for one."""
    ready = {
        chips_of(panel): name for name, panel in reversed(part.panels.items()) if panel.form == "matrix" and not panel.module_turn
    }
    if drivers in ready or 1 not in ready:
        return ready.get(drivers, next(iter(part.panels)))
    one = part.panels[ready[1]]
    cells = [[chip << 8 | cell for chip in range(drivers - 1, -1, -1) for cell in row] for row in one.cells]
    size = {"width": drivers * one.width, "height": one.height}
    return {"ready": ready[1], **size, "cells": cells, "name": f"{size['width']}x{size['height']}"}


def _windows_of(own: Commands) -> dict[str, set[tuple[int, int]]]:
    """The windows that a display is sent, by their effect: first and last of each."""
    spans: dict[str, set[tuple[int, int]]] = {}
    for index, command, _ in own.listed():
        if command is not None and command.effect in ("column-window", "row-window"):
            fields, _ = own.fields_of(index)
            if {"start", "end"} <= set(fields):
                spans.setdefault(command.effect, set()).add((int(fields["start"]), int(fields["end"])))
    return spans


def _misfit(part: Part, panel: Panel, memory: Model, spans: dict[str, set[tuple[int, int]]]) -> int:
    """In how many ways the windows and the orientation are not those of a panel; pictures may come in strips."""
    fitted = part.fitted(panel).memory
    roles = {role: memory.role(role) for role in WAYS}
    way = Orientation.of(fitted.columns, fitted.rows, roles)
    window = way.window(box_of(panel))
    out = int(way.exchange != upright(panel, fitted.columns, fitted.rows).exchange)
    for effect, ends in (("column-window", (window.left, window.right - 1)), ("row-window", (window.top, window.bottom - 1))):
        seen = spans.get(effect, set())
        hull = (min(first for first, _ in seen), max(last for _, last in seen)) if seen else ends
        out += ends not in (*seen, hull)
    return out


def panel_for(part: Part, own: Commands, usual: str) -> Fitting:
    """The ready panel that a set-up fits best; of several that fit as well the usual one, else the part's first."""
    memory = model_of(part).of(own)
    rules = {rule.register: rule.must_equal for rule in part.bring_up if rule.must_equal}
    told = {register: memory.register(register) for register in rules}
    if part.memory.kind == "lettered" and set_up_in(part, own.names):  # a set-up that does not switch to pixels is for text
        told = {register: part.reset.get(register) if value is None else value for register, value in told.items()}
    spans = _windows_of(own)
    best: Fitting | None = None
    for name in dict.fromkeys([usual, *part.panels]):
        panel = part.panels[name]
        if any(WRAPS[framing].chains for framing in part.framings) and chips_of(panel) > 1:
            continue  # how many drivers there are, the length of the loads tells
        wanted = {register: getattr(panel, key) for register, key in rules.items()} | dict(panel.needs)
        known = {register: value for register in wanted if (value := told.get(register, memory.register(register))) is not None}
        unlike = sum(str(known[register]) != str(wanted[register]) for register in known)
        unlike += _misfit(part, panel, memory, spans)
        why = ", ".join(f"{register.replace('.', ' ')} is {value}" for register, value in told.items() if value is not None)
        why = why or ("the windows tell" if spans else "")
        if best is None or unlike < best.unlike:
            best = Fitting(name, unlike, why)
    assert best is not None
    return best
