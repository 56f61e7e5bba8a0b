"""Linux spidev, and GPIO lines that are driven one by one, as links: by way of spidev and gpiod.

Strategy: on spidev the kernel clocks the words, and GPIO lines beside it carry D/C, reset and selects. Without spidev a bus is played:
the moves are encoded to the exact trace that a rehearsal would write, and its states are put on the lines one after the other.
Opening fails with what is wrong: absent, not permitted, in use, or lacking something.
"""

from __future__ import annotations

import errno
import re
import time
from collections.abc import Collection
from pathlib import Path
from typing import TYPE_CHECKING, Any

from ..bus.base import ANSWERS, BUSES
from ..errors import HushedError
from ..extras import wanted
from ..rig.pinmap import load_pin_map
from .base import LinkLost, LinkUnusable

if TYPE_CHECKING:
    from ..bus.moves import Move
    from ..rig.schema import Bus, Rig

__all__ = ["GpioLink", "SpiLink", "gpio_numbers", "open_pins", "unusable"]

LARGEST = 4096  # bytes of one spidev transfer that every kernel takes
SLEEP_FROM = 50e-6  # rests shorter than this pass while the next line is being set


def open_pins(name: str, rig: Rig, bus: Bus, path: str) -> SpiLink | GpioLink:
    """Opens `spi-0.0` (or /dev/spidev0.0), or `gpiochip0`, for a bus of a rig. path: of the rig file, for its pin map."""
    on_spi = re.fullmatch(r"(?:/dev/)?spi(?:dev|-)?(\d+)\.(\d+)", name)
    on_gpio = re.fullmatch(r"(?:/dev/)?gpio(?:chip|-)?(\d+)", name)
    if not on_spi and not on_gpio:
        raise LinkUnusable(
            f"there is no link '{name}' for a bus of kind {bus.kind}", where="--link",
            remedy="desk, spi-0.0 (the kernel's SPI), or gpiochip0 (lines driven one by one); hushed-wire links lists them",
        )  # fmt: skip
    if BUSES[bus.kind].scanned:
        raise LinkUnusable(
            "LEDs cannot be scanned in real time from here", where="--link", remedy="rehearse it, or take the desk"
        )
    if on_spi:
        if bus.kind != "spi":  # the kernel's device is for that bus alone
            raise LinkUnusable(f"bus '{bus.name}' is {bus.kind}, not SPI", where="--link", remedy="take gpiochip0, or the desk")
        roles = [role for role in bus.pins if role not in ("sck", "mosi", "cs", *ANSWERS)]
        numbers = gpio_numbers(bus, Path(path).parent, roles)
        if "dc" in bus.lines and "dc" not in numbers:
            raise LinkUnusable(
                f"bus '{bus.name}' names no pin for D/C", where=path, remedy='add pins = { dc = "GPIO25" } to the bus'
            )
        return SpiLink(int(on_spi[1]), int(on_spi[2]), rig, bus, _lines("/dev/gpiochip0", numbers, bus) if numbers else None)
    moved = [role for role in bus.lines if role not in ANSWERS]
    missing = [role for role in moved if role not in bus.pins]
    if missing:
        raise LinkUnusable(
            f"bus '{bus.name}' names no pin for {', '.join(missing)}", where=path, remedy="add them to the bus's pins"
        )
    assert on_gpio is not None
    return GpioLink(rig, bus, _lines(f"/dev/gpiochip{on_gpio[1]}", gpio_numbers(bus, Path(path).parent, moved), bus))


def gpio_numbers(bus: Bus, folder: Path, roles: list[str]) -> dict[str, int]:
    """The GPIO number of each role's pin; raises HushedError where a pin is none."""
    out = {}
    pins = load_pin_map(bus.driver.pin_map, folder) if bus.driver.pin_map else None
    for role in roles:
        pin = bus.pins[role]
        if pins is not None:
            number = pins.find(pin, bus.driver.pin_scheme).gpio
        else:
            found = re.fullmatch(r"(?i)(?:gpio)?[ _-]?(\d+)", str(pin))
            number = int(found[1]) if found and bus.driver.pin_scheme != "header" else None
        if number is None:
            raise HushedError(
                f"bus '{bus.name}': pin '{pin}' for {role} is no GPIO",
                remedy="give a GPIO number, like GPIO25, or a pin map that has it",
            )
        out[role] = number
    return out


