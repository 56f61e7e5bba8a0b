"""Displays that no datasheet describes: relatives of what there is, with other codes, sizes, orders and wirings, all drawn from a seed.

Each makes captures of a driver that shows one picture after another, on lines without names, and tells what is true of it.
"""

from __future__ import annotations

import random
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from .displays import scene
from .masters import I2c, Parallel, Spi
from .wave import Wave

__all__ = ["FAMILIES", "Strange", "strange"]

FAMILIES = ("paged", "character", "colour", "segments")
Write = Callable[[Sequence[int], bool], None]  # words, and whether they are data
TEXT = ("TIDE LOCK 2", "LEVEL 4.2 m", "Outer gate open", "Inner gate shut", "Pump 1  ON", "Pump 2 OFF", "12:40 RISING", "+0.35 m/h",
        "Skerry Haven", "call wheelhouse", "gate 1 shut", "wind SW 4", "harbour clear", "ALARM 07", "low water 9")  # fmt: skip
SEGMENTS = {"0": "abcdef", "1": "bc", "2": "abdeg", "3": "abcdg", "4": "bcfg", "5": "acdfg", "6": "acdefg", "7": "abc", "8": "abcdefg",
            "9": "abcdfg", "-": "g", " ": "", "E": "adefg", "H": "bcefg", "L": "def", "P": "abefg"}  # fmt: skip


@dataclass
class Strange:
    """What is true of one. kind: of its bus. roles: role to line. set_up: its words, (data?, value) ahead of the first picture. shown: of each
    capture the last picture: pixels, colours (height, width, 3), or text."""

    family: str
    seed: int
    kind: str
    roles: dict[str, str]
    waves: list[Wave]
    set_up: list[tuple[bool, int]]
    shown: list[NDArray[np.bool_] | NDArray[np.uint8] | list[str]]
    width: int
    height: int
    said: dict[str, object] = field(default_factory=dict)


def strange(family: str, seed: int, captures: int = 2) -> Strange:
    """One of a family."""
    chance = random.Random(f"{family} {seed}")
    made = {"paged": Paged, "character": Character, "colour": Colour, "segments": Segments}[family](chance)
    kind = chance.choice(made.buses)
    lines, roles = _lines(chance, kind)
    waves, shown = [], []
    for number in range(captures):
        wave = Wave(chance.randrange(1 << 30), **dict(lines))
        write, strobe = _master(wave, kind, roles, random.Random(f"{family} {seed} {kind}"))
        wave.wait(2e5)
        if "reset" in roles:
            wave.put(**{roles["reset"]: 0})
            wave.wait(2e5)
            wave.put(**{roles["reset"]: 1})
            wave.wait(1e6)
        if kind == "parallel halves":
            for half in made.alone:
                strobe(half)
                wave.wait(5e6)
        made.begin(write, wave)
        if kind == "parallel halves":
            made.set_up = [*((False, half << 4) for half in made.alone), *made.set_up]
        wave.wait(3e6)
        if made.clears:
            made.clear(write)
        for frame in range(made.frames):
            last = made.draw(write, random.Random(f"{seed} {number} {frame}"))
            if made.between:  # brightness, say
                write(made.between, False)
            wave.wait(chance.uniform(8e6, 3e7))
        waves.append(wave)
        shown.append(last)
    kept = dict(roles)
    return Strange(family, seed, kind.partition(" ")[0], kept, waves, made.set_up, shown, made.width, made.height, made.said)


