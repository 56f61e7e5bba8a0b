"""Ready sequences: a part's bring-up for a panel, and a test picture behind it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..errors import HushedError
from ..part.start_words import start_words
from .expand import _steps
from .parse import parse_text
from .state import State
from .target import Step, Target

if TYPE_CHECKING:
    from numpy.typing import NDArray

__all__ = ["start_text", "test_steps"]


def start_text(target: Target) -> str:
    """The bring-up of a part for a panel, as .hush text; panel keys and what the panel needs fill the description's lines."""
    part, panel = target.part, target.panel
    lines = part.start_by.get(target.framing, part.start)
    if part.memory.kind == "scanned":
        return "# nothing to set up: the LEDs show what the driver scans\n"
    if part.memory.kind == "chain":
        return "# nothing to set up: the LEDs show what they were sent last\n"
    if not lines:
        raise HushedError(f"{part.name} has no ready bring-up", remedy="write a sequence; see docs/sequence.md")
    words = start_words(part, panel)
    out = []
    for line in lines:
        filled = line.format(**words)
        if words.get("decode_mode_mask") == "digits-0-to-3" and line in (f"digit-{k} {{blank}}" for k in range(4)):
            filled = line.format(blank=15)
        out.append(filled)
    return "\n".join(out) + "\n"


def test_steps(target: Target) -> list[Step]:
    """The bring-up, and a test picture that fits the kind of panel."""
    state = State({target.name: target}, Path(), target)
    steps = list(_steps(state, parse_text(start_text(target), f"bring-up of {target.part.name}")))
    return [*steps, *_picture(state, target)]


def _picture(state: State, target: Target) -> list[Step]:
    panel, kind = target.panel, target.part.memory.kind
    if kind == "character" or panel.form == "text":
        text = _lettered(panel.width, panel.height)
        return list(_steps(state, parse_text(text, "test picture")))
    if panel.form == "digits":
        point, colons = "." if "dp" in panel.segments else "", {after for after, _, _ in panel.colons}
        shown = (f"{':' if at in colons and not point else ''}{(panel.width - at) % 10}{point}" for at in range(panel.width))
        text = f'text 0,0 "{"".join(shown)}"'
        return list(_steps(state, parse_text(text, "test picture")))
    import numpy as np

    from ..picture.test_card import colour_card, test_card
    from .canvas import pixels_step

    card: NDArray[Any]
    if kind in ("paper", "dimmed"):
        ink = (0, 255) if kind == "paper" else (255, 0)
        card = np.where(test_card(panel, target.name)[:, :, None], *ink).astype(np.uint8).repeat(3, 2)
    else:
        card = (
            colour_card(panel, target.name, target.part.grey)
            if kind in ("pixel", "chain") or panel.form == "colours"
            else test_card(panel, target.name)
        )
    return [pixels_step(state, card, "test picture")]


def _lettered(width: int, height: int) -> str:
    """A row number at both ends of each row, and columns counted between them."""
    rows = []
    for row in range(height):
        middle = "".join(str((column + 1) % 10) for column in range(1, width - 1))
        rows.append(f'text 0,{row} "{chr(65 + row)}{middle}{chr(97 + row)}"')
    return "\n".join(rows)