def _lines(path: str, numbers: dict[str, int], bus: Bus) -> Lines:
    with wanted("gpiod", "GPIO lines want", "--link"):
        import gpiod
    return Lines(gpiod, path, numbers, bus.select == "high", [role for role, what in bus.shifters.items() if what.inverts])


def unusable(path: str, error: OSError, busy: str) -> LinkUnusable:
    """What is wrong with a device that cannot be opened. busy: what to do where it is in use."""
    code = error.errno or 0
    what, remedy = {
        errno.ENOENT: ("is absent", "hushed-wire links lists what there is; enable SPI for the board, and load spidev"),
        errno.EACCES: (
            "may not be opened",
            "add yourself to the group that owns it (often spi or gpio) and log in again, or run as root",
        ),
        errno.EPERM: (
            "may not be opened",
            "add yourself to the group that owns it (often spi or gpio) and log in again, or run as root",
        ),
        errno.EBUSY: ("is in use", busy),
        errno.ENODEV: ("is disabled", "its controller is not bound to a driver: enable it in the board's configuration"),
        errno.ENXIO: ("is disabled", "its controller is not bound to a driver: enable it in the board's configuration"),
        errno.EINVAL: ("refuses what was asked", "it lacks that mode, rate or line: see hushed-wire links"),
        errno.ENOTTY: ("is no such device", "hushed-wire links lists what there is"),
    }.get(code, (f"cannot be opened: {error.strerror}", "hushed-wire links lists what there is"))
    return LinkUnusable(what, where=path, remedy=remedy)


class Lines:
    """GPIO lines of one chip, by role, all of them outputs; selects and resets begin at rest."""

    def __init__(self, gpiod: Any, path: str, numbers: dict[str, int], select_active: bool, turned: Collection[str] = ()) -> None:
        """turned: roles whose lines go through something that inverts."""
        self.path, self.numbers, self.turned = path, numbers, turned
        self.value = gpiod.line.Value
        settings = gpiod.LineSettings(direction=gpiod.line.Direction.OUTPUT)
        high = {
            number: self.value.ACTIVE
            for role, number in numbers.items()
            if (role in ("reset", "backlight", "wr", "rd") or (role.startswith("cs") and not select_active)) != (role in turned)
        }
        try:
            if not gpiod.is_gpiochip_device(path):
                raise LinkUnusable("is absent, or no GPIO chip", where=path, remedy="hushed-wire links lists what there is")
            self.request = gpiod.request_lines(
                path, consumer="hushed-wire", config={tuple(numbers.values()): settings}, output_values=high
            )
        except OSError as error:
            used = ", ".join(f"{role} on line {number}" for role, number in numbers.items())
            raise unusable(
                path, error, f"one of its lines is taken ({used}): stop what holds it, or choose another pin"
            ) from error

    def set(self, levels: dict[str, bool]) -> None:
        """Puts levels on lines, all at once."""
        values = {
            self.numbers[role]: self.value.ACTIVE if high != (role in self.turned) else self.value.INACTIVE
            for role, high in levels.items()
            if role in self.numbers
        }
        try:
            if values:
                self.request.set_values(values)
        except OSError as error:
            raise LinkLost(
                f"a line cannot be set: {error.strerror}", where=self.path, remedy="check the board, then try again"
            ) from error

    def close(self) -> None:
        """Lets go of the lines."""
        self.request.release()


class Timed:
    """What links with a clock of their own share."""

    def check(self) -> None:
        """Nothing can be seen from this side."""

    def wait(self, seconds: float) -> None:
        """Sleeps."""
        time.sleep(seconds)

    def clock(self) -> float:
        """Seconds."""
        return time.monotonic()


