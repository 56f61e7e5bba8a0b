"""Set-ups as drivers in daily use send them: every byte has a meaning, nothing is wrong with them, and the picture stands upright.

The bytes are those of drivers, not of the catalog's own bring-ups; the wires are made here, by a master that shares no code with the program.
"""

from __future__ import annotations

import tempfile
import unittest
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PIL import Image

import hushed_wire
from hushed_wire.part import Panel, Part
from hushed_wire.part.bring_up import applies
from hushed_wire.part.describe import BringUp
from hushed_wire.sequence.listing import items_of, to_hush
from hushed_wire.sequence.paste import pasted
from support import program

RATE = 16_000_000  # samples a second, two a bit
RIG = """
[[bus]]
name = "wires"
kind = "spi"
clock = "{clock}"
lines = {{ sck = "0", mosi = "1", cs = "2", dc = "3", reset = "4" }}

[[device]]
name = "glass"
on = "wires"
part = "{part}"
panel = "{panel}"
"""
Step = tuple[str, str] | float  # a command and its data, in hex, or seconds of rest


@dataclass(frozen=True)
class SetUp:
    """How a driver sets a display up. window: the first column and row that it addresses. turned: the picture stands on its head on this panel; None: its rows
    come from the last on."""

    part: str
    panel: str
    steps: tuple[Step, ...]
    window: tuple[int, int] = (0, 0)
    turned: bool | None = False

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        wide, high = self.panel.split("-")[0].split("x")
        return int(wide), int(high)

    def __str__(self) -> str:
        return (
            f"{self.part} {self.panel} {' '.join(step[1] for step in self.steps if isinstance(step, tuple) and step[0] == '36')}"
        )


