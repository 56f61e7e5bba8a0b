"""Numbers that were written in decimal and meant in hex: what a statement would send then, and how wrong a set-up is either way."""

from __future__ import annotations

import re

from ..part.bring_up import set_up_in, unmet_registers
from ..part.describe import Value
from ..part.wrap import Send
from .listing import items_of
from .target import Target

__all__ = ["DECIMAL", "as_hex", "unmet_by"]

DECIMAL = re.compile(r"(?<![\w.])[0-9]{2}(?![\w.])")


def as_hex(text: str, raw: bytes) -> bytes:
    """The bytes of a statement with its decimal numbers read as hex; nothing where they are not one number a byte."""
    words = text.split()[1:]
    values = [
        int(word, 16) if word.isdecimal() else int(word, 0)
        for word in words
        if re.fullmatch(r"[0-9]{1,2}|0[xb][0-9a-fA-F]+", word)
    ]
    return bytes(values) if len(values) == len(words) == len(raw) and max(values, default=256) < 256 else b""


def unmet_by(target: Target, sends: list[Send]) -> int:
    """How many rules on registers a device's sends break, and how much of them is no command."""
    items = items_of(target.part, sends)
    told: dict[str, Value] = {}
    for item in items:
        if item.is_command:
            command = target.part.command[item.kind]
            told |= {f"{command.owner}.{name}": value for name, value in item.fields.items()}
    if not set_up_in(target.part, {item.name for item in items}):
        return 99
    return len(unmet_registers(target.part, target.panel, target.framing, told)) + sum(
        not item.is_command and item.name != "data" for item in items
    )
