"""Parts: the catalog, the description engine (words to commands), memory models (commands to pictures)."""

from typing import TYPE_CHECKING

from ..lazy import exports

if TYPE_CHECKING:
    from .catalogs import Catalog, catalog_names, load, load_file
    from .describe import Command, Panel, Part
    from .engine import Commands, commands
    from .framing import Payload

__all__ = ["Catalog", "Command", "Commands", "Panel", "Part", "Payload", "catalog_names", "commands", "load", "load_file"]

__getattr__ = exports(
    __name__,
    {
        "catalogs": ("Catalog", "catalog_names", "load", "load_file"),
        "describe": ("Command", "Panel", "Part"),
        "engine": ("Commands", "commands"),
        "framing": ("Payload",),
    },
)
