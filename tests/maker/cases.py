"""Labelled captures: every bus and part, healthy in random scenes and set-ups, with wires, times and set-ups gone wrong, and traffic of other things.

`cases` lists them; `made` makes one; `judged` lets the program diagnose it, as installed or in this process, and holds the outcome against the label.
"""

from __future__ import annotations

import contextlib
import io
import json
import random
import tempfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import numpy as np

from . import displays, mishaps, writers
from .masters import I2c, Parallel, Pulses, Shift, Spi, TwoWire
from .volts import Bench, seen
from .wave import Wave

__all__ = ["FAMILIES", "Case", "Outcome", "cases", "judged"]

LCD8 = tuple(f"D{k}" for k in range(8))
DEVICE = '\n[[device]]\nname = "glass"\non = "{on}"\npart = "{part}"\npanel = "{panel}"\n'


@dataclass
class Made:
    """A wave, the rig's text, and what is said instead of a rig."""

    wave: Wave
    rig: str
    options: list[str]


@dataclass(frozen=True)
class Case:
    """How a capture is made, and what has to be said of it. first: the codes of which one comes first; () for healthy and foreign ones."""

    family: str
    seed: int
    first: tuple[str, ...] = ()
    lines: tuple[str, ...] | None = None
    wrong: str = ""
    wires: tuple[tuple[str, ...], ...] = ()
    rig: bool = True
    foreign: bool = False
    late: float = 0.0
    bench: tuple[tuple[str, Bench], ...] = ()
    kinds: dict[str, object] = field(default_factory=dict, hash=False)
    bare: bool = False  # nothing is said at all: no rig, no options
    nameless: bool = False  # nor do the lines' names say what they are

    def __str__(self) -> str:
        extra = (
            [" ".join(wire) for wire in self.wires]
            + ([self.wrong] if self.wrong else [])
            + ([f"late {self.late:.2f}"] if self.late else [])
        )
        extra += [f"{key}={value}" for key, value in self.kinds.items()]
        said = "rig" if self.rig else "nameless" if self.nameless else "bare" if self.bare else "no rig"
        return f"{self.family} {self.seed} {said}: {', '.join(extra) or 'as it is'}"


@dataclass
class Outcome:
    """found: codes of findings, the first first. bad: why it does not hold, "" where it does. sure: how sure the first finding is."""

    case: Case
    found: list[str]
    bad: str
    lines_right: bool
    sure: str = ""
    graver: list[tuple[str, str]] = field(default_factory=list)


def _options(kind: str, roles: dict[str, str], part: str, panel: str) -> list[str]:
    out = ["--bus", kind]
    for role, line in roles.items():
        out += ["--line", f"{role}={line}"]
    return [*out, "--part", part, "--panel", panel]


def _bus(kind: str, roles: dict[str, str], more: str = "") -> str:
    lines = ", ".join(f'{role} = "{line}"' for role, line in roles.items())
    return f'[[bus]]\nname = "wires"\nkind = "{kind}"\nlines = {{ {lines} }}\n{more}'


# ---- families ----------------------------------------------------------------------------------------------------------------------------


def oled(
    seed: int,
    wrong: str,
    part: str = "ssd1306",
    wired: str = "i2c",
    panel: str = "",
    present: bool = True,
    called: int = 0x3C,
    sent: str = "",
    hertz: float = 0.0,
) -> Made:
    """A monochrome display on I2C, on SPI with a D/C line, or with words of nine bits. sent: the part that the driver is for."""
    chance = random.Random(seed)
    sizes = {"sh1106": ("128x64",), "sh1107": ("64x128", "128x128")}
    panel = panel or chance.choice(sizes.get(part, ("128x64", "128x32")))
    columns, rows = map(int, panel.split("x"))
    picture = displays.scene(chance, columns, rows)
    if wrong == "picture.blank":
        picture[:] = False
    frames = chance.randint(1, 2)
    device = DEVICE.format(on="wires", part=part, panel=panel)
    if wired == "i2c":
        wave = Wave(seed, SCL=1, SDA=1)
        bus = I2c(wave, hertz or chance.choice((100e3, 390e3)), (0x3C,) if present else ())
        wave.held = chance.choice((0, 0.002))
        wave.wait(2e6)
        if wrong == "timing.clock-too-fast":
            bus.hertz = 900e3
        displays.mono(displays.keyed(bus, called), chance, picture, sent or part, wrong, frames)
        wave.wait(1e6)
        roles = {"scl": "SCL", "sda": "SDA"}
        return Made(
            wave, _bus("i2c", roles, 'clock = "400kHz"\n') + device + "address = 0x3C\n", _options("i2c", roles, part, panel)
        )
    nine = wired == "nine"
    wave = Wave(seed, SCK=0, MOSI=0, CS=1, **({} if nine else {"DC": 0, "RST": 1}))
    spi = Spi(
        wave,
        chance.choice((1e6, 3.9e6) if part != "ssd1306" else (1e6, 3.9e6, 9.8e6)),
        dc="" if nine else "DC",
        nine=nine,
        each=chance.random() < 0.3,
    )
    wave.held = chance.choice((0, 0.005))
    if wired == "mode3":
        spi.mode = 3
        wave.first["SCK"] = wave.levels["SCK"] = 1
    if wrong == "timing.clock-too-fast":
        spi.hertz = 25e6
    if wrong == "frame.bit-order":
        spi.lsb = True
    if wrong == "frame.wrong-spi-mode":
        spi.mode = 1
    wave.wait(1e6)
    if not nine:
        wave.put(RST=0)
        wave.wait(10e6)
        wave.put(RST=1)
        wave.wait(10e6)
    displays.mono(lambda values, is_data: spi.write(values, is_data), chance, picture, sent or part, wrong, frames)
    wave.wait(1e6)
    roles = {"sck": "SCK", "mosi": "MOSI", "cs": "CS", **({} if nine else {"dc": "DC", "reset": "RST"})}
    more = "bits = 9\n" if nine else f"mode = {3 if wired == 'mode3' else 0}\n"
    return Made(wave, _bus("spi", roles, 'clock = "4MHz"\n' + more) + device, _options("spi", roles, part, panel))


def lcd(seed: int, wrong: str, width: int = 8, rw: bool = False, word: float = 0.0, hasty: bool = False) -> Made:
    """A character display on eight or four lines. hasty: its letters come in half the time that it takes for one, all else as it should."""
    chance = random.Random(seed)
    data = LCD8 if width == 8 else LCD8[4:]
    wave = Wave(seed, RS=0, **({"RW": 0} if rw else {}), E=0, **dict.fromkeys(data, 0))
    bus = Parallel(wave, data, rw="RW" if rw else "", setup=chance.choice((80, 300)), pulse=chance.choice((480, 1000)))
    word = word or (21e3 if wrong == "timing.wait-short" and chance.random() < 0.5 else chance.choice((39e3, 45e3, 70e3, 200e3)))
    letter_rest = chance.uniform(17e3, 24e3) if hasty else word
    if wrong == "timing.pulse-short":
        bus.pulse = 90
    for _ in range(1):
        displays.character(
            bus.write,
            bus.strobe if width == 4 else None,
            wave,
            chance.choice(displays.TEXTS),
            wrong,
            word,
            letter_rest=letter_rest,
        )
    for _ in range(chance.randint(0, 3)):  # later updates
        wave.wait(chance.uniform(5e6, 60e6))
        bus.write(0x80 | chance.choice((0, 0x40)), 0)
        wave.wait(word)
        for letter in f"{chance.uniform(0, 9):.2f} m":
            bus.write(ord(letter), 1)
            wave.wait(letter_rest)
    roles = {"rs": "RS", **({"rw": "RW"} if rw else {}), "e": "E", **{line.lower(): line for line in data}}
    return Made(
        wave,
        _bus("parallel", roles) + DEVICE.format(on="wires", part="hd44780", panel="16x2"),
        _options("parallel", roles, "hd44780", "16x2"),
    )


def ks(seed: int, wrong: str, scene: str = "") -> Made:
    """Two halves of 64 columns on one bus."""
    chance = random.Random(seed)
    wave = Wave(seed, RS=0, RW=0, E=0, CS1=0, CS2=0, **dict.fromkeys(LCD8, 0))
    bus = Parallel(wave, LCD8, rw="RW", setup=300, pulse=500)
    wave.held = chance.choice((0, 0.01))
    wave.wait(1e6)
    displays.halves_chip(bus, displays.scene(chance, 128, 64, scene), wrong=wrong, word=chance.choice((5e3, 20e3)))
    wave.wait(1e6)
    roles = {"rs": "RS", "rw": "RW", "e": "E", "cs1": "CS1", "cs2": "CS2", **{line.lower(): line for line in LCD8}}
    rig = _bus("parallel", roles, 'select = "high"\n') + DEVICE.format(on="wires", part="ks0108", panel="128x64")
    return Made(wave, rig, _options("parallel", roles, "ks0108", "128x64"))


