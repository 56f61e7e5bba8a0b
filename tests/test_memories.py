"""Display memories against chips that are simulated a byte at a time, each written down from its datasheet's own words.

The product places runs of data in closed form; here a pointer moves byte by byte. Commands and data are random, in any order.
"""

import random
import unittest
from collections.abc import Sequence
from itertools import pairwise
from typing import Any

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.bus.channel import Channel
from hushed_wire.bus.words import CUT, END, START, STOP, Transactions, Words
from hushed_wire.part import Payload, commands, load
from hushed_wire.part.chips import model_for
from hushed_wire.part.receive import RECEIVERS
from hushed_wire.part.receiver import Seat
from maker.displays import bit_glass, glass_digits

MANY = settings(deadline=None, max_examples=60)
Sent = list[tuple[bool, bytes]]  # whether data, and the bytes


def model_of_sent(name: str, sent: Sent) -> Any:
    """The product's model of a part that was sent all this."""
    part = load(name)
    value = np.frombuffer(b"".join(raw for _, raw in sent), np.uint8)
    data = np.concatenate([np.zeros(0, bool), *(np.full(len(raw), is_data) for is_data, raw in sent)])
    owner = np.concatenate([np.zeros(0, np.int64), *(np.full(len(raw), k) for k, (_, raw) in enumerate(sent))])
    time = np.arange(len(value))
    return model_for(part, [commands(part, Payload(value, data, time, time, time + 1, owner))], 1e-9, True)


def memory_of(name: str, sent: Sent) -> tuple[list[int], list[bool]]:
    """What the product's model holds, flat, and what was written."""
    held, written = model_of_sent(name, sent).at()
    return held.reshape(-1).tolist(), written.reshape(-1).tolist()


def streams(*codes: st.SearchStrategy[bytes], least: int = 1) -> st.SearchStrategy[Sent]:
    """Commands and runs of data, mixed."""
    one = st.one_of(
        st.one_of(*codes).map(lambda raw: (False, raw)), st.binary(min_size=1, max_size=200).map(lambda raw: (True, raw))
    )
    return st.lists(one, min_size=least, max_size=12)


def byte(low: int, high: int) -> st.SearchStrategy[bytes]:
    return st.integers(low, high).map(lambda value: bytes([value]))


def planes_of(name: str, sent: Sent, across: int) -> dict[tuple[int, int, int], int]:
    """The written bytes of e-paper of 296 rows, by plane, row and byte."""
    held, written = memory_of(name, sent)
    out = {}
    for place in np.flatnonzero(written).tolist():
        above, column = divmod(place, across)
        out[(*divmod(above, 296), column)] = held[place]
    return out