ILI9341: tuple[Step, ...] = (
    ("01", ""), 0.125, ("EF", "03 80 02"), ("CF", "00 C1 30"), ("ED", "64 03 12 81"), ("E8", "85 00 78"), ("CB", "39 2C 00 34 02"), ("F7", "20"),
    ("EA", "00 00"), ("C0", "23"), ("C1", "10"), ("C5", "3E 28"), ("C7", "86"), ("36", "48"), ("37", "00 00"), ("3A", "55"), ("B1", "00 18"),
    ("B6", "08 82 27"), ("F2", "00"), ("26", "01"), ("E0", "0F 31 2B 0C 0E 08 4E F1 37 07 10 03 0E 09 00"),
    ("E1", "00 0E 14 03 11 07 31 C1 48 08 0F 0C 31 36 0F"), ("11", ""), 0.125, ("29", ""), 0.125,
)  # fmt: skip
ST7789: tuple[Step, ...] = (
    ("01", ""), 0.125, ("11", ""), 0.12, ("3A", "55"), 0.01, ("36", "08"), ("2A", "00 00 00 F0"), ("2B", "00 00 01 40"), ("21", ""), 0.01,
    ("13", ""), 0.01, ("29", ""), 0.01,
)  # fmt: skip
ST7735: tuple[Step, ...] = (
    ("01", ""), 0.125, ("11", ""), 0.12, ("B1", "01 2C 2D"), ("B2", "01 2C 2D"), ("B3", "01 2C 2D 01 2C 2D"), ("B4", "07"), ("C0", "A2 02 84"),
    ("C1", "C5"), ("C2", "0A 00"), ("C3", "8A 2A"), ("C4", "8A EE"), ("C5", "0E"), ("20", ""), ("36", "C8"), ("3A", "05"),
    ("2A", "00 00 00 7F"), ("2B", "00 00 00 9F"), ("E0", "02 1C 07 12 37 32 29 2D 29 25 2B 39 00 01 03 10"),
    ("E1", "03 1D 07 06 2E 2C 29 2D 2E 2E 37 3F 00 00 02 10"), ("13", ""), 0.01, ("29", ""), 0.1,
)  # fmt: skip
OLD_ST7735: tuple[Step, ...] = (
    ("01", ""), 0.125, ("11", ""), 0.12, ("3A", "05"), ("B1", "00 06 03"), ("36", "C0"), ("B6", "15 02"), ("B4", "00"), ("C0", "02 70"), ("C1", "05"),
    ("C2", "01 02"), ("C5", "3C 38"), ("FC", "11 15"), ("E0", "09 16 09 20 21 1B 13 19 17 15 1E 2B 04 05 02 0E"),
    ("E1", "0B 14 08 1E 22 1D 18 1E 1B 1A 24 2B 06 06 02 0F"), 0.01, ("2A", "00 00 00 7F"), ("2B", "00 00 00 9F"), ("13", ""), 0.01, ("29", ""), 0.1,
)  # fmt: skip
SSD1306: tuple[Step, ...] = (
    ("AE", ""), ("D5 80", ""), ("A8 3F", ""), ("D3 00", ""), ("40", ""), ("8D 14", ""), ("20 00", ""), ("A1", ""), ("C8", ""), ("DA 12", ""),
    ("81 CF", ""), ("D9 F1", ""), ("DB 40", ""), ("A4", ""), ("A6", ""), ("2E", ""), ("AF", ""), 0.001,
)  # fmt: skip
SH1106: tuple[Step, ...] = (
    ("AE", ""), ("D5 80", ""), ("A8 3F", ""), ("D3 00", ""), ("40", ""), ("AD 8B", ""), ("33", ""), ("A1", ""), ("C8", ""), ("DA 12", ""),
    ("81 80", ""), ("D9 22", ""), ("DB 35", ""), ("A4", ""), ("A6", ""), ("AF", ""), 0.001,
)  # fmt: skip
SH1107: tuple[Step, ...] = (
    ("AE", ""), ("D5 51", ""), ("20", ""), ("81 4F", ""), ("AD 8A", ""), ("A0", ""), ("C0", ""), ("DC 00", ""), ("D3 60", ""), ("D9 22", ""), ("DB 35", ""),
    ("A8 3F", ""), ("A4", ""), ("A6", ""), ("AF", ""), 0.1,
)  # fmt: skip
SSD1309: tuple[Step, ...] = (
    ("FD 12", ""), ("AE", ""), ("D5 A0", ""), ("A8 3F", ""), ("D3 00", ""), ("40", ""), ("20 02", ""), ("A1", ""), ("C8", ""), ("DA 12", ""),
    ("81 6F", ""), ("D9 D3", ""), ("DB 34", ""), ("A4", ""), ("A6", ""), ("2E", ""), ("AF", ""), 0.001,
)  # fmt: skip
SSD1305: tuple[Step, ...] = (
    ("AE", ""), ("04", ""), ("10", ""), ("40", ""), ("2E", ""), ("81 32", ""), ("82 80", ""), ("A1", ""), ("A6", ""), ("A8 3F", ""), ("AD 8E", ""), ("C8", ""),
    ("D3 00", ""), ("D5 F0", ""), ("D8 05", ""), ("D9 F1", ""), ("DA 12", ""), ("DB 34", ""), ("91 3F 3F 3F 3F", ""), ("A4", ""), ("AF", ""), 0.1,
)  # fmt: skip
ST7565: tuple[Step, ...] = (
    ("A2", ""), ("A0", ""), ("C8", ""), ("40", ""), ("2C", ""), 0.05, ("2E", ""), 0.05, ("2F", ""), 0.01, ("26", ""), ("81 18", ""), ("AF", ""), ("A4", ""),
    ("A6", ""), 0.001,
)  # fmt: skip
UC1701: tuple[Step, ...] = (
    ("E2", ""), 0.005, ("40", ""), ("A0", ""), ("C8", ""), ("A6", ""), ("A2", ""), ("2F", ""), 0.05, ("F8 00", ""), ("23", ""), ("81 1C", ""), ("FA 90", ""),
    ("A4", ""), ("AF", ""), 0.001,
)  # fmt: skip
ST7567: tuple[Step, ...] = (
    ("E2", ""), 0.005, ("A2", ""), ("A0", ""), ("C8", ""), ("23", ""), ("81 28", ""), ("2C", ""), 0.05, ("2E", ""), 0.05, ("2F", ""), 0.05, ("40", ""),
    ("A4", ""), ("A6", ""), ("AF", ""), 0.001,
)  # fmt: skip
GC9A01: tuple[Step, ...] = (
    ("EF", ""), ("EB", "14"), ("FE", ""), ("EF", ""), ("EB", "14"), ("84", "40"), ("85", "FF"), ("86", "FF"), ("87", "FF"), ("88", "0A"), ("89", "21"),
    ("8A", "00"), ("8B", "80"), ("8C", "01"), ("8D", "01"), ("8E", "FF"), ("8F", "FF"), ("B6", "00 00"), ("36", "48"), ("3A", "05"),
    ("90", "08 08 08 08"), ("BD", "06"), ("BC", "00"), ("FF", "60 01 04"), ("C3", "13"), ("C4", "13"), ("C9", "22"), ("BE", "11"), ("E1", "10 0E"),
    ("DF", "21 0C 02"), ("F0", "45 09 08 08 26 2A"), ("F1", "43 70 72 36 37 6F"), ("F2", "45 09 08 08 26 2A"), ("F3", "43 70 72 36 37 6F"),
    ("ED", "1B 0B"), ("AE", "77"), ("CD", "63"), ("E8", "34"), ("62", "18 0D 71 ED 70 70 18 0F 71 EF 70 70"),
    ("63", "18 11 71 F1 70 70 18 13 71 F3 70 70"), ("64", "28 29 F1 01 F1 00 07"), ("66", "3C 00 CD 67 45 45 10 00 00 00"),
    ("67", "00 3C 00 00 00 01 54 10 32 98"), ("74", "10 85 80 00 00 4E 00"), ("98", "3E 07"), ("35", "00"), ("21", ""), ("11", ""), 0.12, ("29", ""), 0.02,
)  # fmt: skip
ST7796: tuple[Step, ...] = (
    ("01", ""), 0.12, ("11", ""), 0.12, ("F0", "C3"), ("F0", "96"), ("36", "48"), ("3A", "55"), ("B4", "01"), ("B6", "80 02 3B"),
    ("E8", "40 8A 00 00 29 19 A5 33"), ("C1", "06"), ("C2", "A7"), ("C5", "18"), 0.12, ("E0", "F0 09 0B 06 04 15 2F 54 42 3C 17 14 18 1B"),
    ("E1", "E0 09 0B 06 04 03 2B 43 42 3B 16 14 17 1B"), 0.12, ("F0", "3C"), ("F0", "69"), 0.12, ("29", ""), 0.02,
)  # fmt: skip
ILI9488: tuple[Step, ...] = (
    ("E0", "00 03 09 08 16 0A 3F 78 4C 09 0A 08 16 1A 0F"), ("E1", "00 16 19 03 0F 05 32 45 46 04 0E 0D 35 37 0F"), ("C0", "17 15"), ("C1", "41"),
    ("C5", "00 12 80"), ("36", "48"), ("3A", "66"), ("B0", "00"), ("B1", "A0"), ("B4", "02"), ("B6", "02 02 3B"), ("B7", "C6"), ("F7", "A9 51 2C 82"),
    ("11", ""), 0.12, ("29", ""), 0.025,
)  # fmt: skip
SSD1322: tuple[Step, ...] = (
    ("FD", "12"), ("AE", ""), ("B3", "91"), ("CA", "3F"), ("A2", "00"), ("A1", "00"), ("A0", "1411"), ("B5", "00"), ("AB", "01"), ("B4", "A0FD"), ("C1", "9F"),
    ("C7", "0F"), ("B9", ""), ("B1", "E2"), ("D1", "8220"), ("BB", "1F"), ("B6", "08"), ("BE", "07"), ("A6", ""), ("A9", ""), ("AF", ""), 0.1,
)  # fmt: skip
PCD8544: tuple[Step, ...] = (("21", ""), ("BF", ""), ("04", ""), ("14", ""), ("20", ""), ("0C", ""), 0.001)