class SpiLink(Timed):
    """Linux spidev, with D/C, reset and further selects on GPIO lines."""

    def __init__(self, number: int, select: int, rig: Rig, bus: Bus, lines: Lines | None) -> None:
        with wanted("spidev", "spidev wants", "--link"):
            import spidev
        from ..rig.wires import pace_of

        self.name, self.bus, self.lines = f"/dev/spidev{number}.{select}", bus, lines
        over = [role.upper() for role, what in bus.shifters.items() if what.inverts and role in ("sck", "mosi")]
        if over:
            raise LinkUnusable(
                f"{' and '.join(over)} go through something that inverts, and spidev cannot turn them over", where=self.name,
                remedy="play the bus on GPIO lines: --link gpiochip0",
            )  # fmt: skip
        devices = rig.devices_on(bus)
        part = rig.target(devices[0]).part if devices else None
        self.device = spidev.SpiDev()
        try:
            self.device.open(number, select)
            self.device.mode = bus.mode
            if bus.select == "high":
                self.device.cshigh = True
            if bus.order == "lsb":
                self.device.lsbfirst = True
            usual = BUSES[bus.kind].load().USUAL_CLOCK
            self.device.max_speed_hz = int(pace_of(part, bus).serial_clock(usual)) if part is not None else int(usual)
        except OSError as error:
            raise unusable(self.name, error, "stop the program that holds it") from error
        self.bits = 8

    def move(self, move: Move) -> None:
        """One select; D/C is set ahead of each run of words that share it."""
        from itertools import pairwise

        import numpy as np

        if self.lines is not None and move.levels:
            self.lines.set(dict(move.levels))
        if not len(move.words):
            return
        own_select = self.lines is not None and move.select in self.lines.numbers
        if self.lines is not None and own_select:
            self.lines.set({move.select: self.bus.select == "high"})
        edges = [0, *(np.flatnonzero(np.diff(move.data.astype(np.int8))) + 1).tolist(), len(move.words)]
        try:
            if self.bits != move.bits:
                self.device.bits_per_word = move.bits if move.bits in (8, 9) else 8
                self.bits = move.bits
            for first, last in pairwise(edges):
                if self.lines is not None and "dc" in self.lines.numbers:
                    self.lines.set({"dc": bool(move.data[first])})
                for at in range(first, last, LARGEST // 4):
                    self.device.writebytes2(self._bytes(move.words[at : min(last, at + LARGEST // 4)], move.bits))
        except OSError as error:
            raise LinkLost(
                f"the transfer failed: {error.strerror}", where=self.name, remedy="check the board, then try again"
            ) from error
        if self.lines is not None and own_select:
            self.lines.set({move.select: self.bus.select != "high"})

    def _bytes(self, words: Any, bits: int) -> bytes:
        """Words as spidev wants them: whole bytes, or two a word in the machine's order where a word has nine bits."""
        if bits == 9:
            raw: bytes = words.astype("=u2").tobytes()
            return raw
        whole = words.astype(">u4").view("u1").reshape(-1, 4)[:, 4 - -(-bits // 8) :]
        found: bytes = whole.tobytes()
        return found

    def close(self) -> None:
        """Closes the device file and the lines."""
        self.device.close()
        if self.lines is not None:
            self.lines.close()


class GpioLink(Timed):
    """A bus played on GPIO lines, state by state."""

    def __init__(self, rig: Rig, bus: Bus, lines: Lines) -> None:
        self.name, self.rig, self.bus, self.lines = lines.path, rig, bus, lines
        self.roles = {role: number for number, role in enumerate(bus.lines)}
        self.parts = {device.name: rig.target(device).part for device in rig.device}

    def move(self, move: Move) -> None:
        """Plays the trace of one move; lines that do not change are not touched."""
        from ..bus.moves import TICK
        from ..rig.wires import encode_moves

        bridge = self.rig.bridge_named(move.device)
        part = bridge.chip if bridge is not None else self.parts[move.device]
        if move.levels:
            self.lines.set(dict(move.levels))
        if not len(move.words):
            return
        own = {
            role: number
            for number, role in enumerate(role for role in self.roles if role not in ("reset", "backlight", "enable", *ANSWERS))
        }
        move.gap, move.levels = 0, ()
        trace = encode_moves([move], self.bus, part, own, tuple(own), lead=1)
        levels, times = trace.levels.tolist(), (trace.times * float(TICK)).tolist()
        before, now = ~levels[0], 0.0
        for state, when in zip(levels, times, strict=True):
            if when - now >= SLEEP_FROM:
                time.sleep(when - now)
            changed = state ^ before
            self.lines.set({role: bool(state >> number & 1) for role, number in own.items() if changed >> number & 1})
            before, now = state, when
        rest = float(trace.end * TICK) - now
        if rest >= SLEEP_FROM:
            time.sleep(rest)

    def close(self) -> None:
        """Lets go of the lines."""
        self.lines.close()
