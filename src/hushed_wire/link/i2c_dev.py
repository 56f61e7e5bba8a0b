"""Linux i2c-dev as a link, by way of smbus2: probing by SMBus quick and read-byte, transfers by plain I2C messages.

Probing goes through the SMBus calls since these tell when a kernel driver has claimed an address (EBUSY); a transfer by plain
messages would go over that driver's head. Faults are told apart as the kernel's i2c fault codes document them.
"""

from __future__ import annotations

import errno
import re
import time
from pathlib import Path
from typing import Any

from ..errors import HushedError
from ..extras import wanted
from .base import BusHeld, LinkLost, LinkUnusable, Refused

__all__ = ["I2cDev", "open_i2c_dev"]

NACK = {errno.ENXIO, errno.EREMOTEIO}
HUNG = {errno.ETIMEDOUT, errno.EAGAIN}  # no answer in time; arbitration lost, which is how a stuck SDA shows
GONE = {errno.ESHUTDOWN, errno.EBADF}


def open_i2c_dev(name: str) -> I2cDev:
    """Opens `i2c-1`, `1` or `/dev/i2c-1`. Raises LinkUnusable: absent, disabled, not permitted; PackageMissing without smbus2."""
    found = re.fullmatch(r"(?:/dev/)?(?:i2c-)?(\d+)", name)
    if not found:
        raise LinkUnusable(
            f"there is no link '{name}'", where="--link", remedy="desk, or a bus like i2c-1; hushed-wire links lists them"
        )
    with wanted("smbus2", "i2c-dev wants", "--link"):
        from smbus2 import SMBus, i2c_msg
    path = f"/dev/i2c-{found[1]}"
    try:
        return I2cDev(path, SMBus(path), i2c_msg)
    except OSError as error:
        raise _not_opened(path, error) from error


def _not_opened(path: str, error: OSError) -> LinkUnusable:
    what, remedy = {
        errno.ENOENT: (
            "is absent",
            "hushed-wire links lists the buses there are; where none is, enable I2C for the board and load i2c-dev",
        ),
        errno.EACCES: (
            "may not be opened",
            "add yourself to the group that owns it (often i2c) and log in again, or run as root",
        ),
        errno.ENXIO: ("is disabled", "its adapter is not bound to a driver: enable the bus in the board's configuration"),
        errno.ENODEV: ("is disabled", "its adapter is not bound to a driver: enable the bus in the board's configuration"),
        errno.EBUSY: ("is in use", "stop the program or driver that holds it"),
    }.get(error.errno or 0, (f"cannot be opened: {error.strerror}", "hushed-wire links lists the buses there are"))
    return LinkUnusable(what, where=path, remedy=remedy)


class I2cDev:
    """An i2c-dev bus. quick: the adapter can send an address alone."""

    room = 4096  # bytes of one message; more than this and adapters refuse

    def __init__(self, path: str, bus: Any, message: Any) -> None:
        from smbus2 import I2cFunc

        self.name, self.bus, self.message = path, bus, message
        functions = I2cFunc(bus.funcs)
        self.quick = bool(functions & I2cFunc.SMBUS_QUICK)
        self.reads = bool(functions & I2cFunc.SMBUS_READ_BYTE)
        self.plain = bool(functions & I2cFunc.I2C)

    def check(self) -> None:
        """The kernel does not tell levels: a held line shows at the first probe."""

    def _raise(self, error: OSError, address: int, position: int) -> None:
        code = error.errno or 0
        # No device: nobody at that address, as some adapters put it, or no adapter any more; then its file is gone, too.
        absent = code == errno.ENODEV and Path(self.name).exists()
        if code in NACK or absent:
            raise Refused(address, position) from error
        if code == errno.EBUSY:
            raise LinkUnusable("in use by a kernel driver", where=self.name) from error
        if code in HUNG:
            raise BusHeld(
                f"the bus does not move ({error.strerror}): a line is held low, or a device never lets go of the clock",
                where=self.name,
                remedy="measure SCL and SDA: the one that is low is held. Power the devices off and on, check the pull-ups, look for a short",
            ) from error
        if code == errno.EOPNOTSUPP:
            raise LinkUnusable(
                "the adapter lacks what this needs", where=self.name, remedy="hushed-wire links tells what each can do"
            ) from error
        what = "the bus is gone" if code in (*GONE, errno.ENODEV) else f"the transfer failed: {error.strerror}"
        raise LinkLost(what, where=self.name, remedy="check the adapter and its cable, then try again") from error

    def write(self, address: int, data: bytes) -> None:
        """One write transaction; without data an SMBus quick, which is the address alone."""
        try:
            if not data:
                self.bus.write_quick(address)
                return
            if not self.plain:
                raise LinkUnusable(
                    "the adapter knows only SMBus, not plain I2C messages", where=self.name, remedy="take another bus"
                )
            self.bus.i2c_rdwr(self.message.write(address, data))
        except OSError as error:
            self._raise(error, address, 0 if not data else -1)

    def read(self, address: int, count: int) -> bytes:
        """One read transaction of a byte, or of more where the adapter sends plain messages."""
        try:
            if count == 1 and self.reads:
                return bytes([self.bus.read_byte(address)])
            message = self.message.read(address, count)
            self.bus.i2c_rdwr(message)
            return bytes(message)
        except OSError as error:
            self._raise(error, address, 0)
            raise

    def wait(self, seconds: float) -> None:
        """Sleeps."""
        time.sleep(seconds)

    def clock(self) -> float:
        """Seconds."""
        return time.monotonic()

    def close(self) -> None:
        """Closes the device file."""
        try:
            self.bus.close()
        except OSError as error:
            raise HushedError(f"cannot be closed: {error.strerror}", where=self.name) from error