def told(steps: Sequence[Step], **other: str) -> tuple[Step, ...]:
    """A set-up with other data of some commands, or other bytes: c36="C0" for 36 C0, o_A8="A8 1F" for the command A8 3F."""
    out: list[Step] = []
    for step in steps:
        if isinstance(step, tuple):
            code = step[0].split()[0]
            step = (other.get(f"o_{code}", step[0]), other.get(f"c{code}", step[1]))
        out.append(step)
    return tuple(out)


def without(steps: Sequence[Step], *codes: str) -> tuple[Step, ...]:
    """A set-up without some commands."""
    return tuple(step for step in steps if not isinstance(step, tuple) or step[0] not in codes)


IDS: tuple[Step, ...] = (("04", "00 00 00 00"), ("09", "00 00 00 00 00"), ("DA", "00"), ("DB", "00"), ("DC", "00"))
C0_ST7789 = (*ST7789, ("36", "C0"))
SET_UPS = (
    SetUp("ili9341", "240x320", ILI9341),
    SetUp("ili9341", "240x320", (*IDS, ("D3", "00 00 93 41"), *ILI9341)),
    SetUp("ili9341", "320x240", (*ILI9341, ("36", "28"))),
    SetUp("ili9341", "320x240", (*ILI9341, ("36", "E8")), turned=True),
    SetUp("ili9341", "240x320-unmirrored", told(ILI9341, c36="08")),
    SetUp("st7789", "240x320", told(ST7789, c36="00")),
    SetUp("st7789", "240x240", told(ST7789, c36="00")),
    SetUp("st7789", "240x240", C0_ST7789, (0, 80), turned=True),
    SetUp("st7789", "135x240", told(ST7789, c36="00"), (52, 40)),
    SetUp("st7789", "135x240", C0_ST7789, (53, 40), turned=True),
    SetUp("st7789", "240x135", (*ST7789, ("36", "60")), (40, 53)),
    SetUp("st7789", "240x135", (*ST7789, ("36", "A0")), (40, 52), turned=True),
    SetUp("st7789", "170x320", told(ST7789, c36="00"), (35, 0)),
    SetUp("st7789", "320x170", (*ST7789, ("36", "60")), (0, 35)),
    SetUp("st7789", "172x320", told(ST7789, c36="00"), (34, 0)),
    SetUp("st7789", "320x172", (*ST7789, ("36", "A0")), (0, 34), turned=True),
    SetUp("st7789", "240x280", told(ST7789, c36="00"), (0, 20)),
    SetUp("st7789", "280x240", (*ST7789, ("36", "60")), (20, 0)),
    SetUp("st7735", "128x160", told(ST7735, c36="C0")),
    SetUp("st7735", "128x160", OLD_ST7735),
    SetUp("st7735", "160x128", (*ST7735, ("36", "A0"))),
    SetUp("st7735", "128x160-offset", told(ST7735, c36="C0", c2A="00 02 00 81", c2B="00 01 00 A0"), (2, 1)),
    SetUp("st7735", "128x128", told(ST7735, c2A="00 02 00 81", c2B="00 03 00 82"), (2, 3)),
    SetUp("st7735", "128x128", told(ST7735, c36="08"), (2, 1), turned=True),
    SetUp("st7735", "80x160", told(without(ST7735, "20"), c2A="00 1A 00 69", c2B="00 01 00 A0")[:-2] + (("21", ""), ("29", ""), 0.1), (26, 1)),
    SetUp("st7735", "80x160-24", told(ST7735, c36="C0", c2A="00 00 00 4F", c2B="00 00 00 9F"), (24, 0)),
    SetUp("ssd1306", "128x64", SSD1306),
    SetUp("ssd1306", "128x64", told(SSD1306, o_A1="A0", o_C8="C0"), turned=True),
    SetUp("ssd1306", "128x32", told(SSD1306, o_A8="A8 1F", o_DA="DA 02", o_81="81 8F")),
    SetUp("ssd1306", "96x16", told(SSD1306, o_A8="A8 0F", o_DA="DA 02", o_81="81 AF")),
    SetUp("ssd1306", "72x40", told(SSD1306, o_A8="A8 27", o_2E="AD 30", o_8D="8D 95"), (28, 0)),
    SetUp("ssd1306", "64x48", told(SSD1306, o_A8="A8 2F"), (32, 0)),
    SetUp("ssd1306", "64x32", told(SSD1306, o_A8="A8 1F"), (32, 0)),
    SetUp("sh1106", "128x64", SH1106, (2, 0)),
    SetUp("sh1107", "64x128", SH1107),
    SetUp("sh1107", "128x128", told(SH1107, o_D3="D3 00", o_A8="A8 7F")),
    SetUp("sh1107", "64x128", told(SH1107, o_A0="A1", o_C0="C8"), turned=True),
    SetUp("pcd8544", "84x48", PCD8544),
    SetUp("ssd1309", "128x64", SSD1309),
    SetUp("ssd1305", "128x64", SSD1305, (4, 0)),
    SetUp("st7565", "128x64", ST7565),
    SetUp("st7565", "128x64-reversed", told(ST7565, o_A0="A1", o_C8="C0"), (4, 0)),
    SetUp("uc1701", "128x64", UC1701),
    SetUp("st7567", "128x64", ST7567),
    SetUp("gc9a01", "240x240", GC9A01),
    # The same glass by outputs that are scanned the other way round (B6h, SS) in place of columns that count from the far end; and as most send it.
    SetUp("gc9a01", "240x240", (("70", "07 07 04 0E 0F 09 07 08 03"), *told(GC9A01, cB6="00 20", c36="08", c35=""))),
    SetUp("st7796", "320x480", ST7796),
    SetUp("st7796", "320x480", told(ST7796, cB6="802238", c36="08")),
    SetUp("st7796", "480x320", (*ST7796, ("36", "28"))),
    SetUp("ili9488", "320x480", ILI9488),
    SetUp("ili9488", "480x320", told(ILI9488, c36="28")),
    SetUp("ssd1351", "128x128", (
        ("FD", "12"), ("FD", "B1"), ("AE", ""), ("B3", "F1"), ("CA", "7F"), ("A0", "74"), ("15", "007F"), ("75", "007F"), ("A1", "00"), ("A2", "00"),
        ("B5", "00"), ("AB", "01"), ("B1", "32"), ("BE", "05"), ("A6", ""), ("C1", "C880C8"), ("C7", "0F"), ("B4", "A0B555"), ("B6", "01"), ("AF", ""), 0.2,
    )),
    SetUp("ssd1327", "128x128", (
        ("AE", ""), ("8180", ""), ("A051", ""), ("A100", ""), ("A200", ""), ("A4", ""), ("A87F", ""), ("B111", ""), ("B300", ""), ("AB01", ""), ("B604", ""),
        ("BE0F", ""), ("BC08", ""), ("D562", ""), ("FD12", ""), ("AF", ""), 0.1,
    )),
    SetUp("ssd1327", "128x128", (
        ("FD12", ""), ("AE", ""), ("A87F", ""), ("A100", ""), ("A200", ""), ("AB01", ""), ("8153", ""), ("A042", ""), ("B151", ""), ("B301", ""), ("B9", ""),
        ("BC08", ""), ("BE07", ""), ("B601", ""), ("D562", ""), ("A4", ""), ("AF", ""), 0.1,
    ), turned=True),
    SetUp("ssd1322", "256x64", SSD1322, (112, 0)),
    SetUp("ssd1322", "256x64", told(SSD1322, cA0="0611"), (112, 0), turned=True),
    SetUp("ssd1680", "122x250", (
        ("12", ""), 0.01, ("01", "F90000"), ("11", "03"), ("44", "000F"), ("45", "0000F900"), ("3C", "05"), ("21", "0080"), ("18", "80"),
        ("4E", "00"), ("4F", "0000"),
    )),
    SetUp("ssd1680", "128x296", (
        ("12", ""), 0.01, ("01", "270100"), ("11", "03"), ("44", "000F"), ("45", "00002701"), ("21", "0080"), ("4E", "00"), ("4F", "0000"),
    )),
    SetUp("ssd1681", "200x200", (
        ("12", ""), 0.01, ("01", "C70000"), ("11", "01"), ("44", "0018"), ("45", "C7000000"), ("3C", "05"), ("18", "80"), ("22", "B1"), ("20", ""), 0.02,
        ("4E", "00"), ("4F", "C700"),
    ), turned=None),
    SetUp("ssd1331", "96x64", (
        ("AE", ""), ("A072", ""), ("A100", ""), ("A200", ""), ("A4", ""), ("A83F", ""), ("AD8E", ""), ("B00B", ""), ("B131", ""), ("B3F0", ""),
        ("8A64", ""), ("8B78", ""), ("8C64", ""), ("BB3A", ""), ("BE3E", ""), ("8706", ""), ("8191", ""), ("8250", ""), ("837D", ""), ("AF", ""), 0.1,
        ("2500005F3F", ""), 0.001,
    )),
)  # fmt: skip


