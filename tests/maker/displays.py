"""Set-ups and scenes of displays, as drivers in daily use send them; bytes from the datasheets named beside them."""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from .masters import I2c, Parallel, Shift, Spi
from .wave import Wave

__all__ = [
    "Backpack", "Refreshed", "Registers", "TEXTS", "bit_glass", "character", "colour_panel", "digits_chip", "dimmed", "dimmed_wide", "glass_digits", "halved",
    "halves_chip", "keyed", "lettered_chip", "lettered_upper", "matrix", "mono", "paged", "paper", "paper_low", "pcd8544", "quarter",
    "rows_of", "scene", "shades", "shifted", "st7735",
]  # fmt: skip

Picture = NDArray[np.bool_]
Send = Callable[[Sequence[int], bool], None]  # bytes, and whether they are data

TEXTS = (
    ("TIDE LOCK 2", "LEVEL 4.2 m"), ("Outer gate open", "Inner gate shut"), ("Pump 1  ON", "Pump 2 OFF"), ("12:40 RISING", "+0.35 m/h"),
    ("Skerry Haven", "ready"), ("ALARM 07", "call wheelhouse"),
)  # fmt: skip


def scene(chance: random.Random, columns: int, rows: int, kind: str = "") -> Picture:
    """A picture: boxes, lines, bars, strokes like text, dither or noise, often inverted, often with an empty part."""
    out = np.zeros((rows, columns), np.bool_)
    kind = kind or chance.choice(("boxes", "lines", "strokes", "bars", "dither", "noise", "mixed", "text"))
    y, x = np.mgrid[:rows, :columns]
    if kind == "text":
        sheet = Image.new("1", (columns, rows))
        for top in range(-2, rows, 10):
            ImageDraw.Draw(sheet).text(
                (chance.randint(-3, 2), top), " ".join(" ".join(chance.choice(TEXTS)) for _ in range(2)), fill=1
            )
        return np.array(sheet, np.bool_)
    if kind in ("boxes", "mixed"):
        for _ in range(chance.randint(1, 5)):
            left, top = chance.randrange(columns), chance.randrange(rows)
            out[top : top + chance.randint(2, 30), left : left + chance.randint(2, 60)] ^= True
    if kind in ("lines", "mixed"):
        for _ in range(chance.randint(1, 6)):
            slope, at = chance.uniform(-2, 2), chance.uniform(0, rows)
            out |= np.abs(y - slope * (x - columns / 2) - at) < 0.8
    if kind in ("strokes", "mixed"):
        for top in range(0, rows - 7, chance.choice((8, 9, 12))):
            for left in range(0, chance.randint(6, columns), 6):
                out[top : top + 7, left : left + 5] |= np.array([[chance.random() < 0.4 for _ in range(5)] for _ in range(7)])[
                    : rows - top, : columns - left
                ]
    if kind == "bars":
        wide = chance.randint(2, 12)
        for left in range(0, columns, wide + 2):
            out[chance.randrange(rows) :, left : left + wide] = True
    if kind == "dither":
        cells = np.array([[0, 8, 2, 10], [12, 4, 14, 6], [3, 11, 1, 9], [15, 7, 13, 5]])
        out = (x / columns * 16 * chance.uniform(0.4, 1)) > cells[y % 4, x % 4]
    if kind == "noise":
        out = np.array([[chance.random() < 0.5 for _ in range(columns)] for _ in range(rows)])
    return ~out if chance.random() < 0.15 else out


def paged(picture: Picture) -> list[list[int]]:
    """Pages of eight rows, a byte a column, the top row in bit 0."""
    weights = 1 << np.arange(8)
    return [(picture[top : top + 8].T @ weights).astype(int).tolist() for top in range(0, len(picture), 8)]


def rows_of(picture: Picture) -> list[list[int]]:
    """Rows, eight columns a byte, bit 7 leftmost."""
    return np.packbits(picture, axis=1).astype(int).tolist()


# ---- SSD1306 (rev 1.1), SH1106 (v2.3) and SH1107 (v2.1) ------------------------------------------------------------------------


