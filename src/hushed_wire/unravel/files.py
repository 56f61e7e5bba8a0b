"""What was found, as files that the other commands take: a rig, the draft of a part, the set-up as words, and what was on the glass."""

from __future__ import annotations

from typing import Any

from ..picture.shown import shown_png
from ..rig import rig_toml
from .found import DEVICE, NAME, Unravelled

__all__ = ["files_of"]

RIG = "rig.toml"
CATALOG = f"catalog/{NAME}.toml"
SET_UP = "set-up.hush"


def files_of(found: Unravelled) -> dict[str, bytes]:
    """By name within a folder; without a draft the rig's device is of an unknown part."""
    out = {RIG: rig_toml(found.rig).encode()}
    words = [
        f"# What {found.paths[0]} says ahead of the first picture: words, and what they mean nobody knows.",
        f"device {DEVICE}",
    ]
    if found.set_up:
        out[SET_UP] = ("\n".join([*words, *found.set_up]) + "\n").encode()
    if found.table is not None:
        out[CATALOG] = _draft(found, found.table)
        panel = found.part.panels[DEVICE] if found.part is not None else None
        if found.pictures and panel is not None:
            out["glass.png"] = shown_png(found.pictures[0].glass, panel)
    return out


def _draft(found: Unravelled, table: dict[str, Any]) -> bytes:
    """The part description, with what is guessed of it and what to try next ahead of it."""
    import tomli_w

    head = [
        f'# Drawn up from {", ".join(found.paths)}. Nothing here is from a datasheet: every `source` that says "guessed" tells from what.',
        "#",
        "# To try next:",
        *(f"# - {step}" for step in found.next),
    ]
    if found.relatives:
        near = found.relatives[0]
        head += ["#", f"# Nearest in the catalog: {near.part}, but:", *(f"# - {change}" for change in near.changes)]
    return ("\n".join(head) + "\n\n" + tomli_w.dumps(table)).encode()
