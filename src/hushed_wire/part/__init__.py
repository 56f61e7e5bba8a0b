"""Parts: the catalog, the description engine (words to commands), memory models (commands to pictures)."""

from typing import TYPE_CHECKING

from ..lazy import exports

if TYPE_CHECKING:
    from .describe import Command, Panel, Part, catalog_names, load, load_file
    from .engine import Commands, commands
    from .framing import Payload

__all__ = ["Command", "Commands", "Panel", "Part", "Payload", "catalog_names", "commands", "load", "load_file"]

__getattr__ = exports(
    __name__,
    {
        "describe": ("Command", "Panel", "Part", "catalog_names", "load", "load_file"),
        "engine": ("Commands", "commands"),
        "framing": ("Payload",),
    },
)