def _lines(chance: random.Random, kind: str) -> tuple[list[tuple[str, int]], dict[str, str]]:
    """Lines in some order, named by their numbers, with the levels at which they rest; and the roles that they play."""
    roles = {
        "spi": ["sck", "mosi", "cs", "dc", "reset"],
        "spi nine": ["sck", "mosi", "cs", "reset"],
        "spi words": ["sck", "mosi", "cs"],
        "spi tied": ["sck", "mosi", "dc", "reset"],
        "i2c": ["scl", "sda"],
        "i2c registers": ["scl", "sda"],
        "parallel": [],
        "parallel polled": [],
        "parallel halves": [],
    }[kind]
    if kind.startswith("parallel"):  # probes are put on a bus of eight in order, from one end or the other, the rest beside them
        data = [f"d{bit}" for bit in range(4 if kind == "parallel halves" else 0, 8)]
        rest = ["rs", "e", "reset"] + (["rw"] if kind == "parallel polled" else [])
        chance.shuffle(rest)
        cut = chance.randrange(len(rest) + 1)
        order = rest[:cut] + (data if chance.random() < 0.6 else data[::-1]) + rest[cut:]
    else:
        order = list(roles)
        chance.shuffle(order)
    idle = {"scl": 1, "sda": 1, "cs": 1, "reset": 1}
    names = {role: f"CH{number}" for number, role in enumerate(order)}
    return [(names[role], idle.get(role, 0)) for role in order], names


def _master(wave: Wave, kind: str, roles: dict[str, str], chance: random.Random) -> tuple[Write, Callable[[int], None]]:
    if kind.startswith("spi"):
        bus = Spi(wave, chance.choice((1e6, 2e6, 4e6)), mode=chance.choice((0, 0, 3)), sck=roles["sck"], mosi=roles["mosi"],
                  cs=roles.get("cs", ""), dc=roles.get("dc", ""), nine=kind == "spi nine",
                  each=kind == "spi" and chance.random() < 0.3)  # fmt: skip
        if bus.mode == 3:
            wave.put(**{bus.sck: 1})
            wave.first[bus.sck] = 1
        return (lambda words, data: bus.write(words, data)), lambda half: None
    if kind.startswith("i2c"):
        address = chance.choice((0x3C, 0x3E, 0x2A, 0x51))
        two = I2c(wave, chance.choice((1e5, 4e5)), (address,), roles["scl"], roles["sda"])
        if kind == "i2c registers":
            return (lambda words, data: two.write(address, words) and None), lambda half: None
        return (lambda words, data: two.write(address, [0x40 if data else 0x00, *words]) and None), lambda half: None
    port = Parallel(
        wave, tuple(roles[f"d{bit}"] for bit in range(8) if f"d{bit}" in roles), roles["rs"], roles.get("rw", ""), roles["e"]
    )

    def poll() -> None:
        """Reads until the display, which answers itself, is free."""
        for busy in (1,) * chance.randrange(3) + (0,):
            wave.put(**{roles["rs"]: 0, roles["rw"]: 1})
            wave.wait(300)
            wave.put(**{line: (chance.randrange(2) if line != port.data[7] else busy) for line in port.data})
            wave.put(**{port.e: 1})
            wave.wait(500)
            wave.put(**{port.e: 0})
            wave.wait(600)

    def write(words: Sequence[int], data: bool) -> None:
        for word in words:
            if port.rw and not data:
                poll()
            port.write(word, int(data))
            wave.pause(4e3)

    return write, port.strobe


class _Display:
    """What families share: a set-up of its own. frames: pictures in a capture."""

    buses: tuple[str, ...] = ("spi",)
    frames = 2
    width = height = 0

    def __init__(self, chance: random.Random) -> None:
        self.chance = chance
        self.set_up: list[tuple[bool, int]] = []
        self.picture: NDArray[np.bool_] | NDArray[np.uint8] | None = None
        self.said: dict[str, object] = {}

    clears = False
    between: tuple[int, ...] = ()
    alone: tuple[int, ...] = (3, 3, 3, 2)  # halves that stand alone, the last one switches to them

    def clear(self, write: Write) -> None:
        """Empties the memory, where its driver does so ahead of the first picture."""

    def others(self, taken: set[int], count: int) -> list[int]:
        """Codes that mean something else: none of those taken."""
        free = [code for code in range(0x01, 0x100) if code not in taken]
        return [self.chance.choice(free) for _ in range(count)]

    def begin(self, write: Write, wave: Wave) -> None:
        """The set-up; the memory is cleared where its driver does so."""
        self.picture = None
        for is_data, words in self.steps:
            write(words, is_data)
            wave.wait(self.chance.choice((2e4, 2e4, 1.2e6)))
        self.set_up = [(is_data, word) for is_data, words in self.steps for word in words]


