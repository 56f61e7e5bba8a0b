"""The outputs of bridges, by name."""

from __future__ import annotations

from .describe import Part

__all__ = ["pins_of"]


def pins_of(part: Part, count: int = 1) -> dict[str, int]:
    """The outputs of a bridge: name to bit. Expanders of two ports have a0-a7 and b0-b7, registers q0 upwards, others p0-p7, or p00-p07 and p10-p17."""
    if part.memory.kind != "port":
        return {}
    if part.memory.expander is not None and part.memory.expander.ports == 2:
        return {f"{port}{k}": 8 * side + k for side, port in enumerate("ab") for k in range(8)}
    if part.memory.ports > 1:
        return {f"p{port}{k}": 8 * port + k for port in range(part.memory.ports) for k in range(8)}
    letter = "q" if "load" in part.framings else "p"
    return {f"{letter}{k}": k for k in range(8 * count)}
