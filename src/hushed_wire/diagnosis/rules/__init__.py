"""The table of rules: every one of them, from the wire upwards. A new finding is one rule in the module of its layer, and one row of codes.toml."""

from __future__ import annotations

from . import address, bridges, capture, drawn, exchanges, frame, lines, picture, scan, setup, timing, volts, wiring

__all__ = ["RULES"]

RULES = [
    rule
    for module in (capture, volts, lines, wiring, exchanges, drawn, frame, address, timing, scan, bridges, setup, picture)
    for rule in module.RULES
]