def pcd(seed: int, wrong: str, mode: int = 0) -> Made:
    """A PCD8544."""
    chance = random.Random(seed)
    wave = Wave(seed, SCK=mode >> 1, MOSI=0, CS=1, DC=0, RST=1)
    spi = Spi(wave, chance.choice((400e3, 2e6, 3.95e6)), mode, dc="DC", each=chance.random() < 0.5)
    wave.held = chance.choice((0, 0.01))
    if wrong == "timing.clock-too-fast":
        spi.hertz = 9e6
    if wrong == "frame.wrong-spi-mode":
        spi.mode = 1
    if wrong == "frame.bit-order":
        spi.lsb = True
    wave.put(RST=0)
    wave.wait(1e6)
    wave.put(RST=1)
    wave.wait(1e6)
    displays.pcd8544(spi, displays.scene(chance, 84, 48), chance, wrong)
    wave.wait(1e6)
    roles = {"sck": "SCK", "mosi": "MOSI", "cs": "CS", "dc": "DC", "reset": "RST"}
    rig = _bus("spi", roles, f"mode = {mode}\n") + DEVICE.format(on="wires", part="pcd8544", panel="84x48")
    return Made(wave, rig, _options("spi", roles, "pcd8544", "84x48"))


def digits(seed: int, wrong: str, chain: int = 1) -> Made:
    """MAX7219s: eight by eight LEDs each; a chain shares one select, the farthest chip's word first."""
    chance = random.Random(seed)
    wave = Wave(seed, CLK=0, DIN=0, LOAD=1)
    spi = Spi(wave, chance.choice((1e6, 5e6, 9.8e6)), sck="CLK", mosi="DIN", cs="LOAD")
    wave.held = chance.choice((0, 0.01))
    wave.wait(1e6)
    for _ in range(chance.randint(1, 2)):
        pictures = [displays.rows_of(displays.scene(chance, 8, 8)) for _ in range(chain)]
        rows = iter([[picture[row][0] for picture in pictures] for row in range(8)])

        def send(register: int, value: int, rows: Iterator[list[int]] = rows) -> None:
            own = next(rows) if 1 <= register <= 8 else [value] * chain
            spi.write([byte for one in own for byte in (register, one)])

        displays.digits_chip(send, [0] * 8, wrong)
        wave.wait(5e6)
    roles = {"sck": "CLK", "mosi": "DIN", "cs": "LOAD"}
    rig = _bus("spi", roles)
    for place in range(chain):
        rig += DEVICE.format(on="wires", part="max7219", panel="8x8").replace("glass", f"chip{place}") + (
            f"position = {place}\n" if chain > 1 else ""
        )
    return Made(wave, rig, _options("spi", roles, "max7219", "8x8"))


def lettered(seed: int, wrong: str, part: str = "st7032", present: bool = True) -> Made:
    """Two rows of letters on I2C."""
    chance = random.Random(seed)
    wave = Wave(seed, SCL=1, SDA=1)
    address = 0x3A if part == "pcf2119" else 0x3E
    if wrong == "timing.power-on-short":  # the supply comes in the capture, and the lines with it
        wave = Wave(seed, SCL=0, SDA=0)
        wave.wait(3e6)
        wave.put(SCL=1, SDA=1)
    bus = I2c(wave, chance.choice((100e3, 380e3)), present=(address,) if present else ())
    send, text = displays.keyed(bus, address), chance.choice(displays.TEXTS)
    if part == "pcf2119":
        displays.lettered_upper(send, wave, chance, text, wrong)
    else:
        displays.lettered(send, wave, chance, text, part, wrong)
    wave.wait(2e6)
    roles = {"scl": "SCL", "sda": "SDA"}
    rig = _bus("i2c", roles) + DEVICE.format(on="wires", part=part, panel="16x2") + f"address = {address:#x}\n"
    return Made(wave, rig, _options("i2c", roles, part, "16x2"))


def segments(seed: int, wrong: str, part: str = "tm1637", there: bool = True) -> Made:
    """Modules of four digits on two wires without an address, or of eight on three; both take the lowest bit first."""
    chance = random.Random(seed)
    two = part == "tm1637"
    wave = Wave(seed, CLK=1, DIO=1) if two else Wave(seed, CLK=1, DIO=1, STB=1)
    wave.wait(2e6)
    hertz = chance.choice((30e3, 100e3, 240e3) if two else (50e3, 200e3, 450e3))
    if two:
        bus = TwoWire(wave, hertz, gap=chance.choice((3e3, 50e3)), there=there)
        send: Callable[[Sequence[int]], None] = bus.transfer
    else:
        spi = Spi(
            wave, hertz, mode=3, lsb=wrong != "frame.bit-order", sck="CLK", mosi="DIO", cs="STB", gap=chance.choice((3e3, 50e3))
        )
        send = spi.write

    def resting(data: Sequence[int]) -> None:
        send(data)
        wave.wait(chance.choice((0, 0, 2e6)))

    displays.segments_chip(resting, chance, 1 if two else 2, wrong)
    wave.wait(1e6)
    roles = {"clock": "CLK", "data": "DIO"} if two else {"sck": "CLK", "mosi": "DIO", "cs": "STB"}
    kind, panel = ("two-wire", "4-digits") if two else ("spi", "8-digits")
    rig = _bus(kind, roles, "" if two else 'mode = 3\norder = "lsb"\n') + DEVICE.format(on="wires", part=part, panel=panel)
    return Made(wave, rig, [*_options(kind, roles, part, panel), *([] if two else ["--mode", "3", "--order", "lsb"])])


def driver(seed: int, wrong: str) -> Made:
    """An HT16K33 (v1.10): oscillator, rows out, brightness, display on, then its memory."""
    chance = random.Random(seed)
    wave = Wave(seed, SCL=1, SDA=1)
    bus = I2c(wave, 100e3, (0x70,))
    wave.wait(1e6)
    for value in ([] if wrong == "setup.shutdown" else [0x21]) + [0xA0, 0xE8, 0x80 if wrong == "setup.display-off" else 0x81]:
        bus.write(0x70, [value])
    for _ in range(chance.randint(1, 4)):
        bus.write(0x70, [0x00] + [chance.randrange(256) for _ in range(16)])
        wave.wait(5e6)
    roles = {"scl": "SCL", "sda": "SDA"}
    rig = _bus("i2c", roles, 'clock = "100kHz"\n') + DEVICE.format(on="wires", part="ht16k33", panel="16x8") + "address = 0x70\n"
    return Made(wave, rig, _options("i2c", roles, "ht16k33", "16x8"))


def colour(seed: int, wrong: str) -> Made:
    """An ST7735."""
    chance = random.Random(seed)
    wave = Wave(seed, SCK=0, MOSI=0, CS=1, DC=0, RST=1)
    spi = Spi(wave, 8e6, dc="DC", gap=200)
    wave.put(RST=0)
    wave.wait(1e6)
    wave.put(RST=1)
    wave.wait(130e6)
    displays.st7735(spi, chance, wrong=wrong)
    wave.wait(1e6)
    roles = {"sck": "SCK", "mosi": "MOSI", "cs": "CS", "dc": "DC", "reset": "RST"}
    return Made(
        wave,
        _bus("spi", roles) + DEVICE.format(on="wires", part="st7735", panel="128x160"),
        _options("spi", roles, "st7735", "128x160"),
    )


def grey(seed: int, wrong: str, part: str = "ssd1327", wired: str = "spi", present: bool = True) -> Made:
    """An OLED of sixteen shades, on SPI or I2C."""
    chance = random.Random(seed)
    panel = "256x64" if part == "ssd1322" else "128x128"
    device = DEVICE.format(on="wires", part=part, panel=panel)
    if wired == "i2c":
        wave = Wave(seed, SCL=1, SDA=1)
        bus = I2c(wave, chance.choice((100e3, 390e3)), (0x3C,) if present else ())
        wave.wait(2e6)
        displays.shades(displays.keyed(bus, 0x3C), chance, part, wrong)
        wave.wait(1e6)
        roles = {"scl": "SCL", "sda": "SDA"}
        rig = _bus("i2c", roles, 'clock = "400kHz"\n') + device + "address = 0x3C\n"
        return Made(wave, rig, _options("i2c", roles, part, panel))
    wave = Wave(seed, SCK=0, MOSI=0, CS=1, DC=0, RST=1)
    spi = Spi(wave, chance.choice((4e6, 8e6)), dc="DC", each=chance.random() < 0.2)
    for code, key, value in (
        ("timing.clock-too-fast", "hertz", 25e6),
        ("frame.bit-order", "lsb", True),
        ("frame.wrong-spi-mode", "mode", 1),
    ):
        if wrong == code:
            setattr(spi, key, value)
    wave.put(RST=0)
    wave.wait(1e6)
    wave.put(RST=1)
    wave.wait(5e6)
    displays.shades(spi.write, chance, part, wrong)
    wave.wait(1e6)
    roles = {"sck": "SCK", "mosi": "MOSI", "cs": "CS", "dc": "DC", "reset": "RST"}
    return Made(wave, _bus("spi", roles) + device, _options("spi", roles, part, panel))


