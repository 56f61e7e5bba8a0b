"""The objects of a micro-controller's Python, as stand-ins that write what they would put on the wires into a VCD. Shares no code with the program."""

from pathlib import Path
from types import ModuleType


class Wires:
    """Levels over time, in nanoseconds."""

    def __init__(self, **levels: int) -> None:
        self.now, self.levels, self.names = 50_000_000, dict(levels), list(levels)
        self.first = dict(levels)
        self.changes: list[tuple[int, str, int]] = []

    def put(self, name: str, level: int, rest: int = 500) -> None:
        self.now += rest
        if self.levels[name] != level:
            self.levels[name] = level
            self.changes.append((self.now, name, level))

    def write(self, path: Path) -> None:
        codes = {name: chr(33 + k) for k, name in enumerate(self.names)}
        out = [
            "$timescale 1 ns $end",
            *(f"$var wire 1 {codes[name]} {name} $end" for name in self.names),
            "$enddefinitions $end",
            "#0",
        ]
        out += [f"{self.first[name]}{codes[name]}" for name in self.names]
        for now, name, level in self.changes:
            out += [f"#{now}", f"{level}{codes[name]}"]
        path.write_text("\n".join([*out, f"#{self.now + 100_000}", ""]))


class I2c:
    """writeto(address, bytes): every byte is acknowledged."""

    def __init__(self, wires: Wires, half: int = 1300) -> None:
        self.wires, self.half = wires, half

    def writeto(self, address: int, raw: bytes) -> None:
        wires, half = self.wires, self.half
        wires.put("SDA", 0, 5000)
        for byte in (address << 1, *raw):
            wires.put("SCL", 0, half)
            for bit in range(7, -1, -1):
                wires.put("SDA", byte >> bit & 1, half // 2)
                wires.put("SCL", 1, half)
                wires.put("SCL", 0, half)
            wires.put("SDA", 0, half // 2)  # the device answers
            wires.put("SCL", 1, half)
        wires.put("SCL", 0, half)
        wires.put("SDA", 0, half)
        wires.put("SCL", 1, half)
        wires.put("SDA", 1, half)


class Spi:
    """write(bytes), mode 0."""

    def __init__(self, wires: Wires, clock: str = "CLK", data: str = "DIN", half: int = 250) -> None:
        self.wires, self.clock, self.data, self.half = wires, clock, data, half

    def write(self, raw: bytes) -> None:
        for byte in raw:
            for bit in range(7, -1, -1):
                self.wires.put(self.data, byte >> bit & 1, self.half // 2)
                self.wires.put(self.clock, 1, self.half)
                self.wires.put(self.clock, 0, self.half)


def pin(wires: Wires, name: str) -> object:
    """A pin that is called with its level."""

    def call(level: int) -> None:
        if level not in (0, 1):
            raise ValueError(level)
        wires.put(name, level)

    return call


def clock_of(wires: Wires) -> ModuleType:
    """The module `time`."""
    out = ModuleType("time")

    def sleep_us(us: int) -> None:
        wires.now += 1000 * us

    out.sleep_us = sleep_us  # type: ignore[attr-defined]
    out.sleep_ms = lambda ms: sleep_us(1000 * ms)  # type: ignore[attr-defined]
    return out