def mono(send: Send, chance: random.Random, picture: Picture, part: str = "ssd1306", wrong: str = "", frames: int = 1) -> None:
    """A set-up in one of several styles, and pictures. wrong: what the driver gets wrong."""
    height = len(picture)
    pins = 0x12 if height == 64 else 0x02
    style = chance.choice(("whole", "pages", "short"))
    style = "pages" if wrong == "picture.column-offset" else style  # rows come apart
    if part == "sh1107":
        tall(send, chance, picture, wrong, frames)
        return
    pump = [0x8D, 0x14] if part == "ssd1306" else [0xAD, 0x8B]
    if wrong == "setup.charge-pump-off":
        pump = [0x8D, 0x10] if part == "ssd1306" else [0xAD, 0x8A]
    if wrong == "setup.wrong-geometry":
        height, pins = 96 - height, 0x14 - pins
    turned = [0xA1, 0xC8] if chance.random() < 0.7 or wrong else [0xA0, 0xC0]
    steps = [[0xAE], [0xD5, 0x80], [0xA8, height - 1], [0xD3, 0x00], [0x40], pump]
    addressing = [0x20, 0x00 if style == "whole" else 0x02]
    if part == "ssd1306":
        steps.append(addressing)
    steps += [
        [turned[0]],
        [turned[1]],
        [0xDA, pins],
        [0x81, 0xCF if wrong != "setup.contrast-low" else 0x02],
        [0xD9, 0xF1],
        [0xDB, 0x40],
        [0xA4],
        [0xA6],
    ]
    if wrong == "setup.test-mode":
        steps[-2] = [0xA5]
    steps += [[0x2E]] if part == "ssd1306" and style == "whole" else []
    steps += [] if wrong == "setup.display-off" else [[0xAF]]
    if style == "short":  # one transfer for all of it
        send([byte for step in steps for byte in step], False)
    else:
        for step in steps:
            send(step, False)
    for number in range(frames):
        shown = np.roll(picture, 3 * number, axis=1)
        pages = paged(shown)
        if part == "ssd1306" and style == "whole":
            for step in ([0x21, 0, picture.shape[1] - 1], [0x22, 0, len(pages) - 1]):
                send(step, False)
            flat = [byte for page in pages for byte in page]
            size = chance.choice((16, 32, 128, 1024))
            for at in range(0, len(flat), size):
                send(flat[at : at + size], True)
        else:
            offset = 2 if (part == "sh1106") != (wrong == "picture.column-offset") else 0
            if (
                wrong == "picture.column-offset" and chance.random() < 0.5
            ):  # cleared from end to end, so that no column shows what is wrong
                for page in range(len(pages)):
                    send([0xB0 + page, 0x00, 0x10], False)
                    send([0] * (132 if part == "sh1106" else 128), True)
            for page, data in enumerate(pages):
                send([0xB0 + page, 0x00 + offset, 0x10], False)
                send(data, True)


def tall(send: Send, chance: random.Random, picture: Picture, wrong: str, frames: int) -> None:
    """Upright glass whose commons are its columns: their count is the multiplex ratio, and 64 of them hang on the middle of the outputs."""
    columns = picture.shape[1]
    down = chance.random() < 0.5  # data fill a column of pages before the next one begins
    commons, middle = columns, 0x60 if columns == 64 else 0x00
    if wrong == "setup.wrong-geometry" and chance.random() < 0.5:
        middle ^= 0x60
    elif wrong == "setup.wrong-geometry":
        commons = 192 - columns
    steps = [
        [0xAE],
        [0xDC, 0x00],
        [0x81, 0x2F],
        [0x21 if down else 0x20],
        *([[0xA0], [0xC0]] if chance.random() < 0.7 else [[0xA1], [0xC8]]),
    ]
    steps += [[0xA8, commons - 1], [0xD3, middle], [0xD5, 0x51], [0xD9, 0x22], [0xDB, 0x35]]
    steps += [[0xAD, 0x8A], [0xA5 if wrong == "setup.test-mode" else 0xA4], [0xA6]]
    for step in steps + ([] if wrong == "setup.display-off" else [[0xAF]]):
        send(step, False)
    for number in range(frames):
        pages = np.array(paged(np.roll(picture, 3 * number, axis=1)))
        if down:
            for column in range(columns):
                send([0xB0, column & 0x0F, 0x10 | column >> 4], False)
                send(pages[:, column].tolist(), True)
        else:
            for page, data in enumerate(pages.tolist()):
                send([0xB0 + page, 0x00, 0x10], False)
                send(data, True)


def keyed(bus: I2c, address: int) -> Send:
    """Behind an I2C address: a control byte tells commands (00) from data (40)."""

    def send(values: Sequence[int], is_data: bool) -> None:
        bus.write(address, [0x40 if is_data else 0x00, *values])

    return send


# ---- HD44780U (rev 0.0) ----------------------------------------------------------------------------------------------------------


def character(
    write: Callable[[int, int], None],
    half: Callable[[int], None] | None,
    wave: Wave,
    text: Sequence[str],
    wrong: str = "",
    word: float = 50e3,
    wide: str = "",
    letter_rest: float = 0.0,
) -> None:
    """Initialised by instruction (figures 23 and 24), two lines of text. half: sends a half alone, where the bus has four data lines."""
    wave.wait(45e6)
    for pause in (4.5e6, 150e3, 150e3):
        if half:
            half(3)
        else:
            write(0x30, 0)
        wave.wait(pause)
    if half:
        half(2)
        wave.wait(150e3)
    function = 0x28 if half else 0x38
    if wrong == "setup.wrong-geometry":
        function &= ~0x08
    steps = [function, 0x08, 0x01, 0x06, 0x08 if wrong == "setup.display-off" else 0x0C]
    if wrong == "setup.decimal-for-hex":
        steps[0] = 38
    for step in steps:
        write(step, 0)
        wave.wait(2.2e6 if step == 1 and wrong != "timing.wait-short" else word)
    for address, line in zip((0x80, 0xC0), text, strict=False):
        write(address, 0)
        wave.wait(word)
        for letter in line:
            write(ord(letter), 1)
            wave.wait(letter_rest or word)


