"""Lines of a description with braces in them: what may stand there, and what it is for a panel."""

from __future__ import annotations

from .describe import Panel, Part

__all__ = ["AREA_WORDS", "start_words"]

AREA_WORDS = ("left", "right", "top", "bottom", "page", "left_low", "left_high", "width")


def start_words(part: Part, panel: Panel) -> dict[str, object]:
    """The words of `start`: the memory's roles and every register (dots and hyphens as _) at its reset value or as the panel needs
    it, the panel's keys, and a few that follow from these."""
    words: dict[str, object] = {role: part.reset.get(register, 0) for role, register in part.memory.registers.items()}
    words |= {
        "width": panel.width,
        "height": panel.height,
        "columns": -(-panel.width // 8) * 8,
        "com_pins": panel.com_pins,
        "com_left_right": panel.com_left_right,
        **panel.upright,
    }
    words["charge_pump"] = "on" if panel.supply == "charge-pump" else "off"
    for register, value in {**part.reset, **panel.needs}.items():
        words[register.replace(".", "_").replace("-", "_")] = value
    words["digits"] = words.get("scan_limit_digits", 8)
    words["blank"] = 15 if words.get("decode_mode_mask") == "all" else 0
    return words
