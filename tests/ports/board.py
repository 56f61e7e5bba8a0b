"""A board with a micro-controller's Python, played: its pins, an I2C device that acknowledges, and its serial port as a pseudo-terminal.

board.py FIRMWARE.py OUT.vcd ADDRESS NAME=PIN:ROLE ... says the terminal's path, runs the firmware until it is ended by a signal, and writes
what the pins did. Shares no code with the program.
"""

import io
import os
import runpy
import signal
import sys
import termios
import tty
from pathlib import Path
from types import ModuleType, SimpleNamespace

from stand_in import Wires, clock_of


class Device:
    """Hears the bus bit by bit; acknowledges its address and what is written to it, and says 5Ah for ever when it is read."""

    def __init__(self, address: int) -> None:
        self.address, self.sda = address, 1
        self.count, self.value, self.state = -1, 0, "idle"

    def moved(self, name: str, scl: int, sda: int) -> None:
        """A line has changed; both levels as they are now."""
        if name == "sda" and scl:
            self.count, self.value, self.sda = -1, 0, 1
            self.state = "idle" if sda else "address"
        elif name == "scl" and self.state != "idle":
            self.rise(sda) if scl else self.fall()

    def rise(self, sda: int) -> None:
        if self.count < 8:
            self.value = self.value << 1 | sda
        elif self.state == "read" and sda:
            self.state = "idle"  # the master wants no more

    def fall(self) -> None:
        self.count += 1
        if self.count == 8 and self.state == "address":
            mine = self.value >> 1 == self.address
            self.state = ("read" if self.value & 1 else "write") if mine else "idle"
            self.sda = 0 if mine else 1
        elif self.count == 8:
            self.sda = 0 if self.state == "write" else 1
        elif self.count == 9:
            self.count, self.value, self.sda = 0, 0, 1
        if self.state == "read" and self.count < 8:
            self.sda = 0x5A >> (7 - self.count) & 1


def main() -> None:
    firmware, out, address, *pins = sys.argv[1:]
    names = {pin: (name, role) for name, pin, role in ((n, *p.split(":")) for n, p in (text.split("=") for text in pins))}
    wires = Wires(**{name: 1 for name, _ in names.values()})
    device = Device(int(address, 16))
    driven = {"scl": 1, "sda": 1}
    lines = {role: name for name, role in names.values()}

    def settle(rest: int) -> None:
        """The lines as they are pulled; what changes is heard, and may be answered."""
        for role in ("scl", "sda"):
            level = driven[role] & (device.sda if role == "sda" else 1)
            if wires.levels[lines[role]] != level:
                wires.put(lines[role], level, rest)
                device.moved(role, wires.levels[lines["scl"]], wires.levels[lines["sda"]])
                settle(100)

    class Pin:
        OPEN_DRAIN, OUT = "open-drain", "out"

        def __init__(self, number: int | str, mode: str, value: int) -> None:
            self.name, self.role = names[str(number)]
            assert (mode, value) == ("open-drain" if self.role in driven else "out", 1)

        def __call__(self, level: int | None = None) -> int:
            if level is None:
                return wires.levels[self.name]
            if self.role in driven:
                driven[self.role] = level
                settle(300)
            else:
                wires.put(self.name, level)
            return level

    machine = ModuleType("machine")
    machine.Pin = Pin  # type: ignore[attr-defined]
    sys.modules |= {"machine": machine, "time": clock_of(wires)}
    ours, theirs = os.openpty()
    tty.setraw(theirs, termios.TCSANOW)
    print(os.ttyname(theirs), flush=True)

    class Ended(Exception):
        pass

    def end(*_: object) -> None:
        raise Ended

    signal.signal(signal.SIGTERM, end)
    sys.stdin = SimpleNamespace(buffer=io.FileIO(ours, "r", closefd=False))  # type: ignore[assignment]
    sys.stdout = SimpleNamespace(buffer=io.FileIO(ours, "w", closefd=False), flush=lambda: None)  # type: ignore[assignment]
    try:
        runpy.run_path(firmware, run_name="__main__")
    except Ended:
        wires.write(Path(out))


if __name__ == "__main__":
    main()
