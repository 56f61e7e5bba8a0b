"""Live buses within reach: what sysfs and the device files tell of I2C, SPI and GPIO, and whether each can be used.

`root` is "/" but for tests and containers (environment variable HUSHED_WIRE_ROOT in the command).
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass, field
from pathlib import Path

__all__ = ["Found", "discover"]


@dataclass
class Found:
    """A bus. kind: i2c, spi or gpio. clock: hertz where the device tree tells it. claimed: addresses that drivers hold.

    usable: "" or why it cannot be opened.
    """

    kind: str
    link: str
    name: str = ""
    driver: str = ""
    clock: int | None = None
    claimed: list[int] = field(default_factory=list)
    usable: str = ""


def _text(path: Path) -> str:
    try:
        return path.read_bytes().rstrip(b"\0\n").decode("utf-8", "replace").strip()
    except OSError:
        return ""


def _driver(path: Path) -> str:
    try:
        return (path / "driver").resolve(strict=True).name
    except OSError:
        return ""


def _usable(device: Path) -> str:
    if not device.exists():
        return "absent: no device file (load the module, like i2c-dev or spidev)"
    if not os.access(device, os.R_OK | os.W_OK):
        return "not permitted: join the group that owns the device file, or run as root"
    return ""


def discover(root: Path = Path("/")) -> list[Found]:
    """All buses that this machine tells of."""
    out = []
    sys, dev = root / "sys", root / "dev"
    for entry in sorted((sys / "class/i2c-dev").glob("i2c-*"), key=_number):
        number = _number(entry)
        device = sys / "bus/i2c/devices"
        adapter = device / f"i2c-{number}"
        rate = adapter / "of_node/clock-frequency"
        clock = int.from_bytes(rate.read_bytes()[:4], "big") if rate.is_file() else None  # device-tree cells are big-endian
        claimed = [int(d.name.partition("-")[2], 16) for d in device.glob(f"{number}-*") if (d / "driver").exists()]
        found = Found(
            "i2c",
            entry.name,
            _text(entry / "name") or _text(adapter / "name"),
            _driver(adapter / "device"),
            clock,
            sorted(claimed),
        )
        found.usable = _usable(dev / entry.name)
        out.append(found)
    for entry in sorted((sys / "class/spidev").glob("spidev*"), key=lambda path: path.name):
        controller = _driver(entry / "device")
        out.append(Found("spi", entry.name, _text(entry / "device/modalias"), controller, usable=_usable(dev / entry.name)))
    chips = sorted((sys / "bus/gpio/devices").glob("gpiochip*"), key=_number)
    out += [Found("gpio", chip.name, _text(chip / "label"), _driver(chip), usable=_usable(dev / chip.name)) for chip in chips]
    return out


def _number(path: Path) -> int:
    found = re.search(r"(\d+)$", path.name)
    return int(found[1]) if found else 0