def graphic(seed: int, wrong: str, wired: str = "serial", text: bool = False) -> Made:
    """An ST7920 behind its serial interface, or on eight or four lines."""
    chance = random.Random(seed)
    picture = None if text else displays.scene(chance, 128, 64)
    if wrong == "picture.blank" and picture is not None:
        picture[:] = False
    said = [*chance.choice(displays.TEXTS), *chance.choice(displays.TEXTS)]
    panel = "16x4" if text else "128x64"
    device = DEVICE.format(on="wires", part="st7920", panel=panel)
    if wired == "serial":
        mode = chance.choice((0, 3))
        wave = Wave(seed, SCLK=mode >> 1, SID=0, CS=0, RST=1)
        spi = Spi(wave, chance.choice((400e3, 1e6, 2e6)), mode, sck="SCLK", mosi="SID", cs="CS", active=1)
        if wrong == "frame.wrong-spi-mode":
            spi.mode ^= 1
        wave.wait(45e6)
        displays.lettered_chip(displays.halved(spi, chance, chance.choice((1e3, 80e3))), wave, chance, picture, said, wrong)
        wave.wait(1e6)
        roles = {"sck": "SCLK", "mosi": "SID", "cs": "CS", "reset": "RST"}
        options = [*_options("spi", roles, "st7920", panel), "--select", "high", "--mode", str(mode)]
        return Made(wave, _bus("spi", roles, f'mode = {mode}\nselect = "high"\n') + device, options)
    data = LCD8 if wired == "eight" else LCD8[4:]
    wave = Wave(seed, RS=0, RW=0, E=0, **dict.fromkeys(data, 0))
    bus = Parallel(wave, data, rw="RW", setup=chance.choice((80, 300)), pulse=chance.choice((480, 1000)))
    wave.wait(45e6)

    def send(values: Sequence[int], is_data: bool) -> None:
        for value in values:
            bus.write(value, int(is_data))
            wave.pause(75e3)

    if wired == "four":
        bus.strobe(3)
        wave.wait(200e3)
        bus.strobe(2)
        wave.wait(200e3)
    displays.lettered_chip(send, wave, chance, picture, said, wrong, 8 if wired == "eight" else 4)
    wave.wait(1e6)
    roles = {"rs": "RS", "rw": "RW", "e": "E", **{line.lower(): line for line in data}}
    return Made(wave, _bus("parallel", roles) + device, _options("parallel", roles, "st7920", panel))