def lettered(send: Send, wave: Wave, chance: random.Random, text: Sequence[str], part: str, wrong: str = "") -> None:
    """A character display with a controller on I2C, as its drivers set it up: AIP31068 like an HD44780, ST7032 with its second table of instructions."""

    def write(value: int, is_data: bool = False) -> None:
        send([value], is_data)
        wave.wait(60e3)

    wave.wait(chance.uniform(2e6, 15e6) if wrong == "timing.power-on-short" else 50e6)
    function = 0x30 if wrong == "setup.wrong-geometry" else 0x38
    late = wrong == "picture.cell-off-by-one"
    text = [line.ljust(15, ".")[:15] + "m" for line in text] if late else text
    if part == "st7032":
        steps = [function, function | 1, 0x14, 0x70 | chance.randrange(16), 0x54 | chance.randrange(4) | 8 * chance.randrange(2)]
        for step in steps:
            write(step)
        if wrong != "setup.charge-pump-off":
            write(0x68 | chance.randrange(2, 8))
        wave.wait(chance.choice((210e6, 300e6)))
    else:
        for _ in range(chance.choice((1, 3))):
            write(function)
    for step in (function, 0x08 if wrong == "setup.display-off" else 0x0C, 0x01):
        write(step)
    wave.wait(2e6)
    write(0x06)
    whole = chance.random() < 0.5  # a line in one transaction, or a letter in each
    for address, line in zip((0x80, 0xC0), text, strict=False):
        write(address + late)
        if whole:
            send([ord(letter) for letter in line], True)
            wave.wait(60e3)
        for letter in "" if whole else line:
            write(ord(letter), True)


def lettered_upper(send: Send, wave: Wave, chance: random.Random, text: Sequence[str], wrong: str = "") -> None:
    """PCF2119R (rev. 10): the second table of instructions first, then letters 80h above their codes; the cells are cleared by writing blanks."""
    wave.wait(5e6)
    function = 0x30 if wrong == "setup.wrong-geometry" else 0x34
    second = [function | 1, 0x02 | chance.randrange(2), 0x04, 0x10 | chance.randrange(3), 0x40 | chance.randrange(3)]
    second += [] if wrong == "setup.charge-pump-off" else [0x80 | chance.randrange(20, 60)]
    first = [function, 0x08 if wrong == "setup.display-off" else 0x0C, 0x06]
    if chance.random() < 0.5:
        send([*second, *first], False)
    else:
        for value in (*second, *first):
            send([value], False)
            wave.wait(20e3)
    for row in (0x80, 0xC0):
        send([row], False)
        send([0xA0] * chance.choice((16, 40)), True)
    for row, line in zip((0x80, 0xC0), text, strict=False):
        send([row], False)
        send([0xA0 if wrong == "picture.blank" else ord(letter) | 0x80 for letter in line], True)
        wave.wait(60e3)


@dataclass
class Backpack:
    """A character display behind eight outputs: which of them is which line."""

    send: Callable[[int], object]
    rs: int = 0
    e: int = 2
    light: int = 3
    d4: int = 4
    lit: bool = True

    def half(self, value: int, rs: int = 0) -> None:
        """Half a byte with a pulse of E."""
        base = value << self.d4 | rs << self.rs | (self.lit and self.light >= 0) << max(0, self.light)
        for level in (0, 1, 0):
            self.send(base | level << self.e)

    def write(self, value: int, rs: int) -> None:
        """Both halves."""
        self.half(value >> 4, rs)
        self.half(value & 15, rs)


# ---- KS0108B ---------------------------------------------------------------------------------------------------------------------


def halves_chip(
    bus: Parallel, picture: Picture, chips: Sequence[str] = ("CS1", "CS2"), wrong: str = "", word: float = 20e3
) -> None:
    """64 columns a chip, eight pages; selects high (Display Control Instruction)."""
    wave = bus.wave

    def write(value: int, rs: int, selects: Sequence[str]) -> None:
        wave.put(**{chip: int(chip in selects) for chip in chips})
        bus.write(value, rs)
        wave.pause(word)

    for value in (0x3E if wrong == "setup.display-off" else 0x3F, 0xC0):
        for chip in chips:
            write(value, 0, [chip])
    for page, data in enumerate(paged(picture)):
        for number, chip in enumerate(chips):
            write(0xB8 + page, 0, [chip])
            write(0x40, 0, [chip])
            for value in data[64 * number : 64 * number + 64]:
                write(value, 1, [chip])


# ---- PCD8544, MAX7219, ST7735 -------------------------------------------------------------------------------------------------------


def pcd8544(bus: Spi, picture: Picture, chance: random.Random, wrong: str = "") -> None:
    """84 columns, six banks (datasheet 7.8); the set-up in one transfer or step by step."""
    steps = [
        0x21,
        0x80 + chance.randint(0x35, 0x45),
        0x04,
        0x14,
        0x20,
        {"setup.display-off": 0x08, "setup.test-mode": 0x09}.get(wrong, 0x0C),
        0x40,
        0x80,
    ]
    if wrong == "setup.nothing-sent":
        steps = steps[-2:]
    for group in [steps] if chance.random() < 0.5 else [[step] for step in steps]:
        bus.write(group)
    flat = [byte for bank in paged(picture) for byte in bank]
    bus.write(flat, True)


def digits_chip(send: Callable[[int, int], None], rows: Sequence[int], wrong: str = "", decode: int = 0) -> None:
    """Registers of a MAX7219 (datasheet, table 2): test, decode, intensity, scan limit, shutdown; then the digits."""
    send(0x0F, 1 if wrong == "setup.test-mode" else 0)
    send(0x0C, 0)
    send(0x09, decode)
    send(0x0A, 0x07)
    send(0x0B, 3 if wrong == "setup.scan-limit" else 7)
    for number, value in enumerate(rows):
        send(number + 1, value)
    send(0x0C, 0 if wrong == "setup.shutdown" else 1)