class Paged(_Display):
    """Pages of eight rows; a page and a column ahead of each, or windows ahead of all."""

    buses = ("spi", "spi nine", "i2c", "parallel", "parallel polled", "spi tied")

    def __init__(self, chance: random.Random) -> None:
        super().__init__(chance)
        self.width, self.pages = chance.choice(((84, 6), (96, 8), (102, 8), (128, 8), (128, 4), (132, 8), (122, 4), (96, 5)))
        self.height = 8 * self.pages
        self.offset = chance.choice((0, 0, 2, 4))
        self.style = chance.choice(("nibbles", "single", "pairs", "windows"))
        self.first_low = chance.random() < 0.75
        self.down = chance.random() < 0.8
        self.page = chance.choice((0xB0, 0x70, 0x40, 0x60, 0xD0)) if self.style != "pairs" else chance.choice((0x22, 0x15, 0x75))
        if self.style == "single":  # whose columns take all codes from 80h on
            self.page = chance.choice((0x70, 0x40, 0x60))
        self.column = {"nibbles": chance.choice(((0x10, 0x00), (0x90, 0x80), (0x20, 0x30))), "single": 0x80, "pairs": chance.choice((0x21, 0xA5)),
                       "windows": chance.choice((0x21, 0x15))}[self.style]  # fmt: skip
        if self.style == "windows":
            self.page = chance.choice((0x22, 0x75))
        taken = {
            *range(self.page, self.page + 16),
            0x21,
            0x15,
            0x22,
            0x75,
            0xA5,
            *range(0x40),
            *range(0x80, 0x100 if self.style == "single" else 0xA0),
        }
        self.steps = [(False, self.others(taken, chance.choice((1, 2)))) for _ in range(chance.randint(6, 12))]
        self.together = chance.random() < 0.5
        self.clears = chance.random() < 0.5
        self.between = tuple(self.others(taken, 2)) if chance.random() < 0.4 else ()
        self.chunk = chance.choice((16, 32, 200, 200))
        self.said = {
            "style": self.style,
            "page": self.page,
            "column": self.column,
            "first": "low" if self.first_low else "high",
            "down": self.down,
        }

    def clear(self, write: Write) -> None:
        self._write(write, [[0] * self.width] * self.pages, (0, self.width, 0, self.pages))

    def draw(self, write: Write, chance: random.Random) -> NDArray[np.bool_]:
        picture = scene(chance, self.width, self.height, chance.choice(("text", "mixed", "boxes", "text")))
        weights = 1 << (np.arange(8) if self.first_low else np.arange(7, -1, -1))
        rows = [(picture[8 * page : 8 * page + 8].T @ weights).astype(int).tolist() for page in range(self.pages)]
        rows = rows if self.down else rows[::-1]
        if self.picture is not None and chance.random() < 0.5:  # only a part of it is new
            left, right = sorted(chance.sample(range(self.width + 1), 2))
            top, bottom = sorted(chance.sample(range(self.pages + 1), 2))
        else:
            left, right, top, bottom = 0, self.width, 0, self.pages
        shown = np.zeros_like(picture) if self.picture is None else self.picture.copy()
        upper, lower = (top, bottom) if self.down else (self.pages - bottom, self.pages - top)
        shown[8 * upper : 8 * lower, left:right] = picture[8 * upper : 8 * lower, left:right]
        self.picture = shown
        self._write(write, rows, (left, right, top, bottom))
        return shown

    def _write(self, write: Write, rows: list[list[int]], box: tuple[int, int, int, int]) -> None:
        left, right, top, bottom = box
        first, last = self.offset + left, self.offset + right - 1
        if self.style == "windows":
            write([self.column, first, last], False)
            write([self.page, top, bottom - 1], False)
            write([byte for row in rows[top:bottom] for byte in row[left:right]], True)
            return
        for page in range(top, bottom):
            if self.style == "nibbles":
                lead = [self.page | page, self.column[0] | first >> 4, self.column[1] | first & 15]
            elif self.style == "single":
                lead = [self.page | page, self.column | first]
            else:
                lead = [self.page, page, self.column, first]
            for words in [lead] if self.together else [[word] for word in lead]:
                write(words, False)
            row = rows[page][left:right]
            for at in range(0, len(row), self.chunk):
                write(row[at : at + self.chunk], True)


