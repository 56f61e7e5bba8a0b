"""Parts: the catalog, the description engine (words to commands), memory models (commands to pictures)."""

from .describe import Command, Panel, Part, catalog_names, load, load_file
from .engine import Commands, commands
from .framing import FRAMINGS, Payload

__all__ = ["FRAMINGS", "Command", "Commands", "Panel", "Part", "Payload", "catalog_names", "commands", "load", "load_file"]
