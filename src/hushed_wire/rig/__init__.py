"""The rig: what hangs on which wires, and the chain from a capture to pictures that follows from it."""

from typing import TYPE_CHECKING

from ..lazy import exports

if TYPE_CHECKING:
    from .assumption import Options, Setup, assume
    from .pipeline import DeviceReading, Reading, lines_of, read, read_with
    from .schema import Bus, Device, Driver, Rig, load_rig, rig_toml, the_bus

__all__ = [
    "Bus",
    "Device",
    "DeviceReading",
    "Driver",
    "Options",
    "Reading",
    "Rig",
    "Setup",
    "assume",
    "lines_of",
    "load_rig",
    "read",
    "read_with",
    "rig_toml",
    "the_bus",
]

__getattr__ = exports(
    __name__,
    {
        "assumption": ("Options", "Setup", "assume"),
        "pipeline": ("DeviceReading", "Reading", "lines_of", "read", "read_with"),
        "schema": ("Bus", "Device", "Driver", "Rig", "load_rig", "rig_toml", "the_bus"),
    },
)