class Character(_Display):
    """Rows of letters, each behind an address."""

    buses = ("spi", "i2c", "parallel", "parallel polled", "parallel halves", "spi nine")
    frames = 2

    def __init__(self, chance: random.Random) -> None:
        super().__init__(chance)
        self.width, self.height = chance.choice(((16, 2), (20, 2), (20, 4), (12, 2), (24, 2), (16, 4)))
        self.base = chance.choice((0x80, 0x80, 0x00))
        step = chance.choice((0x40, 0x20)) if self.height == 2 else 0x20
        if self.base == 0x00 and self.height > 2:
            self.base = 0x80
        self.rows = [step * row for row in range(self.height)]
        taken = {*range(self.base, self.base + 128), *range(0x20, 0x40)}
        self.steps = [(False, self.others(taken, 1)) for _ in range(chance.randint(4, 8))]
        self.clears = chance.random() < 0.5
        self.between = tuple(self.others(taken, 1)) if chance.random() < 0.4 else ()
        self.said = {"base": self.base, "rows": self.rows}

    def clear(self, write: Write) -> None:
        for row in self.rows:
            write([self.base | row], False)
            write([0x20] * self.width, True)

    def draw(self, write: Write, chance: random.Random) -> list[str]:
        lines = []
        for number, row in enumerate(self.rows):
            text = chance.choice(TEXT)[: self.width].ljust(self.width)
            first = 0
            if self.lines and chance.random() < 0.4:  # the rest of a row stays
                first = chance.randrange(1, self.width)
                text = self.lines[number][:first] + text[first:]
            write([self.base | row + first], False)
            write(list(text[first:].encode()), True)
            lines.append(text)
        self.lines = lines
        return lines

    def begin(self, write: Write, wave: Wave) -> None:
        super().begin(write, wave)
        self.lines: list[str] = []