def leds(seed: int, wrong: str, part: str = "ws2812") -> Made:
    """LEDs in a chain, as a square or a strip: updates of colours that move on."""
    chance = random.Random(seed)
    panel = chance.choice(("8x8", "60x1"))
    count = 64 if panel == "8x8" else 60
    one = part == "ws2812"
    wave = Wave(seed, DIN=0) if one else Wave(seed, CKI=0, SDI=0)
    high = chance.choice(((400.0, 800.0), (350.0, 700.0), (300.0, 900.0)))
    pulses = Pulses(wave, (high[0], 480.0) if wrong == "timing.pulse-short" else high, chance.choice((1150.0, 1250.0)))
    spi = Spi(wave, chance.choice((1e6, 4e6, 8e6)), 1 if wrong == "frame.wrong-spi-mode" else 0, sck="CKI", mosi="SDI", cs="")
    wave.wait(2e6)
    tones = [(0, 0, 0) if wrong == "picture.blank" else tuple(chance.randrange(256) for _ in range(3)) for _ in range(5)]
    sent = count // 2 if wrong == "picture.partial" else count + 12 if wrong == "picture.outside-panel" else count
    for number in range(chance.randint(2, 4)):
        colours = [tones[(led // 3 + number) % 5] for led in range(sent)]
        if one:
            pulses.write([byte for red, green, blue in colours for byte in (green, red, blue)])
        else:
            bright = chance.randrange(1, 32)
            frames = [byte for red, green, blue in colours for byte in (0xE0 | bright, blue, green, red)]
            spi.write([0, 0, 0, 0, *frames, *[chance.choice((0, 0xFF))] * max(4, -(-count // 16))])
        wave.wait(chance.choice((4e5, 2e6)))
    roles = {"data": "DIN"} if one else {"sck": "CKI", "mosi": "SDI"}
    kind = "pulse" if one else "spi"
    return Made(wave, _bus(kind, roles) + DEVICE.format(on="wires", part=part, panel=panel), _options(kind, roles, part, panel))


def dimmed(seed: int, wrong: str, present: bool = True, part: str = "is31fl3731") -> Made:
    """LEDs that are dimmed one by one, on I2C."""
    chance = random.Random(seed)
    wave = Wave(seed, SCL=1, SDA=1)
    wide = part == "is31fl3733"
    address, panel = (0x50, "16x12") if wide else (0x74, "16x9")
    bus = I2c(wave, chance.choice((100e3, 390e3)), (address,) if present else ())
    wave.wait(2e6)
    (displays.dimmed_wide if wide else displays.dimmed)(lambda values: bus.write(address, values), wave, chance, wrong)
    roles = {"scl": "SCL", "sda": "SDA"}
    rig = _bus("i2c", roles) + DEVICE.format(on="wires", part=part, panel=panel) + f"address = {address:#x}\n"
    return Made(wave, rig, _options("i2c", roles, part, panel))


def gauge(seed: int, wrong: str, planes: int = 4, present: bool = True) -> Made:
    """Segment glass on I2C, of one, two or four backplanes."""
    chance = random.Random(seed)
    wave = Wave(seed, SCL=1, SDA=1)
    bus = I2c(wave, chance.choice((100e3, 390e3)), (0x38,) if present else ())
    wave.wait(2e6)
    displays.glass_digits(lambda values: bus.write(0x38, values), chance, planes, wrong)
    wave.wait(1e6)
    roles = {"scl": "SCL", "sda": "SDA"}
    panel = {1: "5-digits", 2: "10-digits", 4: "20-digits"}[planes]
    rig = _bus("i2c", roles) + DEVICE.format(on="wires", part="pcf8576", panel=panel) + "address = 0x38\n"
    return Made(wave, rig, _options("i2c", roles, "pcf8576", panel))


def bitwise(seed: int, wrong: str) -> Made:
    """Segment glass on three wires, bit by bit, WR high or low at rest."""
    chance = random.Random(seed)
    mode = chance.choice((0, 3))
    wave = Wave(seed, WR=mode >> 1, DATA=0, CS=1)
    spi = Spi(wave, chance.choice((40e3, 100e3, 140e3)), mode=mode, sck="WR", mosi="DATA", gap=chance.choice((3e3, 50e3)))
    if wrong == "frame.wrong-spi-mode":
        spi.mode = 1 if mode == 0 else 2
    wave.wait(1e6)

    def send(bits: str) -> None:
        wave.put(CS=0)
        wave.wait(2e3)
        spi.bits(int(bits, 2), len(bits))
        wave.wait(2e3)
        wave.put(CS=1)
        wave.wait(spi.gap)

    displays.bit_glass(send, chance, wrong)
    wave.wait(1e6)
    roles = {"sck": "WR", "mosi": "DATA", "cs": "CS"}
    said = [*_options("spi", roles, "ht1621", "6-digits"), *(["--mode", "3"] if mode == 3 else [])]
    return Made(wave, _bus("spi", roles, f"mode = {mode}\n") + DEVICE.format(on="wires", part="ht1621", panel="6-digits"), said)


def paper(seed: int, wrong: str, inks: int = 1, answers: bool = True, there: bool = True, part: str = "ssd1680") -> Made:
    """E-paper. answers: BUSY was captured. there: the display is."""
    chance = random.Random(seed)
    low = part == "uc8151"
    width, height = chance.choice(((104, 212), (128, 296)) if low else ((122, 250), (128, 296)))
    wave = Wave(seed, SCK=0, MOSI=0, CS=1, DC=0, RST=1, **({"BUSY": int(low)} if answers else {}))
    spi = Spi(wave, chance.choice((2e6, 4e6, 10e6)), dc="DC", each=chance.random() < 0.3)
    if wrong == "frame.wrong-spi-mode":
        spi.mode = 1
    wave.wait(1e6)
    glass = displays.Refreshed(spi, chance, "BUSY" if answers else "", int(not low), there, wrong != "timing.busy-ignored")
    (displays.paper_low if low else displays.paper)(glass, width, height, wrong, inks)
    wave.wait(3e7)
    roles = {"sck": "SCK", "mosi": "MOSI", "cs": "CS", "dc": "DC", "reset": "RST", **({"busy": "BUSY"} if answers else {})}
    panel = f"{width}x{height}" + ("-red" if inks == 2 else "")
    return Made(wave, _bus("spi", roles) + DEVICE.format(on="wires", part=part, panel=panel), _options("spi", roles, part, panel))


def backpack(seed: int, wrong: str, order: str = "a", dark: bool = False) -> Made:
    """A character display behind a PCF8574; in order b, the halves are on the lower pins."""
    chance = random.Random(seed)
    wave = Wave(seed, SCL=1, SDA=1)
    bus = I2c(wave, 100e3, () if wrong == "address.no-answer" else (0x27,), gap=1e3)
    own = displays.Backpack(lambda value: bus.write(0x27, [value]), lit=not dark)
    if order == "b":
        own = replace(own, d4=0, e=4, rs=6, light=7)
    displays.character(own.write, lambda value: own.half(value), wave, chance.choice(displays.TEXTS), wrong, 300e3)
    wave.wait(1e6)
    roles = {"scl": "SCL", "sda": "SDA"}
    drives = 'rs = "p0", rw = "p1", e = "p2", backlight = "p3", d4 = "p4", d5 = "p5", d6 = "p6", d7 = "p7"'
    bridge = f'\n[[bridge]]\nname = "between"\non = "wires"\npart = "pcf8574"\naddress = 0x27\ndrives = {{ {drives} }}\n'
    rig = _bus("i2c", roles, 'clock = "100kHz"\n') + bridge + DEVICE.format(on="between", part="hd44780", panel="16x2")
    return Made(wave, rig, ["--panel", "16x2"])


def ports(seed: int, wrong: str, count: int = 2) -> Made:
    """A character display behind an MCP23017, of one port an MCP23008; its pins are inputs until they are made outputs."""
    chance = random.Random(seed)
    wave = Wave(seed, SCL=0, SDA=0)  # power-on: pull-ups bring both up
    wave.wait(2e6)
    wave.put(SCL=1, SDA=1)
    wave.wait(2e6)
    bus = I2c(wave, 400e3, (0x20,), gap=1e3)
    registers = displays.Registers(lambda values: bus.write(0x20, values), count)
    if wrong != "setup.pin-direction":
        registers.outputs()
    own = displays.Backpack(lambda value: registers.write(value), rs=7, e=5, light=-1, d4=1)
    displays.character(own.write, lambda value: own.half(value), wave, chance.choice(displays.TEXTS), wrong, 60e3)
    wave.wait(1e6)
    part, port = ("mcp23017", "a") if count == 2 else ("mcp23008", "p")
    drives = ", ".join(
        f'{role} = "{port}{k}"' for role, k in (("rs", 7), ("rw", 6), ("e", 5), ("d4", 1), ("d5", 2), ("d6", 3), ("d7", 4))
    )
    bridge = f'\n[[bridge]]\nname = "between"\non = "wires"\npart = "{part}"\naddress = 0x20\ndrives = {{ {drives} }}\n'
    rig = (
        _bus("i2c", {"scl": "SCL", "sda": "SDA"}, 'clock = "400kHz"\n')
        + bridge
        + DEVICE.format(on="between", part="hd44780", panel="16x2")
    )
    return Made(wave, rig, [])


def polled(seed: int, wrong: str) -> Made:
    """A character display whose driver asks for the busy flag, and nobody answers: D7 stays up."""
    wave = Wave(seed, RS=0, RW=0, E=0, **dict.fromkeys(LCD8, 0))
    bus = Parallel(wave, LCD8, rw="RW", pulse=500)
    wave.wait(40e6)
    bus.write(0x38, 0)
    wave.put(RW=1, **dict.fromkeys(LCD8, 1))
    for _ in range(3000):
        wave.wait(500)
        wave.put(E=1)
        wave.wait(500)
        wave.put(E=0)
    roles = {"rs": "RS", "rw": "RW", "e": "E", **{line.lower(): line for line in LCD8}}
    return Made(
        wave,
        _bus("parallel", roles) + DEVICE.format(on="wires", part="hd44780", panel="16x2"),
        _options("parallel", roles, "hd44780", "16x2"),
    )


def shift(seed: int, wrong: str, hertz: float = 800e3, part: str = "74hc595") -> Made:
    """A character display behind a shift register; behind a 74HC164, which has no latch, E has a wire of its own."""
    chance = random.Random(seed)
    latched = part == "74hc595"
    wave = Wave(seed, CLK=0, DATA=0, **({"LATCH": 0} if latched else {"E": 0}))
    register = Shift(wave, hertz, latch="LATCH" if latched else "", lsb=wrong == "frame.bit-order")
    if latched:
        own = displays.Backpack(displays.shifted(register), rs=1, e=3, light=-1)
        half, write = own.half, own.write
    else:

        def half(value: int, rs: int = 0) -> None:
            register.write([value << 4 | rs << 2])
            wave.put(E=1)
            wave.wait(1000)
            wave.put(E=0)
            wave.wait(1000)

        def write(value: int, rs: int) -> None:
            half(value >> 4, rs)
            half(value & 15, rs)

    displays.character(write, lambda value: half(value), wave, chance.choice(displays.TEXTS), wrong, chance.choice((50e3, 300e3)))
    wave.wait(1e6)
    roles = {"clock": "CLK", "data": "DATA", **({"latch": "LATCH"} if latched else {"e": "E"})}
    drives = f'rs = "q{1 if latched else 2}", ' + ('e = "q3", ' if latched else "") + 'd4 = "q4", d5 = "q5", d6 = "q6", d7 = "q7"'
    bridge = f'\n[[bridge]]\nname = "between"\non = "wires"\npart = "{part}"\ndrives = {{ {drives} }}\n' + (
        "" if latched else 'direct = ["e"]\n'
    )
    rig = _bus("shift", roles, 'clock = "800kHz"\n') + bridge + DEVICE.format(on="between", part="hd44780", panel="16x2")
    return Made(wave, rig, ["--panel", "16x2"])


def lamps(seed: int, wrong: str, rows: int = 8, columns: int = 8, hertz: float = 100.0, back: bool = True) -> Made:
    """A bare matrix, its rows on when high or when low."""
    chance = random.Random(seed)
    rows_high = chance.random() < 0.5
    wave = Wave(
        seed, 0.005, **{f"ROW{r}": int(not rows_high) for r in range(rows)}, **{f"COL{c}": int(rows_high) for c in range(columns)}
    )
    wave.wait(1e5)
    picture = displays.scene(chance, columns, rows)
    picture[chance.randrange(rows), chance.randrange(columns)] ^= True
    for row in range(rows):  # a letter or a figure: each row has something on and something off
        picture[row, (row * 3 + seed) % columns] = True
        picture[row, (row * 3 + seed + 2) % columns] = False
    displays.matrix(wave, picture, 12, hertz, rows_high, not rows_high, back)
    roles = {**{f"row{r}": f"ROW{r}" for r in range(rows)}, **{f"column{c}": f"COL{c}" for c in range(columns)}}
    levels = ("high", "low") if rows_high else ("low", "high")
    more = f'clock = "{hertz:g}Hz"\nrows = "{levels[0]}"\ncolumns = "{levels[1]}"\n'
    panel = (
        f"{columns}x{rows}"
        if columns == rows
        else f"{rows}x{columns}"
        if f"{rows}x{columns}" in ("7x5", "5x7")
        else f"{columns}x{rows}"
    )
    return Made(
        wave,
        _bus("matrix", roles, more) + DEVICE.format(on="wires", part="led-matrix", panel=panel),
        _options("matrix", roles, "led-matrix", panel),
    )


def sign(seed: int, wrong: str) -> Made:
    """A quarter-scanned panel of 32 by 16."""
    chance = random.Random(seed)
    wave = Wave(seed, 0.01, A=0, B=0, CLK=0, R=0, LAT=0, OE=0)
    wave.wait(3e5)
    displays.quarter(wave, displays.scene(chance, 32, 16), 6, chance.choice((110.0, 250.0)), chance.choice((2e6, 6e6)))
    roles = {"a": "A", "b": "B", "clock": "CLK", "data": "R", "latch": "LAT", "enable": "OE"}
    rig = _bus("matrix", roles, 'clock = "110Hz"\n') + DEVICE.format(on="wires", part="hub12", panel="32x16")
    return Made(wave, rig, _options("matrix", roles, "hub12", "32x16"))


def colours(seed: int, wrong: str, rows: int = 32) -> Made:
    """A colour panel on HUB75, of 16, 32 or 64 rows, driven in one of several ways."""
    chance = random.Random(seed)
    width = 64 if rows > 16 else 32
    lines = ["R1", "G1", "B1", "R2", "G2", "B2", *"ABCDE"[: rows.bit_length() - 2], "CLK", "LAT", "OE"]
    wave = Wave(seed, 0.01, **{**dict.fromkeys(lines, 0), "OE": 1})
    wave.wait(3e5)
    drawn = displays.scene(chance, width, rows)
    picture = np.where(
        drawn[:, :, None], [chance.randrange(64, 256) for _ in range(3)], [chance.randrange(64) for _ in range(3)]
    ).astype(np.uint8)
    if wrong == "picture.blank":
        picture[:] = 0
    style = chance.choice(("rows", "planes", "while"))
    hertz = 15.0 if wrong == "timing.flicker" else chance.choice((90.0, 140.0))
    displays.colour_panel(
        wave, picture, 5, hertz, chance.choice((8e6, 16e6)), chance.choice((3, 5, 8) if rows < 64 else (3, 4)), style, wrong
    )
    roles = {line.lower(): line for line in lines[:-3]} | {"clock": "CLK", "latch": "LAT", "enable": "OE"}
    # Where its size is wrong, it is half as wide as the driver believes.
    panel = f"{width // 2 if wrong == 'setup.wrong-geometry' else width}x{rows}"
    return Made(
        wave,
        _bus("matrix", roles, 'clock = "100Hz"\n') + DEVICE.format(on="wires", part="hub75", panel=panel),
        _options("matrix", roles, "hub75", panel),
    )


def registers(seed: int, wrong: str) -> Made:
    """Three seven-segment digits behind an MCP23S17, scanned by its driver."""
    chance = random.Random(seed)
    wave = Wave(seed, SCK=0, SI=0, CS=1)
    spi = Spi(wave, 1e6, sck="SCK", mosi="SI")
    wave.wait(3e5)
    opcode = 0x40 | 2 * chance.randrange(1, 8) if wrong == "address.neighbour" else 0x40
    own = displays.Registers(lambda values: spi.write([opcode, *values]))
    if wrong != "setup.pins-not-outputs":
        own.outputs()
    segments = [0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7D, 0x07, 0x7F, 0x6F]
    shown = [segments[chance.randrange(10)] for _ in range(3)]
    for _ in range(40):
        for digit, lit in enumerate(shown):
            if wrong != "timing.ghosting":
                own.write(0xFF, 0)
            own.write(lit ^ 0xFF, 1 << digit)
            wave.wait(2e6)
    roles = {"sck": "SCK", "mosi": "SI", "cs": "CS"}
    pins = (
        ", ".join(f'segment_{"abcdefg"[k] if k < 7 else "dp"} = "a{k}"' for k in range(8))
        + ', digit0 = "b0", digit1 = "b1", digit2 = "b2"'
    )
    bridge = f'\n[[bridge]]\nname = "between"\non = "wires"\npart = "mcp23s17"\ndrives = {{ {pins} }}\nrows = "high"\ncolumns = "low"\n'
    return Made(
        wave,
        _bus("spi", roles, 'clock = "1MHz"\n') + bridge + DEVICE.format(on="between", part="led-digits", panel="3-digits"),
        [],
    )


def several(seed: int, wrong: str, faulty: str = "", turn: int = 0) -> Made:
    """An OLED on I2C, a character display on four lines and a PCD8544 on SPI at one driver, in one of the orders of the rig's tables."""
    own = {
        "oled": oled(seed, wrong if faulty == "oled" else "", panel="128x32"),
        "lcd": lcd(seed, wrong if faulty == "lcd" else "", width=4),
    }
    own["pcd"] = pcd(seed, wrong if faulty == "pcd" else "")
    order = [["oled", "lcd", "pcd"], ["pcd", "oled", "lcd"], ["lcd", "pcd", "oled"]][turn % 3]
    first, *others = [own[name].wave for name in order]
    first.beside(others)
    rig = "".join(own[name].rig.replace('"wires"', f'"{name}-bus"').replace('"glass"', f'"{name}"') for name in order)
    return Made(first, rig, [])


def pair(seed: int, wrong: str) -> Made:
    """A PCD8544 and a MAX7219 on one SPI bus, each with a select of its own."""
    chance = random.Random(seed)
    wave = Wave(seed, SCK=0, MOSI=0, CS1=1, CS2=1, DC=0)
    spi = Spi(wave, 1e6, dc="DC", cs="CS1")
    wave.wait(1e6)
    displays.pcd8544(spi, displays.scene(chance, 84, 48, "mixed"), chance, wrong)
    wave.wait(1e6)
    rows = [chance.randrange(256) for _ in range(8)]
    spi.hertz = chance.choice((1e6, 4e6, 250e3))  # each part at its own speed
    displays.digits_chip(lambda register, value: spi.write([register, value], select="CS2"), rows)
    wave.wait(1e6)
    roles = {"sck": "SCK", "mosi": "MOSI", "cs1": "CS1", "cs2": "CS2", "dc": "DC"}
    rig = _bus("spi", roles) + DEVICE.format(on="wires", part="pcd8544", panel="84x48") + 'select = "cs1"\n'
    rig += DEVICE.format(on="wires", part="max7219", panel="8x8").replace("glass", "dots") + 'select = "cs2"\n'
    return Made(wave, rig, [])


def foreign(seed: int, wrong: str, what: str = "uart", of: str = "oled") -> Made:
    """Traffic of something else on the lines of a display."""
    own = FAMILIES[of](seed, "")
    chance = random.Random(seed)
    names = own.wave.names
    wave = Wave(seed, 0.01, **dict.fromkeys(names, 1))
    wave.wait(1e6)
    if what == "uart":
        for letter in b"Skerry Haven: level 4.2 m, outer gate open\r\n" * 3:
            for bit in (0, *(letter >> k & 1 for k in range(8)), 1):
                wave.put(**{names[0]: bit})
                wave.wait(8680)
            wave.wait(chance.choice((1, 1, 1, 40e3)))
    elif what == "random":
        for _ in range(3000):
            wave.put(**{chance.choice(names): chance.randrange(2)})
            wave.wait(chance.expovariate(1 / 3e3))
    elif what == "pwm":
        for step in range(400):
            share = 0.1 + 0.8 * (step % 100) / 100
            wave.put(**{names[0]: 1})
            wave.wait(share * 50e3)
            wave.put(**{names[0]: 0})
            wave.wait((1 - share) * 50e3)
    elif what == "eeprom":  # another device of the bus: a memory at 50h is read
        bus = I2c(wave, 100e3, (0x50,), scl=names[0], sda=names[1])
        for page in range(12):
            bus.write(0x50, [page, *(chance.randrange(256) for _ in range(16))])
            wave.wait(5e6)
    elif what == "flash":  # another part behind the select: a memory is read
        wave.put(**{names[0]: 0})
        spi = Spi(wave, 1e6, sck=names[0], mosi=names[1], cs=names[2])
        for _ in range(40):
            spi.write([0x03, *(chance.randrange(256) for _ in range(3)), *[0xFF] * 32])
            wave.wait(2e5)
    elif what == "encoder":
        state = 0
        for _ in range(600):
            state += chance.choice((1, 1, 1, -1))
            wave.put(**{names[0]: (0, 1, 1, 0)[state % 4], names[1]: (0, 0, 1, 1)[state % 4]})
            wave.wait(chance.uniform(2e5, 3e6))
    return Made(wave, own.rig, own.options)


FAMILIES: dict[str, Callable[..., Made]] = {
    "oled": oled, "lcd": lcd, "ks": ks, "pcd": pcd, "digits": digits, "driver": driver, "colour": colour, "backpack": backpack, "shift": shift,
    "lamps": lamps, "sign": sign,
    "colours": colours, "registers": registers, "several": several, "ports": ports, "polled": polled, "pair": pair, "foreign": foreign,
    "segments": segments, "lettered": lettered, "grey": grey, "paper": paper, "graphic": graphic, "leds": leds, "dimmed": dimmed, "gauge": gauge,
    "bitwise": bitwise,
}  # fmt: skip
WIRES: dict[str, Callable[..., None]] = {
    "swap": mishaps.swapped, "invert": mishaps.inverted, "join": mishaps.joined,
    "floats": mishaps.floats, "follow": mishaps.follows,
    "low": lambda wave, name: mishaps.stuck(wave, name, 0), "high": lambda wave, name: mishaps.stuck(wave, name, 1),
}  # fmt: skip


# ---- what has to be said ------------------------------------------------------------------------------------------------------------------


BUS = ("wiring.inverted-bus",)
SWAP, STUCK, INVERTED, JOINED = (
    ("wiring.swapped-lines",),
    ("wiring.stuck-line",),
    ("wiring.inverted-line",),
    ("wiring.joined-lines",),
)
DC = ("frame.dc-stuck", "wiring.stuck-line")
LOOSE = ("wiring.loose-contact", "wiring.glitches", "wiring.stuck-line")
SELECT = ("wiring.stuck-line", "frame.select-broken")


def _wired(
    family: str, seed: int, kinds: dict[str, object], *rows: tuple[str, tuple[str, ...], tuple[str, ...]]
) -> Iterator[Case]:
    """Faults of wires: "swap A B", the codes, the lines (the named ones where () is given)."""
    for text, first, lines in rows:
        wire = tuple(text.split())
        yield Case(family, seed, first, lines or tuple(sorted(wire[1:])), wires=(wire,), kinds=kinds)


def _wrong(family: str, seed: int, kinds: dict[str, object], *codes: str) -> Iterator[Case]:
    for code in codes:
        yield Case(family, seed, (code,), wrong=code, kinds=kinds)


def faults(seed: int) -> Iterator[Case]:
    """Every fault once."""
    chance = random.Random(seed)
    two = chance.sample(LCD8, 2)
    near = chance.randrange(7)
    pair = f"D{near} D{near + 1}"
    yield from _wired("oled", seed, {}, ("swap SCL SDA", SWAP, ()), ("low SDA", STUCK, ()), ("low SCL", STUCK, ()), ("high SDA", STUCK, ()),
                          ("join SCL SDA", JOINED, ()))  # fmt: skip
    yield from _wrong("oled", seed, {"panel": "128x64"}, "setup.charge-pump-off", "setup.wrong-geometry", "setup.display-off", "setup.contrast-low",
                      "timing.clock-too-fast", "setup.test-mode", "picture.blank")  # fmt: skip
    yield Case("oled", seed, ("address.no-answer",), kinds={"present": False})
    yield Case("oled", seed, ("address.shifted",), kinds={"called": 0x78, "present": False})
    yield Case("oled", seed, ("address.neighbour", "address.no-answer"), kinds={"called": 0x3D, "present": False})
    yield Case("oled", seed, ("setup.wrong-controller",), kinds={"part": "sh1106", "sent": "ssd1306", "panel": "128x64"})
    yield Case("oled", seed, ("setup.charge-pump-off",), wrong="setup.charge-pump-off", kinds={"part": "sh1106"})
    yield Case("oled", seed, ("picture.column-offset",), wrong="picture.column-offset", kinds={"part": "sh1106"})
    yield Case(
        "oled", seed, ("picture.column-offset",), wrong="picture.column-offset", kinds={"part": "ssd1306", "panel": "128x64"}
    )
    for wired in ("i2c", "spi"):
        yield from _wrong(
            "oled",
            seed,
            {"part": "sh1107", "wired": wired},
            "setup.wrong-geometry",
            "setup.display-off",
            "setup.test-mode",
            "picture.blank",
        )
    yield Case("pcd", seed, ("setup.nothing-sent",), wrong="setup.nothing-sent")
    for wired in ("spi", "mode3"):
        yield from _wired("oled", seed, {"wired": wired}, ("swap SCK MOSI", SWAP, ()), ("swap MOSI DC", SWAP, ()), ("swap CS DC", SWAP, ()),
                          ("low MOSI", STUCK, ()), ("low SCK", STUCK, ()), ("high CS", STUCK, ()), ("low DC", DC, ()), ("high DC", DC, ()),
                          ("invert DC", INVERTED, ()), ("invert MOSI", INVERTED, ()), ("join SCK MOSI", JOINED, ()), ("low RST", STUCK, ()),
                          ("swap DC RST", SWAP, ()), ("swap CS RST", SWAP, ()), ("floats RST", LOOSE, ()))  # fmt: skip
    yield from _wrong("oled", seed, {"wired": "spi", "panel": "128x64"}, "setup.charge-pump-off", "setup.display-off", "timing.clock-too-fast",
                      "frame.bit-order",
                      "frame.wrong-spi-mode", "setup.wrong-geometry")  # fmt: skip
    yield from _wired(
        "oled", seed, {"wired": "nine"}, ("swap SCK MOSI", SWAP, ()), ("low MOSI", STUCK, ()), ("high CS", STUCK, ())
    )
    yield from _wrong("oled", seed, {"wired": "nine"}, "setup.display-off")
    for width in (8, 4):
        ends = ("D7 D4", "D6 D7", "D5 D6") if width == 4 else (pair, "D4 D7")
        rows = [*((f"swap {end}", SWAP, tuple(sorted(end.split()))) for end in ends), ("low RS", DC, ()), ("low E", STUCK, ()), ("swap RS E", SWAP, ()),
                ("invert RS", INVERTED, ()), ("low D6", STUCK, ()), ("high D5", STUCK, ())]  # fmt: skip
        yield from _wired("lcd", seed, {"width": width}, *rows)
        yield Case("lcd", seed, BUS, wires=(("invert", "RS", "E", *LCD8[8 - width :]),), kinds={"width": width})
        for said in (True, False):
            yield Case("lcd", seed, ("timing.wait-short",), rig=said, kinds={"width": width, "rw": seed % 2 == 0, "hasty": True})
        yield from _wrong(
            "lcd", seed, {"width": width}, "timing.wait-short", "setup.display-off", "setup.wrong-geometry", "timing.pulse-short"
        )
    yield from _wired("lcd", seed, {"width": 8, "rw": True}, ("swap RS RW", SWAP, ()), ("high RW", STUCK, ()))
    yield Case("lcd", seed, ("setup.decimal-for-hex", "setup.interface-width"), wrong="setup.decimal-for-hex")
    yield from _wired("ks", seed, {"scene": "text"}, (f"low D{chance.randrange(8)}", STUCK, ()), ("swap CS1 CS2", SWAP, ()),
                      ("low CS2", STUCK, ()), ("low RS", DC, ()),
                      ("swap RS RW", SWAP, ()), ("low E", STUCK, ()), (f"swap {' '.join(two)}", SWAP, ()), ("high RW", STUCK, ()),
                      ("invert RS", INVERTED, ()))  # fmt: skip
    yield from _wrong("ks", seed, {}, "setup.display-off")
    yield from _wired("pcd", seed, {}, ("swap SCK MOSI", SWAP, ()), ("swap CS DC", SWAP, ()), ("low MOSI", STUCK, ()), ("low DC", DC, ()), ("high DC", DC, ()),
                      ("high CS", STUCK, ()), ("invert DC", INVERTED, ()), ("swap MOSI DC", SWAP, ()), ("low RST", STUCK, ()),
                      ("invert CS", ("wiring.inverted-line", "frame.select-broken"), ()),
                      ("swap DC RST", SWAP, ()), ("swap CS RST", SWAP, ()), ("floats RST", LOOSE, ()))  # fmt: skip
    yield from _wrong(
        "pcd",
        seed,
        {},
        "setup.display-off",
        "setup.test-mode",
        "timing.clock-too-fast",
        "frame.wrong-spi-mode",
        "frame.bit-order",
    )
    yield from _wired("digits", seed, {}, ("swap CLK DIN", SWAP, ()), ("swap DIN LOAD", SWAP, ()), ("low DIN", STUCK, ()), ("low CLK", STUCK, ()),
                      ("high LOAD", STUCK, ()), ("low LOAD", SELECT, ()), ("join CLK DIN", JOINED, ()), ("swap CLK LOAD", SWAP, ()))  # fmt: skip
    yield from _wrong("digits", seed, {}, "setup.shutdown", "setup.scan-limit", "setup.test-mode")
    for part in ("st7032", "aip31068"):
        yield from _wrong("lettered", seed, {"part": part}, "setup.display-off", "setup.wrong-geometry")
        yield Case("lettered", seed, ("address.no-answer",), kinds={"part": part, "present": False})
    yield Case("lettered", seed, ("setup.charge-pump-off",), wrong="setup.charge-pump-off")
    yield from _wired("segments", seed, {}, ("swap CLK DIO", SWAP, ()), ("low DIO", STUCK, ()), ("low CLK", STUCK, ()), ("high DIO", STUCK, ()),
                      ("join CLK DIO", JOINED, ()))  # fmt: skip
    yield from _wrong("segments", seed, {}, "setup.display-off", "picture.blank")
    yield Case("segments", seed, ("frame.data-refused",), kinds={"there": False})
    yield from _wired("segments", seed, {"part": "tm1638"}, ("swap CLK DIO", SWAP, ()), ("low DIO", STUCK, ()), ("low CLK", STUCK, ()),
                      ("high STB", STUCK, ()))  # fmt: skip
    yield from _wrong("segments", seed, {"part": "tm1638"}, "setup.display-off", "picture.blank", "frame.bit-order")
    yield Case("pcd", seed, BUS, wires=(("invert", "SCK", "MOSI", "CS", "DC"),))
    yield Case("digits", seed, BUS, wires=(("invert", "CLK", "DIN", "LOAD"),))
    yield Case("shift", seed, BUS, wires=(("invert", "CLK", "DATA", "LATCH"),))
    yield Case("oled", seed, BUS, wires=(("invert", "SCL", "SDA"),))
    yield from _wired("driver", seed, {}, ("swap SCL SDA", SWAP, ()), ("low SDA", STUCK, ()))
    yield from _wrong("driver", seed, {}, "setup.display-off", "setup.shutdown")
    yield from _wrong("colour", seed, {}, "setup.shutdown", "setup.display-off", "setup.pixel-format")
    for own in ({}, {"part": "ssd1322"}):
        off = "setup.shutdown" if own else "setup.display-off"
        yield from _wrong("grey", seed, own, off, "setup.test-mode", "setup.wrong-geometry", "picture.blank", "timing.clock-too-fast", "frame.bit-order",
                          "frame.wrong-spi-mode")  # fmt: skip
        yield from _wired("grey", seed, own, ("swap SCK MOSI", SWAP, ()), ("swap CS DC", SWAP, ()), ("low DC", DC, ()), ("low MOSI", STUCK, ()),
                          ("high CS", STUCK, ()), ("low RST", STUCK, ()), ("invert DC", INVERTED, ()), ("swap DC RST", SWAP, ()),
                          ("swap CS RST", SWAP, ()))  # fmt: skip
    yield from _wired("grey", seed, {"wired": "i2c"}, ("swap SCL SDA", SWAP, ()), ("low SDA", STUCK, ()))
    yield Case("grey", seed, ("address.no-answer",), kinds={"wired": "i2c", "present": False})
    yield from _wrong("dimmed", seed, {}, "setup.shutdown", "picture.blank")
    yield from _wrong(
        "dimmed", seed, {"part": "is31fl3733"}, "setup.shutdown", "picture.blank", "setup.contrast-low", "setup.step-missing"
    )
    yield Case("dimmed", seed, ("address.no-answer",), kinds={"present": False})
    yield from _wrong(
        "lettered",
        seed,
        {"part": "pcf2119"},
        "setup.display-off",
        "setup.wrong-geometry",
        "setup.charge-pump-off",
        "picture.blank",
    )
    yield from _wrong("gauge", seed, {"planes": 2 ** (seed % 3)}, "setup.display-off", "setup.wrong-geometry", "picture.blank")
    yield from _wrong(
        "bitwise",
        seed,
        {},
        "setup.shutdown",
        "setup.display-off",
        "setup.wrong-geometry",
        "picture.blank",
        "frame.wrong-spi-mode",
        "setup.test-mode",
        "setup.step-missing",
    )
    yield from _wired("bitwise", seed, {}, ("swap WR DATA", SWAP, ()), ("low DATA", STUCK, ()), ("low WR", STUCK, ()), ("high CS", STUCK, ()),
                      ("swap CS DATA", SWAP, ()), ("swap CS WR", SWAP, ()), ("invert DATA", INVERTED, ()), ("join WR DATA", JOINED, ()),
                      ("low CS", SELECT, ()))  # fmt: skip
    yield Case("gauge", seed, ("address.no-answer",), kinds={"present": False})
    yield from _wired("gauge", seed, {}, ("swap SCL SDA", SWAP, ()), ("low SDA", STUCK, ()), ("low SCL", STUCK, ()))
    yield from _wired("dimmed", seed, {}, ("swap SCL SDA", SWAP, ()), ("low SDA", STUCK, ()))
    yield from _wrong("leds", seed, {}, "timing.pulse-short", "picture.blank", "picture.partial")
    yield from _wrong(
        "leds", seed, {"part": "apa102"}, "picture.blank", "picture.partial", "picture.outside-panel", "frame.wrong-spi-mode"
    )
    yield from _wrong("leds", seed, {}, "picture.outside-panel")
    yield from _wired(
        "leds", seed, {"part": "apa102"}, ("swap CKI SDI", SWAP, ()), ("low SDI", STUCK, ()), ("low CKI", STUCK, ())
    )
    for own in ({}, {"text": True}, {"wired": "eight"}, {"wired": "four"}):
        yield from _wrong("graphic", seed, own, "setup.display-off")
        if "wired" not in own:
            yield from _wrong("graphic", seed, own, "frame.wrong-spi-mode")
            yield from _wired("graphic", seed, own, ("swap SCLK SID", SWAP, ()), ("swap SID CS", SWAP, ()), ("low SID", STUCK, ()), ("low SCLK", STUCK, ()),
                              ("low CS", STUCK, ()), ("low RST", STUCK, ()), ("invert SID", INVERTED, ()))  # fmt: skip
        else:
            yield from _wired(
                "graphic", seed, own, ("swap RS E", SWAP, ()), ("low RS", DC, ()), ("low E", STUCK, ()), ("swap D6 D7", SWAP, ())
            )
        if "text" not in own:
            yield Case("graphic", seed, ("setup.display-off",), wrong="graphic", kinds=own)
            yield from _wrong("graphic", seed, own, "picture.blank")
    for own in ({}, {"part": "uc8151"}):
        yield from _wrong("paper", seed, own, "timing.busy-ignored", "picture.not-refreshed", "setup.asleep", "setup.wrong-geometry", "picture.blank",
                          "frame.wrong-spi-mode")  # fmt: skip
        yield Case("paper", seed, STUCK, ("BUSY",), kinds={"there": False, **own})
        yield from _wrong("paper", seed, {"answers": False, "inks": 2, **own}, "picture.not-refreshed", "setup.asleep")
        yield from _wired("paper", seed, own, ("swap SCK MOSI", SWAP, ()), ("swap CS DC", SWAP, ()), ("low DC", DC, ()), ("low MOSI", STUCK, ()),
                          ("low RST", STUCK, ()), ("low BUSY", STUCK, ()), ("swap DC BUSY", SWAP, ()), ("swap CS RST", SWAP, ()))  # fmt: skip
    yield from _wrong("paper", seed, {"part": "uc8151"}, "setup.charge-pump-off", "setup.pixel-format")
    yield from _wired("colour", seed, {}, ("low DC", DC, ()), ("swap SCK MOSI", SWAP, ()), ("low RST", STUCK, ()), ("swap DC RST", SWAP, ()),
                      ("swap CS RST", SWAP, ()))  # fmt: skip
    yield Case("backpack", seed, ("setup.backlight-off",), kinds={"dark": True})
    yield Case("backpack", seed, ("wiring.adapter-pins",), kinds={"order": "b"})
    yield Case("backpack", seed, ("address.no-answer",), wrong="address.no-answer")
    yield from _wrong("backpack", seed, {}, "setup.display-off")
    yield from _wired("backpack", seed, {}, ("swap SCL SDA", SWAP, ()))
    yield from _wired("shift", seed, {}, ("swap CLK DATA", SWAP, ()), ("swap CLK LATCH", SWAP, ()), ("swap DATA LATCH", SWAP, ()), ("low DATA", STUCK, ()),
                      ("low LATCH", STUCK, ()), ("low CLK", STUCK, ()), ("invert DATA", INVERTED, ()))  # fmt: skip
    yield from _wrong("shift", seed, {}, "frame.bit-order", "setup.display-off")
    yield from _wired(
        "shift",
        seed,
        {"part": "74hc164"},
        ("swap CLK DATA", SWAP, ()),
        ("low E", STUCK, ()),
        ("low DATA", STUCK, ()),
        ("swap DATA E", SWAP, ()),
    )
    lit = "low" if random.Random(seed).random() < 0.5 else "high"  # of the columns of this seed's matrix
    row, column = chance.randrange(8), chance.randrange(8)
    other = (row + chance.randrange(1, 8)) % 8
    columns = " ".join(f"COL{k}" for k in range(8))
    yield from _wired("lamps", seed, {}, (f"low ROW{row}", STUCK, ()), (f"high ROW{row}", STUCK, ()), (f"{lit} COL{column}", STUCK, ()),
                      (f"join ROW{row} ROW{other}", (*JOINED, *STUCK), (f"ROW{row}", f"ROW{other}")))  # fmt: skip
    yield Case("lamps", seed, INVERTED, wires=(("invert", *columns.split()),))
    yield Case("lamps", seed, INVERTED, (f"ROW{row}",), wires=(("invert", f"ROW{row}"),))
    yield from _wrong("colours", seed, {"rows": 16}, "timing.flicker", "timing.ghosting")
    yield from _wrong("colours", seed, {"rows": 32}, "setup.wrong-geometry")
    yield from _wired("colours", seed, {}, ("swap A B", SWAP, ()), ("swap B D", SWAP, ()), ("low C", STUCK, ()), ("high A", STUCK, ()),
                      ("low LAT", STUCK, ()),
                      ("low CLK", STUCK, ()), ("invert OE", INVERTED, ()), ("swap LAT OE", SWAP, ()),
                      ("swap CLK LAT", SWAP, ()), ("high OE", STUCK, ()))  # fmt: skip
    yield Case("colours", seed, JOINED, ("C", "D"), wires=(("follow", "C", "D"),))
    yield Case("registers", seed, ("address.neighbour",), ("SI",), wrong="address.neighbour")
    for part in ("st7032", "aip31068"):
        yield from _wrong("lettered", seed, {"part": part}, "picture.cell-off-by-one", "timing.power-on-short")
    yield from _wired("sign", seed, {}, ("swap CLK R", SWAP, ()), ("swap A B", SWAP, ()), ("low B", STUCK, ()), ("high A", STUCK, ()), ("low R", STUCK, ()),
                      ("low LAT", STUCK, ()), ("high OE", STUCK, ()), ("low OE", STUCK, ()), ("low CLK", STUCK, ()), ("swap LAT OE", SWAP, ()),
                      ("invert OE", INVERTED, ()))  # fmt: skip
    for own in ({}, {"count": 1}):
        yield from _wrong("ports", seed, own, "setup.pin-direction", "setup.display-off", "timing.wait-short")
    yield from _wired("pair", seed, {}, ("swap CS1 CS2", SWAP, ()), ("high CS1", STUCK, ()), ("high CS2", STUCK, ()), ("low CS2", SELECT, ()),
                      ("swap SCK MOSI", SWAP, ()), ("low DC", DC, ()))  # fmt: skip
    yield from _wrong("polled", seed, {}, "timing.never-ready")
    for turn in range(3):
        yield from _wired("several", seed, {"turn": turn}, ("swap SCL SDA", SWAP, ()), ("swap CS DC", SWAP, ()), ("low MOSI", STUCK, ()), ("low RS", DC, ()),
                          ("low RST", STUCK, ()), ("swap SCK MOSI", SWAP, ()))  # fmt: skip
    for family, code in (
        ("oled", "setup.charge-pump-off"),
        ("lcd", "timing.wait-short"),
        ("pcd", "setup.display-off"),
        ("pcd", "timing.clock-too-fast"),
    ):
        yield Case("several", seed, (code,), wrong=code, kinds={"faulty": family, "turn": seed})
    yield from _wired("registers", seed, {}, ("swap SCK SI", SWAP, ()), ("low SI", STUCK, ()), ("high CS", STUCK, ()))
    yield from _wrong("registers", seed, {}, "timing.ghosting")


def analog(seed: int) -> Iterator[Case]:
    """I2C in volts: good benches with noise, slow samples and clipping; weak, missing and too low pull-ups."""
    chance = random.Random(seed)
    small: dict[str, object] = {"panel": "128x32"}
    good = Bench(
        noise=chance.uniform(0.0, 0.07),
        rate=chance.choice((4e6, 8e6, 20e6)),
        ohms=chance.choice((1.5e3, 2.2e3)),
        step=chance.choice((0.01, 0.05)),
    )

    def both(bench: Bench) -> tuple[tuple[str, Bench], ...]:
        return (("SCL", bench), ("SDA", bench))

    yield Case("oled", seed, bench=both(good), kinds=small)
    yield Case("oled", seed, bench=both(replace(good, supply=5.0, most=4.0, noise=0.02)), kinds=small)
    yield Case("oled", seed, bench=both(replace(good, supply=5.0)), kinds=small)
    small = {"panel": "128x32", "hertz": 390e3}
    sharp = replace(good, rate=20e6, noise=0.03)
    weak = replace(sharp, ohms=chance.uniform(9e3, 14e3))
    yield Case("oled", seed, ("wiring.weak-pullup",), ("SDA",), bench=(("SCL", sharp), ("SDA", weak)), kinds=small)
    yield Case("oled", seed, ("wiring.weak-pullup",), ("SCL", "SDA"), bench=both(weak), kinds=small)
    yield Case(
        "oled",
        seed,
        ("wiring.level-mismatch",),
        ("SDA",),
        bench=(("SCL", sharp), ("SDA", replace(sharp, low=1.25))),
        kinds=small,
    )
    yield Case(
        "oled",
        seed,
        ("wiring.level-mismatch",),
        ("SCL", "SDA"),
        bench=both(replace(sharp, supply=1.9)),
        kinds=small,
    )


def healthy(count: int) -> Iterator[Case]:
    """Random scenes and set-ups of every part, whole and from the middle on."""
    kinds: list[tuple[str, dict[str, object]]] = [
        ("oled", {}), ("oled", {"part": "sh1106"}), ("oled", {"wired": "spi"}), ("oled", {"wired": "mode3"}), ("oled", {"wired": "nine"}),
        ("oled", {"part": "sh1106", "wired": "spi"}), ("oled", {"part": "sh1107"}),
        ("oled", {"part": "sh1107", "wired": "spi"}), ("lcd", {}), ("lcd", {"width": 4}), ("lcd", {"rw": True}), ("lcd", {"width": 4, "rw": True}), ("ks", {}),
        ("pcd", {}), ("pcd", {"mode": 3}), ("digits", {}), ("digits", {"chain": 3}), ("driver", {}), ("colour", {}), ("backpack", {}), ("shift", {}),
        ("colours", {}), ("colours", {"rows": 16}), ("colours", {"rows": 64}),
        ("shift", {"part": "74hc164"}), ("lamps", {}), ("lamps", {"back": False}), ("lamps", {"rows": 7, "columns": 5}), ("sign", {}),
                      ("registers", {}), ("several", {}), ("several", {"turn": 1}), ("ports", {}), ("ports", {"count": 1}), ("pair", {}),
        ("segments", {}), ("segments", {"part": "tm1638"}), ("lettered", {}), ("lettered", {"part": "aip31068"}),
        ("lettered", {"part": "pcf2119"}),
        ("bitwise", {}), ("gauge", {}), ("gauge", {"planes": 2}), ("gauge", {"planes": 1}),
        ("dimmed", {}), ("dimmed", {"part": "is31fl3733"}), ("leds", {}), ("leds", {"part": "apa102"}),
        ("graphic", {}), ("graphic", {"text": True}), ("graphic", {"wired": "eight"}), ("graphic", {"wired": "four"}),
        ("paper", {}), ("paper", {"inks": 2}), ("paper", {"answers": False}), ("paper", {"part": "uc8151"}), ("paper", {"part": "uc8151", "inks": 2}),
        ("grey", {}), ("grey", {"wired": "i2c"}), ("grey", {"part": "ssd1322"}),
    ]  # fmt: skip
    for seed in range(count):
        for family, own in kinds:
            late = random.Random(f"{seed} {family} {own}").uniform(0.05, 0.95) if seed % 3 == 2 else 0.0
            yield Case(family, 1000 + seed, late=late, kinds=own)
        for what, of in (("eeprom", "oled"), ("flash", "pcd"), ("flash", "digits")):
            yield Case("foreign", 1000 + seed, foreign=True, kinds={"what": what, "of": of})
        for what in ("uart", "random", "pwm", "encoder"):
            for of in ("oled", "lcd", "pcd", "ks", "digits"):
                yield Case("foreign", 1000 + seed, foreign=True, kinds={"what": what, "of": of})


def cases(seeds: int, scenes: int) -> Iterator[Case]:
    """All of them, with and without a rig; without one only where there are options in its place."""
    for case in [*(case for seed in range(seeds) for case in (*faults(seed), *analog(seed))), *healthy(scenes)]:
        yield case
        if not case.first and not case.late and (case.family == "shift" or "chain" in case.kinds):
            yield replace(case, rig=False, bare=True)
        if (
            case.family not in ("shift", "registers", "lamps", "sign", "several", "ports", "pair")
            and not case.foreign
            and case.kinds.get("chain", 1) == 1
            and case.kinds.get("order") != "b"
            and not any(bench.supply < 2 for _, bench in case.bench)
        ):
            yield replace(case, rig=False)
            if (
                not case.first and not case.late and not case.bench and case.kinds.get("part") != "apa102"
            ):  # two lines tell nothing of it
                yield replace(case, rig=False, bare=True)
                if case.family in ("oled", "lcd", "pcd", "digits", "colour", "grey") or (
                    case.family == "segments" and not case.kinds
                ):
                    yield replace(case, rig=False, bare=True, nameless=True)


# ---- judging --------------------------------------------------------------------------------------------------------------------------------


def written(case: Case, folder: Path) -> tuple[Path, list[str]]:
    """The capture as a file, and the arguments to read it by."""
    made = FAMILIES[case.family](case.seed, case.wrong, **case.kinds)
    if case.late:
        made.wave.from_(case.late)
    if case.nameless:
        to = {name: f"CH{number}" for number, name in enumerate(made.wave.names)}
        made.wave.changes = [(when, to[name], level) for when, name, level in made.wave.changes]
        made.wave.first = {to[name]: level for name, level in made.wave.first.items()}
    for kind, *names in case.wires:
        WIRES[kind](made.wave, *names)
    if case.bench:
        made.wave.changes = [change for change in made.wave.changes if change[0] < 12e6]
        made.wave.now = min(made.wave.now, 12e6)
        path = folder / "capture.csv"
        writers.csv(*seen(made.wave, dict(case.bench), case.seed), path)
    else:
        path = folder / "capture.vcd"
        writers.vcd(made.wave, path)
    rig = folder / "rig.toml"
    rig.write_text(made.rig)
    return path, ["--rig", str(rig)] if case.rig else [] if case.bare else made.options


def diagnosed(path: Path, argv: list[str]) -> dict[str, object] | str:
    """What the program says, in this process but through its own command line."""
    from hushed_wire.cli.main import main

    out, err = io.TextIOWrapper(io.BytesIO()), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err), contextlib.suppress(SystemExit):
        main(["diagnose", str(path), *argv, "--format", "json"])
    out.flush()
    try:
        return json.loads(out.buffer.getvalue())  # type: ignore[attr-defined, no-any-return]
    except ValueError:
        return err.getvalue().strip() or "nothing was printed"


def judged(case: Case) -> Outcome:
    """Makes a capture, has it diagnosed, and holds the outcome against its label."""
    with tempfile.TemporaryDirectory() as name:
        said = diagnosed(*written(case, Path(name)))
    if isinstance(said, str):
        refused = not case.first and case.foreign
        return Outcome(case, [], "" if refused else said[:200], False)
    findings: list[dict[str, object]] = said["findings"]  # type: ignore[assignment]
    codes = [str(finding["code"]) for finding in findings]
    graver = [(str(finding["code"]), str(finding["confidence"])) for finding in findings if finding["severity"] != "note"]
    sure = graver[0][1] if graver else ""
    if not case.first:
        wrong = [code for code, _ in graver if not (case.foreign and code.startswith("capture."))]
        return Outcome(case, codes, f"false: {wrong}" if wrong else "", True, sure if wrong else "", graver)
    first = codes[0] if codes else ""
    lines = sorted(findings[0].get("lines") or []) if findings else []  # type: ignore[call-overload]
    right = first in case.first and (case.lines is None or lines == sorted(case.lines))
    bad = (
        f"wants {' or '.join(case.first)}, got {codes[:4]}"
        if first not in case.first
        else ""
        if right
        else f"wants {case.lines}, got {lines}"
    )
    return Outcome(case, codes, bad, right, sure, graver)
