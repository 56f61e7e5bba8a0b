"""Many captures at once: looked at on every core, or on a cluster, and grouped by cause."""

from .found import Cause, Swept, captures_in, causes_of
from .journal import Journal
from .workers import on_cluster, on_this_machine

__all__ = ["Cause", "Journal", "Swept", "captures_in", "causes_of", "on_cluster", "on_this_machine"]