GREY = {"ssd1327": (2, False), "ssd1322": (4, True)}
PAPER = ("ssd1680", "ssd1681")
COLOUR = ("ili9341", "st7789", "st7735", "gc9a01", "st7796", "ili9488")


def picture(width: int, height: int) -> NDArray[np.bool_]:
    """A frame, and a mark in one corner: nothing that is the same when it is turned or mirrored."""
    out = np.zeros((height, width), bool)
    out[[0, -1]] = out[:, [0, -1]] = True
    out[2 : height // 2, 2:5] = out[2:5, 2 : width // 2] = out[height // 4, 2 : width // 3] = True
    return out


def samples(runs: Sequence[tuple[int, bytes] | float], slow: int = 1) -> NDArray[np.uint8]:
    """Runs of (D/C, bytes), and rests, as samples: clock, data, select, D/C, reset. slow: samples of each half of a bit."""
    idle = 0b10100
    out = [np.full(2000, 0b00100, np.uint8), np.full(int(0.13 * RATE), idle, np.uint8)]
    for run in runs:
        if isinstance(run, float):
            out.append(np.full(int(run * RATE), idle, np.uint8))
            continue
        bits = np.unpackbits(np.frombuffer(run[1], np.uint8))
        low = (0b10000 | run[0] << 3 | bits << 1).astype(np.uint8)
        out += [
            np.full(8, idle | run[0] << 3, np.uint8),
            np.repeat(np.stack([low, low | 1], axis=1).reshape(-1), slow),
            np.full(8, low[-1], np.uint8),
        ]
        out.append(np.full(8, idle | run[0] << 3, np.uint8))
    return np.concatenate([*out, np.full(4000, idle, np.uint8)])


def runs_of(own: SetUp) -> list[tuple[int, bytes] | float]:
    """The set-up, and the picture as that part takes it."""
    out: list[tuple[int, bytes] | float] = []
    for step in own.steps:
        if isinstance(step, float):
            out.append(step)
        else:
            out.append((0, bytes.fromhex(step[0])))
            if step[1]:
                out.append((1, bytes.fromhex(step[1])))
    width, height = own.size
    x, y = own.window
    shown = picture(width, height)
    if own.part in PAPER:  # a bit that is 0 is black; refreshed, and left alone meanwhile
        if own.turned is None:
            shown = shown[::-1]
        packed = np.packbits(~shown, axis=1)
        packed[:, -1] |= 0xFF >> (width % 8 or 8)
        return [*out, (0, b"\x24"), (1, packed.tobytes()), (0, b"\x22"), (1, b"\xf7"), (0, b"\x20"), 0.3]
    if own.part in GREY:  # two pixels a byte, the left one above; addresses of two columns, or of four
        per, marked = GREY[own.part]
        for code, ends in ((0x15, (x // per, (x + width) // per - 1)), (0x75, (y, y + height - 1))):
            out += [(0, bytes([code])), (1, bytes(ends))] if marked else [(0, bytes([code, *ends]))]
        out += [(0, b"\x5c")] if marked else []
        return [*out, (1, (shown[:, ::2] * 0xF0 + shown[:, 1::2] * 0x0F).astype(np.uint8).tobytes())]
    if own.part in (
        "ssd1351",
        "ssd1331",
    ):  # parameters behind D/C high on one of them, low on the other, which has no command to begin a write
        window = [(0x15, (x, x + width - 1)), (0x75, (y, y + height - 1))]
        for code, ends in window:
            out += [(0, bytes([code])), (1, bytes(ends))] if own.part == "ssd1351" else [(0, bytes([code, *ends]))]
        out += [(0, b"\x5c")] if own.part == "ssd1351" else []
        return [*out, (1, np.where(shown, 0xFFFF, 0).astype(">u2").tobytes())]
    if own.part in COLOUR:
        ends = [value.to_bytes(2, "big") for value in (x, x + width - 1, y, y + height - 1)]
        out += [(0, b"\x2a"), (1, ends[0] + ends[1]), (0, b"\x2b"), (1, ends[2] + ends[3]), (0, b"\x2c")]
        if own.part == "ili9488":  # a byte for each colour, the upper six bits of it
            return [*out, (1, np.repeat(np.where(shown, 0xFC, 0).astype(np.uint8), 3).tobytes())]
        return [*out, (1, np.where(shown, 0xFFFF, 0).astype(">u2").tobytes())]
    pages = np.packbits(shown.reshape(height // 8, 8, width), axis=1, bitorder="little").reshape(-1, width)
    if own.part == "ssd1306":
        return [*out, (0, bytes([0x21, x, x + width - 1, 0x22, 0, 0xFF])), (1, pages.tobytes())]
    for number, page in enumerate(pages):
        out.append((0, bytes([0x40 | number, 0x80 | x] if own.part == "pcd8544" else [0xB0 | number, x & 15, 0x10 | x >> 4])))
        out.append((1, page.tobytes()))
    return out


# Parts whose rules the second maker of captures breaks.
BY_MAKER = ("ssd1306", "sh1106", "sh1107", "pcd8544", "st7735", "ssd1322", "ssd1327", "ssd1680")


def broken(part: Part, panel: Panel, steps: Sequence[Step], rule: BringUp) -> tuple[Step, ...] | None:
    """A set-up that breaks a rule: without its step, or with another value of its register; None where no value would be wrong."""
    owner, _, name = rule.register.partition(".")
    if rule.must_equal == "needs" and rule.register not in panel.needs:
        return None
    out: list[Step] = []
    changed = False
    for step in steps:
        if isinstance(step, float):
            out.append(step)
            continue
        items = items_of(part, pasted(f"command {step[0]} data {step[1]}".removesuffix(" data ")).sends)
        command = part.command[items[0].kind] if items and items[0].is_command else None
        if command is None or (command.name != rule.step if rule.step else command.owner != owner):
            out.append(step)
            continue
        changed = True
        if rule.step:
            continue
        field, now = part.field_of(rule.register), items[0].fields[name]
        needed = rule.must if rule.must is not None else now
        others = [value for value in field.values if value != str(needed)] or [int(now) // 2 if int(now) > 1 else int(now) + 1]
        fields = {**items[0].fields, name: rule.must_not if rule.must_not is not None else others[0]}
        raw = command.encode(fields).hex(" ")
        out.append((raw[:2], raw[3:]) if part.parameters == "data" else (raw, ""))
    if changed or not rule.register or rule.must_not is None:
        return tuple(out) if changed else None
    command = next(one for one in part.command if one.owner == owner)  # nobody sends it: what is forbidden has to be sent
    raw = command.encode(
        {**{f.name: f.default for f in command.fields.values() if f.default is not None}, name: rule.must_not}
    ).hex(" ")
    return (*out, (raw[:2], raw[3:]) if part.parameters == "data" else (raw, ""))


class RealSetUps(unittest.TestCase):
    """Each set-up on its own glass."""

    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def made(self, own: SetUp, most: int = 1 << 20) -> tuple[Any, Any]:
        """The capture and the rig, read from files. most: bytes of the picture."""
        slow = own.part in ("sh1106", "sh1107", "pcd8544", "ssd1331")
        (self.folder / "rig.toml").write_text(RIG.format(part=own.part, panel=own.panel, clock="4MHz" if slow else "8MHz"))
        runs = [run if isinstance(run, float) else (run[0], run[1][:most]) for run in runs_of(own)]
        (self.folder / "wires.bin").write_bytes(samples(runs, 3 if slow else 1).tobytes())
        return hushed_wire.read_capture(self.folder / "wires.bin", raw=1, rate="16MHz"), hushed_wire.load_rig(
            self.folder / "rig.toml"
        )

    def test_healthy_and_upright(self) -> None:
        for own in SET_UPS:
            with self.subTest(str(own)):
                capture, rig = self.made(own)
                outcome = hushed_wire.diagnose(capture, rig)
                found = [finding for finding in outcome.findings if finding.severity != "note"]
                self.assertEqual(found, [])
                self.assertIn("picture.all-traffic-good", [finding.code for finding in outcome.findings])
                glass = hushed_wire.screen(capture, rig)["glass"]
                width, height = own.size
                wanted = picture(width, height)
                self.assertTrue(glass.shown)
                np.testing.assert_array_equal(glass.lit, wanted[::-1, ::-1] if own.turned else wanted)

    def test_sixteen_lines_and_registers_that_make_them(self) -> None:
        """Commands and parameters in the lower half of a word, a pixel in one (ILI9341 datasheet, 7.6, 16-bit 8080 interface); on the wires of the bus
        itself, and as serial words of sixteen bits."""
        set_up: tuple[Step, ...] = (("01", ""), 0.13, ("11", ""), 0.13, ("3A", "55"), ("36", "48"), ("20", ""), ("29", ""), 0.02)
        rng = np.random.default_rng(3)
        for part, panel, serial in (("ili9341", "240x320", False), ("ili9486", "320x480", False), ("ili9486", "320x480", True)):
            width, height = map(int, panel.split("x"))
            pixels = rng.integers(0, 1 << 16, width * height).astype(np.uint32)
            words: list[tuple[int, Any] | float] = []
            for step in (*set_up, ("2A", f"0000{width - 1:04x}"), ("2B", f"0000{height - 1:04x}"), ("2C", "")):
                if isinstance(step, float):
                    words.append(step)
                    continue
                words += [
                    (0, np.frombuffer(bytes.fromhex(step[0]), np.uint8)),
                    (1, np.frombuffer(bytes.fromhex(step[1]), np.uint8)),
                ]
            words.append((1, pixels))
            out = [np.full(3000, 0b1110 << 16, np.uint32)]
            for entry in words:
                if isinstance(entry, float):
                    out.append(np.full(int(entry * 1e5), 0b1110 << 16, np.uint32))
                    continue
                value, base = entry[1].astype(np.uint32), np.uint32(0b1000 << 16 | entry[0] << 16)
                if serial:  # sck on line 1, mosi on line 0, cs on 18, rs on 16
                    bits = (value[:, None] >> np.arange(15, -1, -1).astype(np.uint32) & 1).reshape(-1)
                    low = (base | bits).astype(np.uint32)
                    level = np.stack([low, low | 2], axis=1).reshape(-1)
                    rest = np.full(4, 0b1100 << 16 | entry[0] << 16, np.uint32)
                    out += [rest, level, rest] if len(value) else []
                    continue
                level = np.stack([base | value, base | value | np.uint32(1 << 17)], axis=1).reshape(-1).repeat(3)
                out += [level, np.full(4, 0b1110 << 16, np.uint32)]
            (self.folder / "wide.bin").write_bytes(np.concatenate([*out, np.full(500, 0b1110 << 16, np.uint32)]).tobytes())
            data = (
                {"sck": "1", "mosi": "0", "cs": "18", "dc": "16"}
                if serial
                else {f"d{k}": str(k) for k in range(16)} | {"rs": "16", "wr": "17", "cs": "18"}
            )
            lines = ", ".join(f'{role} = "{line}"' for role, line in data.items())
            kind = 'kind = "spi"\nbits = 16' if serial else 'kind = "parallel"'
            (self.folder / "wide.toml").write_text(
                f'[[bus]]\nname = "wires"\n{kind}\nlines = {{ {lines} }}\n[[device]]\nname = "glass"\non = "wires"\npart = "{part}"\npanel = "{panel}"\n'
            )
            capture = hushed_wire.read_capture(self.folder / "wide.bin", raw=4, rate="100kHz")
            rig = hushed_wire.load_rig(self.folder / "wide.toml")
            with self.subTest(f"{part} {'serial' if serial else 'parallel'}"):
                outcome = hushed_wire.diagnose(capture, rig)
                self.assertEqual([finding.code for finding in outcome.findings if finding.severity != "note"], [])
                rgb = hushed_wire.screen(capture, rig)["glass"].rgb.astype(int)
                shown = rgb[:, :, 0] >> 3 << 11 | rgb[:, :, 1] >> 2 << 5 | rgb[:, :, 2] >> 3
                np.testing.assert_array_equal(shown.reshape(-1), pixels)

    def test_the_glass_is_found_without_a_rig(self) -> None:
        lines = {"sck": "0", "mosi": "1", "cs": "2", "dc": "3", "reset": "4"}
        for own in SET_UPS:
            if own.panel not in ("320x240", "240x240", "240x135", "160x128", "128x128"):
                continue
            with self.subTest(str(own)):
                capture, _ = self.made(own)
                setup = hushed_wire.guess_rig(capture, bus="spi", lines=lines, part=own.part)
                outcome = hushed_wire.diagnose(capture, setup)
                self.assertEqual([finding for finding in outcome.findings if finding.severity != "note"], [])
                self.assertEqual(setup.rig.device[0].panel, own.panel)

    def test_mirrored(self) -> None:
        for own, byte in (
            (SetUp("ssd1306", "128x64", told(SSD1306, o_A1="A0")), "A1"),
            (SetUp("ssd1306", "128x32", told(SSD1306, o_A8="A8 1F", o_DA="DA 02", o_C8="C0")), "C8"),
            (SetUp("sh1106", "128x64", told(SH1106, o_C8="C0"), (2, 0)), "C8"),
            (SetUp("st7789", "240x240", told(ST7789, c36="40")), "36 00"),
            (SetUp("st7735", "160x128", (*ST7735, ("36", "E0"))), "36 60"),
        ):
            with self.subTest(str(own)):
                outcome = hushed_wire.diagnose(*self.made(own))
                self.assertEqual([finding.code for finding in outcome.findings][:1], ["setup.orientation"])
                self.assertIn(f"{byte} (", outcome.findings[0].remedy)

    def test_beside_the_glass(self) -> None:
        for own, code in (
            (SetUp("st7789", "170x320", told(ST7789, c36="00"), (0, 0)), "picture.column-offset"),
            (SetUp("st7789", "240x240", C0_ST7789, (0, 0)), "picture.row-offset"),
            (SetUp("st7735", "128x128", ST7735, (2, 1)), "picture.row-offset"),
        ):
            with self.subTest(str(own)):
                outcome = hushed_wire.diagnose(*self.made(own))
                self.assertIn(code, [finding.code for finding in outcome.findings if finding.severity != "note"])

    def test_every_byte_has_a_meaning(self) -> None:
        for own in SET_UPS:
            with self.subTest(str(own)):
                words = [
                    f"command {step[0]} data {step[1]}".removesuffix(" data ") for step in own.steps if isinstance(step, tuple)
                ]
                part = hushed_wire.load_part(own.part)
                items = items_of(part, pasted(" ".join(words)).sends)
                strange = [item for item in items if not item.is_command and item.name != "data" and item.raw[0] != 0xEF]
                self.assertEqual(strange, [])

    def test_what_is_drawn_under_a_drivers_set_up_stands_upright(self) -> None:
        # The driver's bytes as a sequence, with a picture of ours behind them: built, rehearsed, diagnosed and shown.
        chosen = {"320x240", "240x135", "128x128", "80x160-24", "72x40", "128x32", "128x64", "84x48"}
        for own in SET_UPS:
            if own.panel not in chosen or (own.turned and own.panel in ("320x240", "128x64")):
                continue
            with self.subTest(str(own)):
                _, rig = self.made(own)
                part, width, height = hushed_wire.load_part(own.part), *own.size
                lines: list[str] = []
                sends: list[str] = []
                for step in [*own.steps, 0.001]:
                    if isinstance(step, float):
                        lines += to_hush(part, items_of(part, pasted(" ".join(sends)).sends)) if sends else []
                        lines.append(f"wait {step * 1000:g}ms")
                        sends = []
                    else:
                        sends.append(f"command {step[0]}" + (f" data {step[1]}" if step[1] else ""))
                wanted = picture(width, height)
                if own.turned:
                    wanted = wanted[::-1, ::-1]
                Image.fromarray(np.where(wanted, 255, 0).astype(np.uint8)).convert("RGB").save(self.folder / "p.png")
                (self.folder / "s.hush").write_text(
                    "\n".join(["wait 20ms", "reset low", "wait 1ms", "reset high", "wait 130ms", *lines, "picture p.png"])
                )
                built = program("build", "s.hush", "--rig", "rig.toml", "--as", "hex", "-o", "x.hex", cwd=self.folder)
                self.assertEqual((built.returncode, built.stderr), (0, b""))
                capture = hushed_wire.rehearse(self.folder / "s.hush", rig, rate="50MHz")
                outcome = hushed_wire.diagnose(capture, rig)
                self.assertEqual([finding for finding in outcome.findings if finding.severity != "note"], [])
                # A canvas is as a person sees the panel, so what is drawn is upright whatever the driver set up.
                np.testing.assert_array_equal(hushed_wire.screen(capture, rig)["glass"].lit, wanted)

    def test_each_rule_on_bring_up_broken_by_a_driver(self) -> None:
        """Of each part one set-up, and of that each step that a rule asks for left out, or with a value that it forbids."""
        seen = 0
        for own in {one.part: one for one in reversed(SET_UPS) if one.part not in BY_MAKER}.values():
            part = hushed_wire.load_part(own.part)
            panel = part.panel(own.panel)
            for rule in part.bring_up if not part.modes else ():
                steps = broken(part, panel, own.steps, rule) if applies(rule, panel) and not rule.before else None
                if steps is None:
                    continue
                with self.subTest(f"{own.part} {rule.finding} {rule.register or rule.step}"):
                    seen += 1
                    outcome = hushed_wire.diagnose(*self.made(replace(own, steps=steps), most=8192))
                    told = [finding.code for finding in outcome.findings if finding.severity != "note"]
                    self.assertIn(rule.finding, told)
        self.assertGreater(seen, 25)

    def test_by_the_program(self) -> None:
        own = SET_UPS[0]
        self.made(own)
        capture = ["wires.bin", "--raw", "1", "--rate", "16MHz", "--rig", "rig.toml"]
        done = program("diagnose", *capture, cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stdout)
        self.assertIn(b"EFh: a command of the maker's own", done.stdout)


if __name__ == "__main__":
    unittest.main()