class Paged(unittest.TestCase):
    @given(streams(byte(0xB8, 0xBF), byte(0x40, 0x7F)))
    @MANY
    def test_ks0108(self, sent: Sent) -> None:
        """The Y address counter goes up with every byte and round after 63; the X address stays (KS0108B, Y address counter)."""
        memory, x, y = [0] * 512, 0, 0
        for is_data, raw in sent:
            for value in raw:
                if is_data:
                    memory[x * 64 + y], y = value, (y + 1) % 64
                elif value >= 0xB8:
                    x = value & 7
                else:
                    y = value & 63
        self.assertEqual(memory_of("ks0108", sent)[0], memory)

    @given(streams(byte(0x40, 0x45), byte(0x80, 0xD3), st.sampled_from([b"\x20", b"\x22"])))
    @MANY
    def test_pcd8544(self, sent: Sent) -> None:
        """7.7: horizontal addressing goes on at the next Y behind X = 83, vertical at the next X behind Y = 5; both wrap."""
        memory, x, y, vertical = [0] * 504, 0, 0, False
        for is_data, raw in sent:
            for value in raw:
                if is_data:
                    memory[y * 84 + x] = value
                    if vertical:
                        y = (y + 1) % 6
                        x = (x + (y == 0)) % 84
                    else:
                        x = (x + 1) % 84
                        y = (y + (x == 0)) % 6
                elif value & 0x80:
                    x = value & 0x7F
                elif value & 0x40:
                    y = value & 7
                else:
                    vertical = bool(value & 2)
        self.assertEqual(memory_of("pcd8544", sent)[0], memory)

    @given(streams(byte(0xB0, 0xB7), st.integers(0, 131).map(lambda column: bytes([column & 15, 0x10 | column >> 4]))))
    @MANY
    def test_sh1106(self, sent: Sent) -> None:
        """The column goes up with every byte and stops at 131; it does not return (SH1106, Display Data RAM). Both halves of it are set together,

        as nothing tells what one half is behind the end."""
        memory, page, column = [0] * (8 * 132), 0, 0
        for is_data, raw in sent:
            for value in raw:
                if is_data:
                    if column < 132:
                        memory[page * 132 + column] = value
                        column += 1
                elif value >= 0xB0:
                    page = value & 7
                elif value >= 0x10:
                    column = column & 0x0F | (value & 15) << 4
                else:
                    column = column & 0xF0 | value
        held, written = memory_of("sh1106", sent)
        self.assertEqual([value if known else 0 for value, known in zip(held, written, strict=True)], memory)

    @given(
        st.binary(min_size=128, max_size=128), st.booleans(), st.booleans(), st.integers(0, 127), st.integers(0, 127), st.sampled_from([63, 95, 127])
    )  # fmt: skip
    @MANY
    def test_the_glass_of_sh1107(self, byte: bytes, over: bool, back: bool, offset: int, start: int, most: int) -> None:
        """Output k carries column (k + offset), counted from the other end of those that are driven under C8, moved by the start line; segments

        are rows of 16 pages, the last first under A1. Glass of 64 commons hangs on outputs 32 to 95."""
        codes = [0xA0 + over, 0xC8 if back else 0xC0, 0xD3, offset, 0xDC, start, 0xA8, most, 0xAF]
        sent: Sent = [(False, bytes(codes))]
        for page in range(16):
            sent += [(False, bytes([0xB0 + page, 0x00, 0x10])), (True, bytes(value ^ page * 17 for value in byte))]
        panel = load("sh1107").panel("64x128")
        lit = model_of_sent("sh1107", sent).glass(panel).lit
        for x in range(64):
            k = (32 + x + offset) % 128
            line = most - k if back else k
            for y in (0, 1, 8, 63, 100, 127):
                page, bit = divmod(127 - y if over else y, 8)
                expected = 0 <= line <= most and (byte[(line + start) % 128] ^ page * 17) >> bit & 1 == 1
                self.assertEqual(bool(lit[y, x]), expected, (x, y))


