"""Hushed Wire: explains dark and garbled displays from a capture of their wires.

The core has no interface: nothing outside `cli` and `view` prints, parses arguments or opens a window. Each package has
a short public surface; start with `hushed_wire.trace` (captures), `hushed_wire.bus` (words), `hushed_wire.part`
(commands), `hushed_wire.rig` (the chain of them) and `hushed_wire.diagnosis` (findings).
"""

from .version import VERSION as __version__

__all__ = ["__version__"]
