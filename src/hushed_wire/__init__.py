"""Hushed Wire: explains dark and garbled displays from a capture of their wires.

    import hushed_wire

    capture = hushed_wire.read_capture("tide.vcd")
    outcome = hushed_wire.diagnose(capture, hushed_wire.load_rig("front-desk.toml"))

These names are loaded when they are first used (see `library`). The core has no interface: nothing outside `cli` and `view` prints,
parses arguments or opens a window. Each package has a short public surface; start with `hushed_wire.trace` (captures), `hushed_wire.bus`
(words), `hushed_wire.part` (commands), `hushed_wire.rig` (the chain of them) and `hushed_wire.diagnosis` (findings).
"""

from typing import TYPE_CHECKING

from .lazy import exports
from .version import VERSION as __version__

if TYPE_CHECKING:
    from .errors import HushedError
    from .library import compare, decode, diagnose, guess_rig, load_part, load_rig, read_capture, rehearse, screen
    from .part import Catalog

__all__ = [
    "Catalog", "HushedError", "__version__", "compare", "decode", "diagnose", "guess_rig", "load_part", "load_rig", "read_capture", "rehearse", "screen",
]  # fmt: skip

__getattr__ = exports(
    __name__,
    {
        "errors": ("HushedError",),
        "library": ("compare", "decode", "diagnose", "guess_rig", "load_part", "load_rig", "read_capture", "rehearse", "screen"),
        "part": ("Catalog",),
    },
)
