"""The objects of a micro-controller's Python, as stand-ins that write what they would put on the wires into a VCD. Shares no code with the program."""

from __future__ import annotations

from pathlib import Path
from types import ModuleType
from typing import Any

import gpiod


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


class KernelI2c:
    """A bus of the kernel's, as `smbus2` opens it: takes its own messages."""

    def __init__(self, wires: Wires, bus: int, half: int) -> None:
        assert bus == 1
        self.bus = I2c(wires, half)

    def i2c_rdwr(self, message: Any) -> None:
        assert message.flags == 0  # a write to an address of seven bits
        self.bus.writeto(message.addr, bytes(message))


class KernelSpi:
    """A bus of the kernel's, as `spidev` opens it."""

    def __init__(self, wires: Wires, lines: dict[str, str]) -> None:
        self.bus, self.mode, self.no_cs, self.max_speed_hz = Spi(wires, lines["sck"], lines["mosi"]), 0, False, 0

    def open(self, bus: int, device: int) -> None:
        assert (bus, device) == (0, 0)

    def writebytes2(self, raw: bytes) -> None:
        assert self.mode == 0
        assert self.no_cs
        assert self.max_speed_hz > 0
        self.bus.write(raw)


class GpioChip:
    """The module `gpiod`, with its own settings and values; a request moves the wires. lines: offset to wire."""

    LineSettings = gpiod.LineSettings

    def __init__(self, wires: Wires, lines: dict[int, str]) -> None:
        self.wires, self.lines = wires, lines

    def request_lines(self, path: str, consumer: str, config: dict[int, gpiod.LineSettings]) -> GpioChip:
        assert path == "/dev/gpiochip0"
        assert consumer
        assert set(config) == set(self.lines)
        for offset, settings in config.items():
            assert settings.direction == gpiod.line.Direction.OUTPUT
            assert settings.output_value == gpiod.line.Value(self.wires.levels[self.lines[offset]])
        return self

    def set_value(self, line: int, value: gpiod.line.Value) -> None:
        self.wires.put(self.lines[line], int(value == gpiod.line.Value.ACTIVE))


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
