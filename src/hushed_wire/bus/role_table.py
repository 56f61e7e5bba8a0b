"""The roles of each kind of bus: those that it cannot do without, and those that it may have."""

from __future__ import annotations

__all__ = ["GROUPED", "OPTIONAL_ROLES", "ROLES", "SEGMENTS"]

SEGMENTS = ("a", "b", "c", "d", "e", "f", "g", "dp")
GROUPED = ("a", "clock", "data", "latch")  # roles that a panel with row groups cannot do without

# Roles that a bus cannot do without, and those that it may have. A parallel bus also needs e or wr: see `check`.
DATA = tuple(f"d{k}" for k in range(16))
BESIDE = ("reset", "backlight")
ROLES: dict[str, tuple[str, ...]] = {
    "i2c": ("scl", "sda"),
    "spi": ("sck", "mosi"),
    "parallel": ("d4", "d5", "d6", "d7"),
    "shift": ("clock", "data"),
    "matrix": (),
}
OPTIONAL_ROLES: dict[str, tuple[str, ...]] = {
    "i2c": BESIDE,
    "spi": ("miso", "cs", "cs1", "cs2", "cs3", "dc", *BESIDE),
    "parallel": (*DATA[:4], *DATA[8:], "rs", "rw", "e", "e2", "wr", "rd", "cs", "cs1", "cs2", "cs3", *BESIDE),
    "shift": ("latch", "enable", *BESIDE),
    "matrix": (
        *(f"{kind}{k}" for kind in ("row", "column", "digit") for k in range(32)),
        *(f"segment_{name}" for name in SEGMENTS),
        *GROUPED,
        "b",
        "enable",
    ),
}