class Characters(unittest.TestCase):
    """HD44780U, Table 6 with the sections on DDRAM, CGRAM and the address counter."""

    @given(
        streams(
            byte(0x80, 0xA7), byte(0xC0, 0xE7), byte(0x40, 0x7F), st.sampled_from([b"\x01", b"\x02", b"\x04", b"\x06", b"\x05", b"\x07"]),
            st.sampled_from([b"\x10", b"\x14", b"\x18", b"\x1c"]),
        )
    )  # fmt: skip
    @MANY
    def test_two_lines(self, sent: Sent) -> None:
        ddram, cgram = [0x20] * 80, [0] * 64
        cell, shift, glyphs, step, follows, at_glyph = 0, 0, False, 1, False, 0
        for is_data, raw in [(False, b"\x38"), *sent]:
            for value in raw:
                if is_data and glyphs:
                    cgram[at_glyph], at_glyph = value, (at_glyph + step) % 64
                elif is_data:
                    ddram[cell], cell = value, (cell + step) % 80
                    shift += step * follows
                elif value >= 0x80:
                    cell, glyphs = (value & 0x3F) + (40 if value & 0x40 else 0), False
                elif value >= 0x40:
                    at_glyph, glyphs = value & 0x3F, True
                elif value & 0xF0 == 0x10:
                    right = bool(value & 4)
                    if value & 8:
                        shift += -1 if right else 1
                    elif not glyphs:
                        cell = (cell + (1 if right else -1)) % 80
                elif value & 0xFC == 0x04:
                    step, follows = 1 if value & 2 else -1, bool(value & 1)
                elif value == 0x01:
                    ddram, cell, shift, glyphs, step = [0x20] * 80, 0, 0, False, 1
                elif value == 0x02:
                    cell, shift, glyphs = 0, 0, False
        part = load("hd44780")
        held, _ = memory_of("hd44780", [(False, b"\x38"), *sent])
        self.assertEqual(held[:80], ddram)
        self.assertEqual(held[0x80 : 0x80 + 64], cgram)
        value = np.frombuffer(b"\x38" + b"".join(raw for _, raw in sent), np.uint8)
        data = np.concatenate([[False], *(np.full(len(raw), is_data) for is_data, raw in sent)]).astype(bool)
        time = np.arange(len(value))
        model = model_for(part, [commands(part, Payload(value, data, time, time, time + 1, time))], 1e-9, True)
        codes = model.glass(part.panel("20x4")).codes.tolist()
        window = [
            [line * 40 + (column + shift) % 40 for column in range(first, first + 20)]
            for first, line in ((0, 0), (0, 1), (20, 0), (20, 1))
        ]
        self.assertEqual(codes, [[ddram[place] for place in row] for row in window])


class Icons(unittest.TestCase):
    def test_icons_of_an_st7032_are_no_letters(self) -> None:
        """Instruction table 1, Set ICON address: data behind it go to the icons until another address is set; the address counts on."""
        sent: Sent = [
            (False, b"\x38\x0c\x01\x80"),
            (True, b"TIDE"),
            (False, b"\x39\x45"),
            (True, b"\x10\x03"),
            (False, b"\x38\x84"),
            (True, b" 4.2"),
        ]
        model = model_of_sent("st7032", sent)
        glass = model.glass(load("st7032").panel("16x2"))
        self.assertEqual(glass.lines[0].rstrip(), "TIDE 4.2")
        self.assertEqual(model.icons(), [(5, 4), (6, 1), (6, 0)])
        self.assertEqual(glass.note, "icons lit: 05h bit 4, 06h bit 1, 06h bit 0")


class Digits(unittest.TestCase):
    @given(streams(byte(0x00, 0x0F), least=2))
    @MANY
    def test_ht16k33(self, sent: Sent) -> None:
        """Display data addresses go up by themselves and from 0Fh back to 00h (Display Data Address Pointer)."""
        # A transfer is an address and what follows it; data without an address go on where the pointer is.
        sent = [(False, raw) if not is_data else (True, raw) for is_data, raw in sent]
        memory, pointer = [0] * 16, 0
        for is_data, raw in sent:
            for value in raw:
                if is_data:
                    memory[pointer], pointer = value, (pointer + 1) % 16
                else:
                    pointer = value & 15
        self.assertEqual(memory_of("ht16k33", sent)[0], memory)


