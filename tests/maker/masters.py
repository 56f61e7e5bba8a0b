"""What drives the lines: I2C (UM10204), SPI in its four modes, 8080/6800-style parallel buses, shift registers and scanned LEDs."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

from .wave import Wave

__all__ = ["I2c", "Parallel", "Pulses", "Shift", "Spi", "TwoWire"]


@dataclass
class I2c:
    """A master with clock and data, as a peripheral (even) or bit-banged (data long before the clock). present: addresses that answer."""

    wave: Wave
    hertz: float = 400e3
    present: tuple[int, ...] = (0x3C,)
    scl: str = "SCL"
    sda: str = "SDA"
    gap: float = 3e3

    def _put(self, scl: int | None = None, sda: int | None = None) -> None:
        self.wave.put(**({} if scl is None else {self.scl: scl}), **({} if sda is None else {self.sda: sda}))

    def start(self) -> None:
        """START: data fall while the clock is high."""
        half = 0.5e9 / self.hertz
        self._put(sda=1)
        self.wave.wait(half)
        self._put(scl=1)
        self.wave.wait(half)
        self._put(sda=0)
        self.wave.wait(half)
        self._put(scl=0)

    def bit(self, level: int) -> None:
        """One clock: data change a third into its low phase."""
        whole = 1e9 / self.hertz
        self.wave.wait(0.16 * whole)
        self._put(sda=level)
        self.wave.wait(0.4 * whole)
        self._put(scl=1)
        self.wave.wait(0.44 * whole)
        self._put(scl=0)

    def byte(self, value: int, acknowledged: bool) -> None:
        """Eight bits and the acknowledge, as its receiver gives it."""
        for shift in range(7, -1, -1):
            self.bit(value >> shift & 1)
        self.bit(0 if acknowledged else 1)

    def stop(self) -> None:
        """STOP: data rise while the clock is high."""
        half = 0.5e9 / self.hertz
        self.wave.wait(0.16e9 / self.hertz)
        self._put(sda=0)
        self.wave.wait(half)
        self._put(scl=1)
        self.wave.wait(half)
        self._put(sda=1)
        self.wave.pause(2 * half + self.gap)

    def write(self, address: int, data: Sequence[int]) -> bool:
        """A write; whether it was acknowledged. A call that nobody answers ends with a STOP."""
        answered = address in self.present
        self.start()
        self.byte(address << 1, answered)
        for value in data if answered else ():
            self.wave.pause(0.2e9 / self.hertz)
            self.byte(value, True)
        self.stop()
        return answered


@dataclass
class TwoWire(I2c):
    """A bit-banged master of two wires without addresses (TM1637 datasheet, "Data transmission"): the lowest bit first. there: who acknowledges."""

    there: bool = True
    scl: str = "CLK"
    sda: str = "DIO"

    def byte(self, value: int, acknowledged: bool) -> None:
        """Eight bits, the lowest first, and the ninth clock, in which the part answers."""
        for shift in range(8):
            self.bit(value >> shift & 1)
        self.bit(0 if acknowledged else 1)

    def transfer(self, data: Sequence[int]) -> None:
        """Bytes between a START and a STOP."""
        self.start()
        for value in data:
            self.byte(value, self.there)
            self.wave.pause(0.2e9 / self.hertz)
        self.stop()


@dataclass
class Spi:
    """A master with select and, where `dc` is named, a line that tells data from commands. each: the select encloses a byte, not a block."""

    wave: Wave
    hertz: float = 1e6
    mode: int = 0
    lsb: bool = False
    each: bool = False
    sck: str = "SCK"
    mosi: str = "MOSI"
    cs: str = "CS"
    dc: str = ""
    nine: bool = False
    gap: float = 500.0
    active: int = 0

    def bits(self, value: int, count: int) -> None:
        """Bits as the mode has them: data are steady at the edge that samples. Most of what the tests do is this loop, so it is written out."""
        half, idle, late = 0.5e9 / self.hertz, self.mode >> 1, self.mode & 1
        wave, sck, mosi = self.wave, self.sck, self.mosi
        clock, data, now = wave.levels[sck], wave.levels[mosi], wave.now
        changed, wavering, chance = wave.changes.append, wave.wavering, wave.chance.random
        for shift in range(count) if self.lsb else range(count - 1, -1, -1):
            bit = value >> shift & 1
            if late and clock == idle:
                clock = 1 - idle
                changed((int(now), sck, clock))
            if bit != data:
                data = bit
                changed((int(now), mosi, data))
            now += max(1.0, half * (1 + wavering * (-1 + 2 * chance())))
            if late == (clock != idle):
                clock = idle if late else 1 - idle
                changed((int(now), sck, clock))
            now += max(1.0, half * (1 + wavering * (-1 + 2 * chance())))
            if not late and clock != idle:
                clock = idle
                changed((int(now), sck, clock))
        wave.levels[sck], wave.levels[mosi], wave.now = clock, data, now

    def write(self, data: Sequence[int], is_data: bool = False, select: str = "") -> None:
        """Words in one select, or each in its own."""
        cs = select or self.cs
        if self.dc:
            self.wave.put(**{self.dc: int(is_data)})
            self.wave.wait(max(100.0, 0.2e9 / self.hertz))
        for group in ([value] for value in data) if self.each else (data,):
            if cs:
                self.wave.put(**{cs: self.active})
                self.wave.wait(0.5e9 / self.hertz + 100)
            for value in group:
                self.bits(value | (0x100 if is_data else 0), 9) if self.nine else self.bits(value, 8)
                self.wave.pause(0.3e9 / self.hertz)
            self.wave.wait(0.5e9 / self.hertz)
            if cs:
                self.wave.put(**{cs: 1 - self.active})
                self.wave.pause(self.gap)


@dataclass
class Pulses:
    """One wire (WS2812B, "Sequence chart"): each bit goes up, and comes down sooner for a 0 than for a 1. high: of a 0 and of a 1, whole: of a bit,
    nanoseconds."""

    wave: Wave
    high: tuple[float, float] = (400.0, 800.0)
    whole: float = 1250.0
    line: str = "DIN"

    def write(self, data: Sequence[int]) -> None:
        """Bytes, the highest bit first; whoever writes rests behind them."""
        for value in data:
            for shift in range(7, -1, -1):
                up = self.high[value >> shift & 1]
                self.wave.put(**{self.line: 1})
                self.wave.wait(up)
                self.wave.put(**{self.line: 0})
                self.wave.wait(self.whole - up)


@dataclass
class Parallel:
    """A 6800-style bus: words are taken as E falls. data: the lines, D7 last; four of them carry halves, the upper first."""

    wave: Wave
    data: tuple[str, ...]
    rs: str = "RS"
    rw: str = ""
    e: str = "E"
    setup: float = 200.0
    pulse: float = 500.0
    hold: float = 60.0
    ready: Callable[[Wave], None] = field(default=lambda wave: None)

    def strobe(self, value: int) -> None:
        """One pulse of E."""
        self.wave.put(**{line: value >> bit & 1 for bit, line in enumerate(self.data)})
        self.wave.wait(self.setup)
        self.wave.put(**{self.e: 1})
        self.wave.wait(self.pulse)
        self.wave.put(**{self.e: 0})
        self.wave.wait(self.hold)

    def write(self, value: int, rs: int) -> None:
        """A byte, in one go or in halves."""
        self.wave.put(**{self.rs: rs}, **({self.rw: 0} if self.rw else {}))
        if len(self.data) == 8:
            self.strobe(value)
        else:
            self.strobe(value >> 4)
            self.wave.wait(700)
            self.strobe(value & 15)


@dataclass
class Shift:
    """A shift register: bits at rising clocks, the highest output first, taken over as the latch rises."""

    wave: Wave
    hertz: float = 800e3
    clock: str = "CLK"
    data: str = "DATA"
    latch: str = "LATCH"
    lsb: bool = False

    def write(self, values: Sequence[int]) -> None:
        """Bytes, the farthest register's first, and a pulse of the latch."""
        half = 0.5e9 / self.hertz
        for value in values:
            for shift in range(8) if self.lsb else range(7, -1, -1):
                self.wave.put(**{self.data: value >> shift & 1})
                self.wave.wait(half)
                self.wave.put(**{self.clock: 1})
                self.wave.wait(half)
                self.wave.put(**{self.clock: 0})
        self.wave.wait(half)
        if self.latch:
            self.wave.put(**{self.latch: 1})
            self.wave.wait(half)
            self.wave.put(**{self.latch: 0})
            self.wave.wait(half)
