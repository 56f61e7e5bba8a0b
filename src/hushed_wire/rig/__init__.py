"""The rig: what hangs on which wires, and the chain from a capture to pictures that follows from it."""

from typing import TYPE_CHECKING

from ..lazy import exports

if TYPE_CHECKING:
    from .assumption import Options, Setup, assume
    from .decoder import RigDecoder
    from .reading import DeviceReading, Reading, decode
    from .rig_file import load_rig, rig_toml
    from .schema import Bus, Device, Driver, Rig

__all__ = [
    "Bus", "Device", "DeviceReading", "Driver", "Options", "Reading", "Rig", "RigDecoder", "Setup", "assume", "decode", "load_rig", "rig_toml",
]  # fmt: skip

__getattr__ = exports(
    __name__,
    {
        "assumption": ("Options", "Setup", "assume"),
        "decoder": ("RigDecoder",),
        "reading": ("DeviceReading", "Reading", "decode"),
        "rig_file": ("load_rig", "rig_toml"),
        "schema": ("Bus", "Device", "Driver", "Rig"),
    },
)