class SegmentGlass(unittest.TestCase):
    """PCF8576: Figure of filling orders, Display RAM, Data pointer, Subaddress counter; a bit at a time."""

    @given(
        st.integers(1, 4),
        st.lists(st.tuples(st.integers(0, 39), st.sampled_from([0, 0, 0, 1]), st.booleans(), st.binary(max_size=30)), min_size=1, max_size=6),
    )  # fmt: skip
    @MANY
    def test_pcf8576(self, planes: int, writes: list[tuple[int, int, bool, bytes]]) -> None:
        sent: Sent = [(False, bytes([0x48 | planes % 4]))]
        memory: dict[tuple[int, int], int] = {}
        seat = 0
        for at, chip, said, raw in writes:
            if said:
                sent, seat = [*sent, (False, bytes([0x60 | chip]))], chip
            sent += [(False, bytes([at])), (True, raw)]
            for byte in raw:
                for k in range(8):
                    if seat == 0 and at + k // planes < 40:
                        memory[at + k // planes, k % planes] = byte >> 7 - k & 1
                at += -(-8 // planes)
                if at >= 40 and seat == 0:
                    seat = 1
        held, written = memory_of("pcf8576", sent)
        expected = {
            column: sum(8 >> plane for (own, plane), bit in memory.items() if own == column and bit) for column, _ in memory
        }
        self.assertEqual({column: held[column] for column in np.flatnonzero(written).tolist()}, expected)

    def test_a_digit_of_every_drive_mode(self) -> None:
        for planes, panel in ((1, "5-digits"), (2, "10-digits"), (4, "20-digits")):
            chance, sent = random.Random(planes), list[tuple[bool, bytes]]()

            def write(values: Sequence[int], sent: Sent = sent) -> None:
                last = next(k for k, value in enumerate(values) if value < 0x80) + 1
                sent += [
                    (False, bytes(value & 0x7F for value in values[:last])),
                    *([(True, bytes(values[last:]))] if values[last:] else []),
                ]

            said = glass_digits(write, chance, planes)
            self.assertEqual(model_of_sent("pcf8576", sent).glass(load("pcf8576").panel(panel)).lines, [said])

    @given(st.integers(0, 999), st.lists(st.integers(1, 400), max_size=6), st.integers(1, 300))
    @MANY
    def test_ht1621_bit_by_bit(self, seed: int, cuts: list[int], late: int) -> None:
        """HT1621, "Command format": transfers of single bits, whatever pieces they come in; the module's digits are what was meant. Where a capture
        begins within a transfer, nothing of it is told."""
        sent: list[str] = []
        said = bit_glass(sent.append, random.Random(seed))
        part = load("ht1621")
        whole = payload_of_bits(sent, 0, cuts)
        glass = model_for(part, [commands(part, whole)], 1e-9, True).glass(part.panel("6-digits"))
        self.assertEqual((glass.lines, glass.shown), ([said], True))
        ends = np.cumsum([len(one) for one in sent]).tolist()
        late = 1 + late % (ends[-2] - 1)
        behind = next(end for end in ends if end >= late)
        rest = [payload_of_bits(sent, begin, cuts) for begin in (late, behind)]
        columns = [[getattr(one, name).tolist() for name in ("value", "data", "time", "start")] for one in rest]
        self.assertEqual(*columns)


def payload_of_bits(sent: list[str], begin: int, cuts: list[int]) -> Payload:
    """What a part that is sent single bits is told from a bit on. cuts: how many come in each piece."""
    bits = np.frombuffer("".join(sent).encode(), np.uint8).astype(np.uint32) - ord("0")
    ends = np.cumsum([len(one) for one in sent])
    receiver = RECEIVERS["spi-bits"](Seat("spi-bits"))
    edges = sorted({begin, len(bits), *(cut for cut in np.cumsum(cuts).tolist() if begin < cut < len(bits))})
    got = []
    for low, high in pairwise(edges):
        first = np.unique([low, *(end for end in ends.tolist() if low < end < high)])
        last = np.append(first[1:], high)
        began = np.where(np.isin(first, [0, *ends]), START, CUT).astype(np.uint8)
        ended = np.where(np.isin(last, ends), STOP, END).astype(np.uint8)
        at, one = np.arange(low, high), np.ones(high - low, bool)
        words = Words(bits[low:high], at, at + 1, at, one, ~one)
        table = Transactions(first - low, last - low, first, last, began, ended, np.zeros(len(first), np.uint8))
        got += receiver.payloads(Channel("wires", "spi", "", words, table, 1))
    names = ("value", "data", "time", "start", "end", "transaction")
    return Payload(*(np.concatenate([getattr(one, name) for one in got]) for name in names))


class Dimmed(unittest.TestCase):
    """IS31FL3731, Tables 2 and 3: registers of the page that was chosen, and counting up from the first byte of each transfer."""

    @given(
        st.lists(st.tuples(st.integers(0, 11), st.integers(0, 0xB3), st.binary(min_size=1, max_size=40)), min_size=1, max_size=8)
    )
    @MANY
    def test_is31fl3731(self, writes: list[tuple[int, int, bytes]]) -> None:
        sent: Sent = []
        memory: dict[tuple[int, int], int] = {}
        for page, register, raw in writes:
            if 7 < page < 11:
                continue
            sent += [(False, b"\xfd"), (True, bytes([page]))]
            if page == 11:
                sent += [(False, b"\x01"), (True, raw)]  # a function register and those behind it: no frame's
                continue
            sent += [(False, bytes([register])), (True, raw)]
            memory |= {(page, register + k): byte for k, byte in enumerate(raw) if register + k <= 0xB3}
        held, written = memory_of("is31fl3731", sent)
        self.assertEqual({divmod(k, 0xB4): held[k] for k in np.flatnonzero(written).tolist()}, memory)

    @given(
        st.lists(st.tuples(st.integers(0, 1), st.integers(0, 0x47), st.binary(min_size=1, max_size=40)), max_size=6),
        st.binary(min_size=192, max_size=192),
    )
    @MANY
    def test_is31fl3733(self, writes: list[tuple[int, int, bytes]], bright: bytes) -> None:
        """A LED at SWy and CSx lights with byte (y - 1) x 16 + x - 1 of page 1, if bit x - 1 of the two bytes of SWy in page 0 is 1."""
        pages = [bytearray(192), bytearray(bright)]
        sent: Sent = [(False, b"\xfe"), (True, b"\xc5"), (False, b"\xfd"), (True, b"\x01"), (False, b"\x00"), (True, bright)]
        for page, register, raw in writes:
            sent += [
                (False, b"\xfe"),
                (True, b"\xc5"),
                (False, b"\xfd"),
                (True, bytes([page])),
                (False, bytes([register])),
                (True, raw),
            ]
            pages[page][register : register + len(raw)] = raw
        glass = model_of_sent("is31fl3733", sent).glass(load("is31fl3733").panel("16x12"))
        for sw in range(12):
            for cs in range(16):
                on = pages[0][2 * sw + cs // 8] >> cs % 8 & 1
                self.assertAlmostEqual(float(glass.light[sw, cs]), on * pages[1][16 * sw + cs] / 255, 5)


class Chains(unittest.TestCase):
    def test_an_update_that_ends_ahead_of_its_first_led(self) -> None:
        for raw in (b"\x00", b"\x00\x00\x00", b"\xff\xff", b"\x00" * 4, b"\x00" * 4 + b"\xe1"):
            known = model_of_sent("apa102", [(True, raw)]).glass(load("apa102").panel("8x8")).known
            self.assertFalse(known.any(), raw)


class Papers(unittest.TestCase):
    """SSD1680, 8: 11h (which way the counters run, and which first), 44h, 45h, 4Eh, 4Fh, 24h and 26h, a byte at a time."""

    @given(
        st.lists(
            st.tuples(
                st.integers(0, 7), st.integers(0, 1), st.tuples(st.integers(0, 17), st.integers(0, 4)), st.tuples(st.integers(0, 291), st.integers(0, 4)),
                st.binary(min_size=1, max_size=60), st.binary(max_size=30),
            ),
            min_size=1,
            max_size=4,
        )
    )  # fmt: skip
    @MANY
    def test_ssd1680(self, windows: list[tuple[int, int, tuple[int, int], tuple[int, int], bytes, bytes]]) -> None:
        sent: Sent = []
        memory: dict[tuple[int, int, int], int] = {}
        for mode, plane, (x0, wide), (y0, high), first, more in windows:
            x1, y1 = min(21, x0 + wide), min(295, y0 + high)
            xs = list(range(x0, x1 + 1))[:: 1 if mode & 1 else -1]
            ys = list(range(y0, y1 + 1))[:: 1 if mode & 2 else -1]
            ends = [value.to_bytes(2, "little") for value in (ys[0], ys[-1])]
            for code, raw in (
                (0x11, bytes([mode])),
                (0x44, bytes([xs[0], xs[-1]])),
                (0x45, ends[0] + ends[1]),
                (0x4E, bytes([xs[0]])),
                (0x4F, ends[0]),
            ):
                sent += [(False, bytes([code])), (True, raw)]
            code = bytes([0x26 if plane else 0x24])
            sent += [(False, code), (True, first), *([(False, b"\x7f"), (False, code), (True, more)] if more else [])]
            column = row = 0
            for byte in first + more:  # what was begun goes on where it was
                memory[plane, ys[row], xs[column]] = byte
                if mode & 4:
                    row = (row + 1) % len(ys)
                    column = (column + (row == 0)) % len(xs)
                else:
                    column = (column + 1) % len(xs)
                    row = (row + (column == 0)) % len(ys)
        self.assertEqual(planes_of("ssd1680", sent, 22), memory)

    @given(
        st.sampled_from([(0x0F, 96, 230), (0x4F, 96, 252), (0x8F, 128, 296), (0xCF, 160, 296)]),  # R00h, RES
        st.one_of(st.none(), st.tuples(st.integers(1, 20), st.integers(1, 296))),  # R61h goes over it
        st.booleans(),
        st.sampled_from([0x87, 0x97, 0xA7, 0xB7]),  # R50h, DDX
        st.lists(st.tuples(st.booleans(), st.binary(max_size=500)), max_size=4),
    )
    @MANY
    def test_uc8151(
        self, size: tuple[int, int, int], told: tuple[int, int] | None, one: bool, interval: int, planes: list[tuple[bool, bytes]]
    ) -> None:
        code, columns, rows = size
        resolution: Sent = []
        if told:
            columns, rows = told[0] * 8, told[1]
            resolution = [(False, b"\x61"), (True, bytes([columns, rows >> 8, rows & 255]))]
        sent: Sent = [
            (False, b"\x00"),
            (True, bytes([code | (0x10 if one else 0)])),
            *resolution,
            (False, b"\x50"),
            (True, bytes([interval])),
        ]
        memory: dict[tuple[int, int, int], int] = {}
        for second, raw in planes:
            sent += [(False, bytes([0x13 if second else 0x10])), (True, raw), (False, b"\x11")]
            if one and not second:
                continue  # the picture before
            inverted = not interval & 0x10 if one or not second else bool(interval & 0x20)  # held: 0 is black, 1 the second ink
            for index, byte in enumerate(raw):
                row, column = divmod(index % (columns // 8 * rows), columns // 8)
                memory[second and not one, row, column] = byte ^ (0xFF if inverted else 0)
        self.assertEqual(planes_of("uc8151", sent, 20), memory)


class Lettered(unittest.TestCase):
    """ST7920, tables of instructions: two letters an address, rows of words that begin anew at their end, behind the instructions in force."""

    @given(
        st.lists(
            st.one_of(
                st.tuples(st.just("cell"), st.integers(0, 63), st.just(0), st.binary(max_size=20)),
                st.tuples(st.just("row"), st.integers(0, 63), st.integers(0, 15), st.binary(max_size=40)),
                st.tuples(st.sampled_from(["clear", "glyph", "scroll"]), st.just(0), st.just(0), st.binary(max_size=6)),
            ),
            min_size=1,
            max_size=8,
        )
    )
    @MANY
    def test_st7920(self, steps: list[tuple[str, int, int, bytes]]) -> None:
        sent: Sent = []
        text, pixels = [0x20] * 128, {}
        for what, at, word, raw in steps:
            extended = what in ("row", "scroll")
            sent.append((False, b"\x34" if extended else b"\x30"))
            sent.append(
                (
                    False,
                    {
                        "cell": bytes([0x80 | at]),
                        "row": bytes([0x80 | at, 0x80 | word]),
                        "clear": b"\x01",
                        "glyph": b"\x40",
                        "scroll": b"\x40",
                    }[what],
                )
            )
            sent += [(True, raw)] if raw else []
            if what == "clear":
                text = [0x20] * 128
            for k, byte in enumerate(raw):
                if what in ("cell", "clear"):
                    text[(2 * at + k) % 128] = byte
                elif what == "row":
                    pixels[at, (2 * word + k) % 32] = byte
        held, written = memory_of("st7920", sent)
        self.assertEqual(held[:128], text)
        self.assertEqual({divmod(k - 128, 32): held[k] for k in np.flatnonzero(written).tolist() if k >= 128}, pixels)


class Colours(unittest.TestCase):
    """ST7789V, 8.12: under MY, MX and MV where each pixel of a window goes, a pixel at a time; 8.8: what its bytes mean."""

    @given(
        st.lists(
            st.tuples(
                st.sampled_from([0x00, 0x40, 0x80, 0xC0, 0x20, 0x60, 0xA0, 0xE0]),
                st.sampled_from([0x55, 0x66, 0x53]),
                st.tuples(st.integers(0, 239), st.integers(0, 7)),
                st.tuples(st.integers(0, 239), st.integers(0, 7)),
                st.binary(min_size=1, max_size=120),
                st.binary(max_size=60),
            ),
            min_size=1,
            max_size=4,
        )
    )
    @MANY
    def test_st7789(self, windows: list[tuple[int, int, tuple[int, int], tuple[int, int], bytes, bytes]]) -> None:
        sent: Sent = []
        memory: dict[tuple[int, int], int] = {}
        for control, form, (x0, width), (y0, height), first, more in windows:
            x1, y1 = min(239, x0 + width), min(239, y0 + height)
            for code, values in ((0x36, [control]), (0x3A, [form]), (0x2A, [0, x0, 0, x1]), (0x2B, [0, y0, 0, y1])):
                sent += [(False, bytes([code])), (True, bytes(values))]
            sent += (
                [(False, b"\x2c"), (True, first), (False, b"\x3c"), (True, more)] if more else [(False, b"\x2c"), (True, first)]
            )
            x, y = x0, y0
            for raw in (first, more):  # a pixel that a command breaks off is lost
                for colour in self.colours(raw, form):
                    column, row = (y, x) if control & 0x20 else (x, y)
                    column, row = 239 - column if control & 0x40 else column, 319 - row if control & 0x80 else row
                    if 0 <= column < 240 and 0 <= row < 320:
                        memory[row, column] = colour
                    x += 1
                    if x > x1:
                        x, y = x0, y + 1 if y < y1 else y0
        held, written = memory_of("st7789", sent)
        found = {divmod(place, 240): held[place] for place in np.flatnonzero(written).tolist()}
        self.assertEqual(found, memory)

    @given(
        st.lists(
            st.tuples(
                st.sampled_from(["ssd1327", "ssd1322", "ssd1351"]),
                st.integers(0, 31),
                st.tuples(st.integers(0, 31), st.integers(0, 4)),
                st.tuples(st.integers(0, 90), st.integers(0, 4)),
                st.binary(min_size=1, max_size=120),
            ),
            min_size=1,
            max_size=3,
        )
    )
    @MANY
    def test_addresses_of_several_pixels(self, windows: list[tuple[str, int, tuple[int, int], tuple[int, int], bytes]]) -> None:
        """A window of SSD1327 (8.6), SSD1322 (8.6) and SSD1351 (8.3): along rows or down columns of addresses, a byte at a time."""
        part = windows[0][0]
        columns, per = {"ssd1327": (128, 2), "ssd1322": (480, 4), "ssd1351": (128, 1)}[part]
        sent: Sent = []
        memory: dict[tuple[int, int], int] = {}
        for _, flags, (c0, more), (r0, down), raw in windows:
            reversed_, vertical, rows_reversed, high = (bool(flags >> k & 1) for k in range(4))
            c1, r1 = c0 + more, r0 + down
            if part == "ssd1327":
                remap = reversed_ | high << 1 | vertical << 2 | rows_reversed << 4
                sent += [(False, bytes([0xA0, remap, 0x15, c0, c1, 0x75, r0, r1]))]
            else:
                remap = vertical | reversed_ << 1 | (high << 2 if part == "ssd1322" else 0) | rows_reversed << 4
                values = [remap | 0x40] if part == "ssd1351" else [remap, 0x01]
                for code, ends in ((0xA0, values), (0x15, [c0, c1]), (0x75, [r0, r1]), (0x5C, [])):
                    sent += [(False, bytes([code])), *([(True, bytes(ends))] if ends else [])]
            sent.append((True, raw))
            unit = 2 if part == "ssd1322" or part == "ssd1351" else 1  # bytes at an address
            column, row = c0, r0
            for at in range(0, len(raw), unit):
                word = raw[at : at + unit]
                if part == "ssd1351":
                    if len(word) < 2:
                        break
                    both = word[0] << 8 | word[1]
                    red, green, blue = both >> 11, both >> 5 & 63, both & 31
                    shades = [(red << 3 | red >> 2) << 16 | (green << 2 | green >> 4) << 8 | (blue << 3 | blue >> 2)]
                else:
                    nibbles = [
                        n
                        for byte in word
                        for n in ((byte >> 4, byte & 15) if high != (part == "ssd1327" and reversed_) else (byte & 15, byte >> 4))
                    ]
                    shades = [17 * n * 0x010101 for n in nibbles]
                for k, shade in enumerate(shades):
                    x = column * per + k
                    x = columns - 1 - x if reversed_ else x
                    memory[127 - row if rows_reversed else row, x] = shade
                if vertical:
                    column, row = (column, row + 1) if row < r1 else (column + 1 if column < c1 else c0, r0)
                else:
                    column, row = (column + 1, row) if column < c1 else (c0, row + 1 if row < r1 else r0)
        held, written = memory_of(part, sent)
        found = {divmod(place, columns): held[place] for place in np.flatnonzero(written).tolist()}
        self.assertEqual(found, memory)

    def colours(self, raw: bytes, form: int) -> list[int]:
        """0xRRGGBB of each whole pixel."""

        def widened(value: int, bits: int) -> int:
            return value << (8 - bits) | value >> (2 * bits - 8)

        if form == 0x66:
            triples = [raw[k : k + 3] for k in range(0, len(raw) - 2, 3)]
            parts = [[widened(value >> 2, 6) for value in triple] for triple in triples]
        elif form == 0x53:  # two pixels in three bytes
            whole = [raw[k : k + 3] for k in range(0, len(raw) - 2, 3)]
            nibbles = [n for a, b, c in whole for n in (a >> 4, a & 15, b >> 4, b & 15, c >> 4, c & 15)]
            parts = [[n * 17 for n in nibbles[k : k + 3]] for k in range(0, len(nibbles), 3)]
        else:
            pairs = [raw[k] << 8 | raw[k + 1] for k in range(0, len(raw) - 1, 2)]
            parts = [[widened(word >> 11, 5), widened(word >> 5 & 63, 6), widened(word & 31, 5)] for word in pairs]
        return [red << 16 | green << 8 | blue for red, green, blue in parts]


if __name__ == "__main__":
    unittest.main()