FIGURES = (0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7D, 0x07, 0x7F, 0x6F, 0x00, 0x40)  # 0 to 9, nothing, a bar: segment a on bit 0


def segments_chip(send: Callable[[Sequence[int]], None], chance: random.Random, step: int, wrong: str = "") -> None:
    """TM1637 and TM1638 as their drivers are written: each update is a data command, the digits, and the display control. step: bytes a digit.

    Digits go out one behind another, or each to an address of its own; a four-digit clock has its colon on bit 7 of the second digit.
    """
    count = 4 if step == 1 else 8
    fixed = chance.random() < 0.4
    level = 0x80 if wrong == "setup.display-off" else 0x88 | chance.randrange(8)
    if chance.random() < 0.5:
        send([level])
    for _ in range(chance.randint(1, 4)):
        digits = [chance.choice(FIGURES) for _ in range(count)]
        if step == 1 and chance.random() < 0.5:
            digits[1] |= 0x80
        if wrong == "picture.blank":
            digits = [0] * count
        send([0x44 if fixed else 0x40])
        if fixed:
            for place, value in enumerate(digits):
                send([0xC0 + step * place, value])
        else:
            send([0xC0, *(byte for value in digits for byte in (value, *[0] * (step - 1)))])
        send([level])


def st7735(bus: Spi, chance: random.Random, width: int = 128, height: int = 160, wrong: str = "") -> None:
    """ST7735S (v1.4): reset, sleep out, 16-bit pixels, windows, a picture of stripes."""
    wave = bus.wave

    def command(code: int, *values: int) -> None:
        bus.write([code])
        if values:
            bus.write(values, True)

    command(0x01)
    wave.wait(150e6)
    if wrong != "setup.shutdown":
        command(0x11)
        wave.wait(200e6)
    command(0x3A, 0x06 if wrong == "setup.pixel-format" else 0x05)
    command(0x36, 0x00)
    if wrong != "setup.display-off":
        command(0x29)
        wave.wait(20e6)
    command(0x2A, 0, 0, 0, width - 1)
    command(0x2B, 0, 0, 0, height - 1)
    bus.write([0x2C])
    tones = [chance.randrange(65536) for _ in range(9)]
    flat = [byte for y in range(height) for x in range(width) for byte in divmod(tones[(x // 17 + y // 23) % 9], 256)]
    bus.write(flat, True)


def shades(send: Send, chance: random.Random, part: str, wrong: str = "") -> None:
    """SSD1327 (rev 1.7; 128x128) and SSD1322 (rev 1.2; 256x64): sixteen greys, two a byte, the left one in the upper half.

    Parameters come with D/C low on the first, with D/C high on the second, which has a command ahead of its data. The glass stands either way round.
    """
    marked = part == "ssd1322"
    width, height, per, left = (256, 64, 4, 28) if marked else (128, 128, 2, 0)

    def command(code: int, *values: int) -> None:
        if marked and values:
            send([code], False)
            send(values, True)
        else:
            send([code, *values], False)

    turned = chance.random() < 0.5
    lines = height - 1 if wrong != "setup.wrong-geometry" else height // 2 - 1
    mode = {"setup.test-mode": 0xA5}.get(wrong, 0xA6 if marked else 0xA4)
    if marked:
        remap: tuple[int, ...] = (0x14 if turned else 0x06, 0x11)
        rest: list[tuple[int, ...]] = [
            (0xB3, 0x91), (0xCA, lines), (0xA2, 0), (0xA1, 0), (0xA0, *remap), (0xB5, 0), (0xAB, 1), (0xB4, 0xA0, 0xFD), (0xC1, chance.randrange(60, 256)),
            (0xC7, 0x0F), (0xB9,), (0xB1, 0xE2), (0xD1, 0xA2, 0x20), (0xBB, 0x1F), (0xB6, 8), (0xBE, 7), (mode,), (0xA9,),
        ]  # fmt: skip
    else:
        remap = (0x51 if turned else 0x42,)
        rest = [
            (0x81, chance.randrange(60, 256)), (0xA0, *remap), (0xA1, 0), (0xA2, 0), (mode,), (0xA8, lines), (0xB1, 0x11), (0xB3, chance.choice((0, 0xF0))),
            (0xAB, 1), (0xB6, 4), (0xBE, 0x0F), (0xBC, 8), (0xD5, 0x62),
        ]  # fmt: skip
    command(0xFD, 0x12)
    command(0xAE)
    for step in rest:
        command(*step)
    if wrong != ("setup.shutdown" if marked else "setup.display-off"):
        command(0xAF)
    y, x = np.mgrid[:height, :width]
    for number in range(chance.randint(1, 2)):
        drawn = scene(chance, width, height)
        ramp = (x // chance.choice((8, 16)) + y // 16 + number) % 16
        picture = np.where(drawn, ramp, chance.choice((0, 0, 3)))
        if wrong == "picture.blank":
            picture[:] = 0
        packed = picture[:, ::2] << 4 | picture[:, 1::2]
        strip = chance.choice((height, height, 16))
        for top in range(0, height, strip):
            command(0x15, left, left + width // per - 1)
            command(0x75, top, top + strip - 1)
            if marked:
                command(0x5C)
            flat = packed[top : top + strip].reshape(-1).tolist()
            size = chance.choice((len(flat), 64, 1024))
            for at in range(0, len(flat), size):
                send(flat[at : at + size], True)


def halved(bus: Spi, chance: random.Random, rest: float) -> Send:
    """The serial interface of an ST7920 ("Serial interface"): 11111 RW RS 0, then each byte as two with four zeros behind each half; a sync byte
    ahead of every byte, or ahead of a run of them."""
    often = chance.random() < 0.5

    def send(values: Sequence[int], is_data: bool) -> None:
        runs = [[value] for value in values] if often else [list(values)]
        for run in runs:
            bus.write([0xF8 | is_data << 1, *(half for value in run for half in (value & 0xF0, value << 4 & 0xF0))])
            bus.wave.pause(rest)

    return send


def lettered_chip(
    send: Send,
    wave: Wave,
    chance: random.Random,
    picture: Picture | None,
    text: Sequence[str],
    wrong: str = "",
    wide: int = 8,
) -> None:
    """ST7920 (V4.0, "Initialisation"): its text, or a picture in its graphic RAM, of which the lower half lies in the upper eight words of a row.

    picture: 64 rows of 128, None for a text. wide: lines of data.
    """
    base = 0x30 if wide == 8 else 0x20

    def command(value: int, rest: float = 100e3) -> None:
        send([value], False)
        wave.wait(rest)

    for value in (base, base):
        command(value)
    command(0x08 if wrong == "setup.display-off" else 0x0C)
    command(0x01, 12e6)
    command(0x06)
    if picture is None:
        for address, line in zip((0x80, 0x90, 0x88, 0x98), text, strict=False):
            command(address)
            send([ord(letter) for letter in line.ljust(chance.choice((1, 16)))], True)
        return
    if wrong == "graphic":  # both bits with one instruction: only the first of them takes
        command(base | 0x06)
    else:
        command(base | 0x04)
        command(base | 0x06)
    rows = rows_of(picture)
    for row in range(32):
        halves = ((0, rows[row]), (8, rows[row + 32]))
        if chance.random() < 0.5:
            halves = ((0, rows[row] + rows[row + 32]),)  # the address counts on
        for word, data in halves:
            send([0x80 | row], False)
            send([0x80 | word], False)
            send(data, True)
    if chance.random() < 0.5:
        command(base)


def dimmed(write: Callable[[Sequence[int]], object], wave: Wave, chance: random.Random, wrong: str = "") -> None:
    """IS31FL3731 (rev. D): the function page, all registers of a frame, and brightness row by row or in blocks."""
    write([0xFD, 0x0B])
    if chance.random() < 0.5:
        write([0x00, *[0] * 13])  # all function registers at once
    write([0x0A, 0x00])
    wave.wait(10e6)
    if wrong != "setup.shutdown":
        write([0x0A, 0x01])
    for register, value in ((0x00, 0x00), (0x01, 0x00), (0x06, 0x00)):
        write([register, value])
    write([0xFD, 0x00])
    write([0x00, *[0xFF] * 18])
    write([0x12, *[0x00] * 18])
    for _ in range(chance.randint(1, 3)):
        drawn = scene(chance, 16, 9).astype(int) * chance.randrange(20, 256)
        if wrong == "picture.blank":
            drawn[:] = 0
        size = chance.choice((16, 24, 144))
        flat = drawn.reshape(-1).tolist()
        for at in range(0, 144, size):
            write([0x24 + at, *flat[at : at + size]])
        wave.wait(5e6)


def dimmed_wide(write: Callable[[Sequence[int]], object], wave: Wave, chance: random.Random, wrong: str = "") -> None:
    """IS31FL3733 (rev. B): each choice of a page unlocked ahead of it, switches, brightness, then current and the way out of shutdown."""

    def page(number: int) -> None:
        if wrong != "setup.step-missing":
            write([0xFE, 0xC5])
        write([0xFD, number])

    def brightness() -> None:
        drawn = scene(chance, 16, 12).astype(int) * chance.randrange(20, 256)
        if wrong == "picture.blank":
            drawn[:] = 0
        size = chance.choice((16, 64, 192))
        flat = drawn.reshape(-1).tolist()
        for at in range(0, 192, size):
            write([at, *flat[at : at + size]])

    early = chance.random() < 0.5  # whether the LEDs are lit before there is anything to see
    page(0)
    write([0x00, *[0xFF] * 24])
    if early:
        page(1)
        brightness()
    page(3)
    write([0x01, 0 if wrong == "setup.contrast-low" else chance.randrange(0x40, 0x100)])
    if wrong != "setup.shutdown":
        write([0x00, 0x01])
    wave.wait(1e6)
    page(1)
    for _ in range(chance.randint(1, 3)):
        brightness()
        wave.wait(5e6)


# Segments of a byte, the first bit first, by how many backplanes share a digit (PCF8576 datasheet, figure of LCD layouts and filling orders).
FILLING = {
    1: ("c", "b", "a", "f", "g", "e", "d", "dp"),
    2: ("a", "b", "f", "g", "e", "c", "d", "dp"),
    4: ("a", "c", "b", "dp", "f", "e", "g", "d"),
}
SEVEN = dict(
    zip(
        "0123456789 -",
        ("abcdef", "bc", "abdeg", "abcdg", "bcfg", "acdfg", "acdefg", "abc", "abcdefg", "abcdfg", "", "g"),
        strict=True,
    )
)


def glass_digits(write: Callable[[Sequence[int]], object], chance: random.Random, planes: int, wrong: str = "") -> str:
    """PCF8576 (rev. 12): the set-up in one transfer or in several, then digits, all at once or some; gives back what they show."""
    count = {1: 5, 2: 10, 4: 20}[planes]
    told = {1: 2, 2: 4, 4: 1}[planes] if wrong == "setup.wrong-geometry" else planes
    mode = 0x40 | (0 if wrong == "setup.display-off" else 8) | {4: 0, 1: 1, 2: 2}[told]
    steps = [mode, 0x60, 0x78, 0x70]
    if chance.random() < 0.5:
        write([step | 0x80 for step in steps[:-1]] + steps[-1:])
    else:
        for step in steps:
            write([step])
    said = ""

    def put(first: int, text: str) -> None:
        data = []
        for char in text:
            lit = "" if wrong == "picture.blank" else SEVEN[char]
            data.append(sum(0x80 >> k for k, name in enumerate(FILLING[planes]) if name in lit))
        at = first * 8 // planes
        write([*([0xE0, at] if chance.random() < 0.5 else [0x80 | at, 0x60]), *data])

    for _ in range(chance.randint(1, 3)):
        said = "".join(chance.choice("0123456789 -") for _ in range(count - 1)) + chance.choice("0123456789")
        put(0, said)
        if chance.random() < 0.5:
            number = chance.randrange(count)
            said = said[:number] + "8" + said[number + 1 :]
            put(number, "8")
    return said


# Which bit of a digit's two nibbles drives what, the first that is sent first, and the codes of the commands (HT1621, rev. 1.30, "Command Summary").
MODULE = ("dp", "c", "b", "a", "d", "e", "g", "f")


def bit_glass(send: Callable[[str], object], chance: random.Random, wrong: str = "") -> str:
    """HT1621 (rev. 1.30): commands each in a transfer, or several behind one 100; digits one by one or all at once; gives back what they show."""
    commons = "0010101"[:4] + ("00" if wrong == "setup.wrong-geometry" else "10")
    steps = [
        "" if wrong == "setup.shutdown" else "00000001", "00011000", commons + "01", "00000100", "00000101",
        "" if wrong == "setup.display-off" else "00000011",
    ]  # fmt: skip
    if wrong == "setup.step-missing":
        steps.remove(commons + "01")
    steps = [step + chance.choice("01") for step in steps if step]
    chance.shuffle(steps)
    steps += ["111000000"] if wrong == "setup.test-mode" else ["111000110"] if chance.random() < 0.2 else []
    if chance.random() < 0.4:
        send("100" + "".join(steps))
    else:
        for step in steps:
            send("100" + step)
    send("101000000" + "0000" * 32)
    said = " " * 6
    for _ in range(chance.randint(1, 4)):
        said = "".join(chance.choice("0123456789 -") for _ in range(5)) + chance.choice("0123456789")
        bits = ["".join(str(int(wrong != "picture.blank" and name in SEVEN[char])) for name in MODULE) for char in said]
        if chance.random() < 0.5:
            send("101000000" + "".join(bits[::-1]))  # the leftmost digit is at address 10
        else:
            for number, own in enumerate(bits):
                send(f"101{10 - 2 * number:06b}{own}")
    return said


class Refreshed:
    """E-paper on a bus, with the line that says that it is busy: busy is its name, "" where nobody captured it, high its level then.

    there: the display answers; else the line stays at rest. heeds: the driver waits for it.
    """

    def __init__(self, bus: Spi, chance: random.Random, busy: str, high: int, there: bool, heeds: bool) -> None:
        self.bus, self.chance, self.busy, self.high, self.there, self.heeds = bus, chance, busy, high, there, heeds

    def command(self, code: int, *values: int) -> None:
        self.bus.write([code])
        if values:
            self.bus.write(values, True)

    def works(self, nanoseconds: float) -> None:
        """It is busy for so long, and a driver that heeds it looks again and again."""
        wave, chance = self.bus.wave, self.chance
        if not self.busy or not self.there:
            wave.wait(nanoseconds + 2e6)
            return
        wave.wait(300)
        wave.put(**{self.busy: self.high})
        if not self.heeds and nanoseconds > 1e8:
            wave.later(nanoseconds, self.busy, 1 - self.high)
            wave.wait(chance.uniform(2e6, 5e7))
            return
        wave.wait(nanoseconds)
        wave.put(**{self.busy: 1 - self.high})
        wave.wait(chance.uniform(2e3, 2e6))

    def reset(self) -> None:
        wave = self.bus.wave
        wave.put(RST=0)
        wave.wait(self.chance.choice((2e6, 10e6)))
        wave.put(RST=1)
        wave.wait(10e6)


def paper(glass: Refreshed, width: int, height: int, wrong: str = "", inks: int = 1) -> None:
    """SSD1680 (rev 0.14): BUSY is high while it resets, loads a waveform or refreshes; pictures of one ink or two, whole or a part of one."""
    bus, chance = glass.bus, glass.chance
    wave = bus.wave
    command, works = glass.command, glass.works

    def woken() -> None:
        glass.reset()
        command(0x12)
        works(chance.uniform(1.2e6, 4e6))
        lines = (296 - height if height != 296 else 250) if wrong == "setup.wrong-geometry" else height
        command(0x01, *divmod(lines - 1, 256)[::-1], 0)
        command(0x11, 0x03 if upward else 0x01)
        command(0x3C, 0x05)
        if chance.random() < 0.5:
            command(0x21, 0x00, 0x80)
        command(0x18, 0x80)
        if loads:
            command(0x22, 0xB1)
            command(0x20)
            works(chance.uniform(8e6, 20e6))

    upward, loads = chance.random() < 0.6, chance.random() < 0.3
    across = -(-width // 8)
    woken()
    for number in range(chance.randint(2, 3) if wrong in ("setup.asleep", "timing.busy-ignored") else chance.randint(1, 2)):
        top, high = (0, height) if number == 0 or chance.random() < 0.5 else (16, 40)
        drawn = scene(chance, across * 8, high)
        if wrong == "picture.blank":
            drawn[:] = False
        drawn[:, width:] = False
        first, last = (top, top + high - 1) if upward else (top + high - 1, top)
        for code, raw in (
            (0x24, ~np.packbits(drawn if upward else drawn[::-1], axis=1)),
            (0x26, np.packbits(np.roll(drawn, 9, axis=0), axis=1)),
        )[:inks]:
            command(0x44, 0, across - 1)
            command(0x45, *divmod(first, 256)[::-1], *divmod(last, 256)[::-1])
            command(0x4E, 0)
            command(0x4F, *divmod(first, 256)[::-1])
            bus.write([code])
            bus.write(raw.astype(np.uint8).reshape(-1).tolist(), True)
        if wrong != "picture.not-refreshed":
            command(0x22, chance.choice((0xF7, 0xC7)))
            command(0x20)
            works(chance.uniform(3e8, 6e8))
        if wrong == "setup.asleep" or (wrong == "" and chance.random() < 0.4):
            command(0x10, 0x01)
            wave.wait(5e6)
            if wrong != "setup.asleep":
                woken()
    wave.in_order()


# ---- scanned LEDs -----------------------------------------------------------------------------------------------------------------------


def matrix(
    wave: Wave, picture: Picture, frames: int, hertz: float, rows_high: bool, columns_high: bool, back: bool = True
) -> None:
    """Row after row: all off, the columns set, the row on. back: whether the columns are taken back with the row."""
    rows, columns = picture.shape
    slot = 1e9 / hertz / rows
    for _ in range(frames):
        for row in range(rows):
            wave.put(**{f"ROW{r}": 1 - rows_high for r in range(rows)})
            if back:
                wave.put(**{f"COL{c}": int(not columns_high) for c in range(columns)})
            wave.wait(0.01 * slot)
            wave.put(**{f"COL{c}": int(bool(picture[row, c]) == columns_high) for c in range(columns)})
            wave.wait(0.01 * slot)
            wave.put(**{f"ROW{row}": int(rows_high)})
            wave.wait(0.98 * slot)


def quarter(wave: Wave, picture: Picture, frames: int, hertz: float, clock: float) -> None:
    """A panel of 16 rows in four groups: the group's bits shifted in, latched, lit by OE; a low bit lights."""
    slot = 1e9 / hertz / 4
    for _ in range(frames):
        for group in range(4):
            began = wave.now
            bits = [
                int(not picture[row, 8 * block + column])
                for block in range(picture.shape[1] // 8)
                for row in range(12 + group, -1, -4)
                for column in range(8)
            ]
            for bit in bits:
                wave.put(R=bit)
                wave.wait(0.5e9 / clock)
                wave.put(CLK=1)
                wave.wait(0.5e9 / clock)
                wave.put(CLK=0)
            wave.put(OE=0)
            wave.wait(2000)
            wave.put(A=group & 1, B=group >> 1)
            wave.wait(2000)
            wave.put(LAT=1)
            wave.wait(2000)
            wave.put(LAT=0)
            wave.wait(2000)
            wave.put(OE=1)
            wave.wait(max(1000.0, slot - (wave.now - began)))


def colour_panel(
    wave: Wave, picture: NDArray[np.uint8], frames: int, hertz: float, clock: float, planes: int, style: str, wrong: str = ""
) -> None:
    """A panel in colours on HUB75: rows y and y + half of `planes` bits a colour, each bit lit twice as long as the one below it.

    style: "rows", all bits of a row one behind another, the lowest or the highest first; "planes", one bit of all rows before the next; "while", as
    "rows", and the next bit is shifted in while the one before is lit. wrong: "timing.ghosting", the address changes while it is lit.
    """
    half, width = len(picture) // 2, picture.shape[1]
    value = picture.astype(int) >> 8 - planes
    least = 1e9 / hertz / half * (0.5 if style != "while" else 0.9) / ((1 << planes) - 1)
    order = list(range(planes))[:: wave.chance.choice((1, -1))]
    turns = [(row, bit) for row in range(half) for bit in order]
    if style == "planes":
        turns = [(row, bit) for bit in order for row in range(half)]
    lit = 0.0  # how much longer what was latched last has to be lit

    def shift(row: int, bit: int) -> None:
        nonlocal lit
        for column in range(width):
            upper, lower = (value[y, column] >> bit & 1 for y in (row, row + half))
            wave.put(R1=int(upper[0]), G1=int(upper[1]), B1=int(upper[2]), R2=int(lower[0]), G2=int(lower[1]), B2=int(lower[2]))
            began = wave.now
            wave.wait(0.5e9 / clock)
            wave.put(CLK=1)
            wave.wait(0.5e9 / clock)
            wave.put(CLK=0)
            lit -= wave.now - began
            if style == "while" and lit <= 0:
                wave.put(OE=1)

    for _ in range(frames):
        for row, bit in turns:
            shift(row, bit)
            if style == "while" and lit > 0:
                wave.wait(lit)
            if wrong == "timing.ghosting":
                wave.put(
                    A=row & 1,
                    B=row >> 1 & 1,
                    C=row >> 2 & 1,
                    **({"D": row >> 3 & 1} if half > 8 else {}),
                    **({"E": row >> 4} if half > 16 else {}),
                )
                wave.wait(4000)
            wave.put(OE=1)
            wave.wait(500)
            wave.put(
                A=row & 1,
                B=row >> 1 & 1,
                C=row >> 2 & 1,
                **({"D": row >> 3 & 1} if half > 8 else {}),
                **({"E": row >> 4} if half > 16 else {}),
            )
            wave.wait(500)
            wave.put(LAT=1)
            wave.wait(200)
            wave.put(LAT=0)
            wave.wait(300)
            wave.put(OE=0)
            lit = least * (1 << bit)
            if style != "while":
                wave.wait(lit)
                if wrong != "timing.ghosting":
                    wave.put(OE=1)
                wave.wait(300)
    if style == "while" and lit > 0:
        wave.wait(lit)
    wave.put(OE=1)


@dataclass
class Registers:
    """A register expander on I2C or SPI: MCP23017, MCP23S17 (IODIR at 00 and 01, GPIO at 12h and 13h, IOCON.BANK = 0), or, of one port,
    MCP23008, MCP23S08 (IODIR at 00, GPIO at 09)."""

    send: Callable[[Sequence[int]], None]
    ports: int = 2

    def outputs(self) -> None:
        """Makes all pins outputs."""
        for register in range(self.ports):
            self.send([register, 0x00])

    def write(self, a: int, b: int | None = None) -> None:
        """The pins of port A, and of B."""
        register = 0x12 if self.ports == 2 else 0x09
        self.send([register, a] if b is None else [register, a, b])


def shifted(register: Shift) -> Callable[[int], None]:
    """Eight outputs of one register."""
    return lambda value: register.write([value])


def paper_low(glass: Refreshed, width: int, height: int, wrong: str = "", inks: int = 1) -> None:
    """UC8151c: BUSY_N is low while it powers up or refreshes; a plane is always written whole. Of one ink the first plane is the picture before."""
    bus, chance = glass.bus, glass.chance
    wave = bus.wave
    command, works = glass.command, glass.works
    white_is_one, turned = chance.random() < 0.7, chance.random() < 0.5
    resolution = chance.random() < 0.7 or height == 212 or wrong == "setup.wrong-geometry"  # R00h has no such size

    def woken() -> None:
        glass.reset()
        if chance.random() < 0.6:
            command(0x01, 0x03, 0x00, 0x2B, 0x2B, 0x09)
        command(0x06, 0x17, 0x17, 0x17)
        if wrong != "setup.charge-pump-off":
            command(0x04)
            works(chance.uniform(2e7, 8e7))
        command(0x00, (0x80 if height == 296 else 0x00) | 0x0F | (0x10 if (inks == 1) != (wrong == "setup.pixel-format") else 0))
        if resolution:
            lines = height - 100 if wrong == "setup.wrong-geometry" else height
            command(0x61, width, *divmod(lines, 256))
        # DDX: bit 1 turns the second ink round, and of one ink leaves the picture before out; bit 0: 1 is white
        command(0x50, 0x87 | (0x10 if white_is_one else 0) | (0x20 if inks == 2 and turned else 0))
        if chance.random() < 0.4:
            command(0x82, 0x12)

    woken()
    before = np.zeros((height, width), bool)
    for _ in range(chance.randint(2, 3) if wrong in ("setup.asleep", "timing.busy-ignored") else chance.randint(1, 2)):
        drawn = scene(chance, width, height)
        if wrong == "picture.blank":
            drawn[:] = False
        black = [np.packbits(plane != white_is_one, axis=1) for plane in (before, drawn)]
        second = np.packbits(np.roll(drawn, 9, axis=0) != turned, axis=1)
        for code, raw in ((0x10, black[inks - 1]), (0x13, black[1] if inks == 1 else second)):
            bus.write([code])
            bus.write(raw.astype(np.uint8).reshape(-1).tolist(), True)
        before = drawn
        if chance.random() < 0.5:
            command(0x11)
        if wrong != "picture.not-refreshed":
            command(0x12)
            works(chance.uniform(3e8, 6e8))
        if wrong == "setup.asleep" or (wrong == "" and chance.random() < 0.4):
            command(0x02)
            works(chance.uniform(2e7, 5e7))
            command(0x07, 0xA5)
            wave.wait(5e6)
            if wrong != "setup.asleep":
                woken()
    wave.in_order()