class Colour(_Display):
    """Windows that fill from a corner; parameters as data or as commands."""

    buses = ("spi", "parallel", "spi nine")
    frames = 2

    def __init__(self, chance: random.Random) -> None:
        super().__init__(chance)
        self.width, self.height = chance.choice(((96, 64), (128, 64), (80, 48), (64, 64), (60, 80)))
        self.wide = chance.choice((1, 2))
        self.params_are_data = chance.random() < 0.7
        self.bits = chance.choice((16, 16, 24))
        self.low_first = False
        self.codes = chance.choice(((0x2A, 0x2B, 0x2C), (0x15, 0x75, 0x5C), (0x52, 0x53, 0x55), (0xC5, 0xC6, 0xC7)))
        self.left, self.top = chance.choice(((0, 0), (2, 1), (0, 4)))
        taken = {*self.codes}
        self.steps = []
        for _ in range(chance.randint(6, 12)):
            self.steps.append((False, self.others(taken, 1)))
            if self.params_are_data and chance.random() < 0.6:
                self.steps.append((True, [chance.randrange(256) for _ in range(chance.randint(1, 4))]))
        self.said = {
            "codes": self.codes,
            "wide": self.wide,
            "bits": self.bits,
            "params": "data" if self.params_are_data else "command",
        }

    def draw(self, write: Write, chance: random.Random) -> NDArray[np.uint8]:
        palette = np.array([[chance.randrange(256) for _ in range(3)] for _ in range(4)], np.uint8)
        index = np.zeros((self.height, self.width), int)
        for bit in (1, 2):
            index += bit * scene(chance, self.width, self.height, chance.choice(("boxes", "text", "mixed")))
        sky = np.linspace(0, 60, self.height).astype(np.uint8)
        colours = np.minimum(palette[index].astype(int) + sky[:, None, None], 255).astype(np.uint8)
        if self.bits == 16:
            word = (
                (colours[..., 0].astype(int) >> 3) << 11
                | (colours[..., 1].astype(int) >> 2) << 5
                | colours[..., 2].astype(int) >> 3
            )
            cells = np.stack([word >> 8, word & 255], axis=-1)
            red, green, blue = word >> 11 & 31, word >> 5 & 63, word & 31
            back = [red << 3 | red >> 2, green << 2 | green >> 4, blue << 3 | blue >> 2]
            colours = np.stack(back, axis=-1).astype(np.uint8)
        else:
            cells = colours.astype(int)
        left, right, top, bottom = 0, self.width, 0, self.height
        if self.picture is not None:
            left, right = sorted(chance.sample(range(self.width + 1), 2))
            top, bottom = sorted(chance.sample(range(self.height + 1), 2))
        shown = np.zeros_like(colours) if self.picture is None else self.picture.copy()
        shown[top:bottom, left:right] = colours[top:bottom, left:right]
        self.picture = shown
        self._write(write, cells[top:bottom, left:right].reshape(-1).tolist(), (left, right, top, bottom))
        return shown

    def clear(self, write: Write) -> None:
        self._write(write, [0] * (self.width * self.height * self.bits // 8), (0, self.width, 0, self.height))

    def _write(self, write: Write, raw: list[int], box: tuple[int, int, int, int]) -> None:
        left, right, top, bottom = box
        for code, first, last in (
            (self.codes[0], self.left + left, self.left + right - 1),
            (self.codes[1], self.top + top, self.top + bottom - 1),
        ):
            words = [byte for end in (first, last) for byte in ([end >> 8, end & 255] if self.wide == 2 else [end])]
            write([code], False)
            write(words, self.params_are_data)
        write([self.codes[2]], False)
        write(raw, True)


class Segments(_Display):
    """Digits of seven segments, each behind an address of its own, wired in an order of its own."""

    buses = ("spi words", "i2c registers")
    frames = 12
    height = 1

    def __init__(self, chance: random.Random) -> None:
        super().__init__(chance)
        self.width = chance.choice((4, 5, 6, 8))
        self.first = chance.choice((0x00, 0x01, 0x10, 0x20, 0x60))
        self.backwards = chance.random() < 0.5
        self.wiring = list("abcdefgp")
        chance.shuffle(self.wiring)
        free = [code for code in range(256) if not self.first <= code < self.first + 16]
        self.steps = [(False, [chance.choice(free), chance.randrange(256)]) for _ in range(chance.randint(3, 6))]
        self.number = chance.randrange(10 ** (self.width - 1))
        self.before = ""
        self.said = {"first": self.first, "wiring": "".join(self.wiring), "backwards": self.backwards}

    def begin(self, write: Write, wave: Wave) -> None:
        super().begin(write, wave)
        self.before = ""

    def draw(self, write: Write, chance: random.Random) -> list[str]:
        self.number += chance.choice((1, 7, 13, 101))
        text = str(self.number % 10**self.width).rjust(self.width)
        for place, char in enumerate(text):
            at = self.width - 1 - place if self.backwards else place
            if chance.random() < 0.3 and self.before[place : place + 1] == char:
                continue  # as it stands already
            lit = SEGMENTS[char] + ("p" if place == 1 else "")
            value = sum(1 << bit for bit, name in enumerate(self.wiring) if name in lit)
            write([self.first + at, value], False)
        self.before = text
        return [text[:2] + "." + text[2:]]
