"""Ready sequences: a part's bring-up for a panel, and a test picture behind it."""

from __future__ import annotations

from pathlib import Path

from ..errors import HushedError
from .expand import Step, Target, expand, picture_step
from .parse import parse_text

__all__ = ["start_text", "test_steps"]


def start_text(target: Target) -> str:
    """The bring-up of a part for a panel, as .hush text; panel keys are filled into the description's lines."""
    if not target.part.start:
        raise HushedError(f"{target.part.name} has no ready bring-up", remedy="write a sequence; see docs/sequence.md")
    panel = target.panel
    words = {"height": panel.height, "com_pins": panel.com_pins, "com_left_right": panel.com_left_right, **panel.upright}
    words["charge_pump"] = "on" if panel.supply == "charge-pump" else "off"
    return "\n".join(line.format(**words) for line in target.part.start) + "\n"


def test_steps(target: Target) -> list[Step]:
    """The bring-up, the test picture, and the display on."""
    from ..picture.test_card import test_card

    steps = expand(parse_text(start_text(target), f"bring-up of {target.part.name}"), [target], Path())
    return [*steps[:-1], picture_step(target, test_card(target.panel, target.name), "horizontal", "test picture"), steps[-1]]
