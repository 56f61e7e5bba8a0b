"""The part engine and the SSD1306: every code, every mode, and the way from memory to the glass."""

import unittest
from pathlib import Path

import msgspec
import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.errors import HushedError
from hushed_wire.part import catalog_names, commands, load, load_file
from hushed_wire.part.catalogs import SHIPPED
from hushed_wire.part.describe import Command
from hushed_wire.part.framing import Payload, wrap_control_byte
from hushed_wire.part.glass import PixelGlass
from hushed_wire.part.model import model_of
from hushed_wire.part.mounting import as_mounted
from hushed_wire.part.paged import Memory
from hushed_wire.picture.layout import pack_pages, unpack_pages
from hushed_wire.rig import Bus, Device, Rig, decode
from strategies import legal
from support import acked, i2c_trace, scratch

PART = load("ssd1306")


def payload_of(*runs: tuple[bool, bytes]) -> Payload:
    """Runs of (is data, bytes) as a part gets them, each run a transaction, one word a tick."""
    value = np.frombuffer(b"".join(raw for _, raw in runs), np.uint8)
    data = np.concatenate([np.full(len(raw), is_data) for is_data, raw in runs])
    owner = np.concatenate([np.full(len(raw), number) for number, (_, raw) in enumerate(runs)])
    time = np.arange(len(value))
    return Payload(value, data, time, time, time + 1, owner)


def run(*runs: tuple[bool, bytes]) -> Memory:
    return Memory.of(commands(PART, payload_of(*runs)))


def send(text: str) -> tuple[bool, bytes]:
    return False, bytes.fromhex(text)


class Table(unittest.TestCase):
    def test_what_the_datasheet_leaves_free_is_unknown(self) -> None:
        # What the datasheet's Table 9-1 leaves free, and nothing else, is unknown; newer silicon has 2C, 2D, AD, and drivers send D8.
        free = {
            *range(0x24, 0x26),
            0x28,
            0x2B,
            *range(0xC1, 0xC8),
            *range(0xC9, 0xD0),
            *range(0x30, 0x40),
            0x80,
            *range(0x82, 0x8D),
            *range(0x8E, 0xA0),
        }
        free |= {0xA2, 0xA9, 0xAA, 0xAB, 0xAC, *range(0xB8, 0xC0), *range(0xD0, 0xD3), 0xD4, 0xD7}
        free |= {*range(0xDC, 0xE3), *range(0xE4, 0x100)}
        self.assertEqual({first for first in range(256) if PART.table()[first] < 0}, free)

    @given(legal(PART))
    def test_fields_and_bytes_are_twins(self, drawn: tuple[Command, dict[str, object]]) -> None:
        command, fields = drawn
        raw = command.encode(fields)  # type: ignore[arg-type]
        self.assertEqual(PART.command[PART.table()[raw[0]]].name, command.name)
        self.assertEqual(len(raw), command.length)
        self.assertEqual(command.decode(raw), (fields, ""))

    @given(st.lists(st.one_of(legal(PART), st.binary(min_size=1, max_size=9)), min_size=1, max_size=30))
    @settings(deadline=None)
    def test_streams_of_commands_and_data_are_taken_apart(self, steps: list[object]) -> None:
        runs, expected = [], []
        for step in steps:
            if isinstance(step, bytes):
                runs.append((True, step))
                expected.append(("data", step))
            else:
                command, fields = step  # type: ignore[misc]
                raw = command.encode(fields)
                runs += [(False, raw[:1]), (False, raw[1:])] if len(raw) > 1 else [(False, raw)]  # parameters may come apart
                expected.append((command.name, raw))
        own = commands(PART, payload_of(*runs))
        self.assertEqual([(own.name_of(k), own.bytes_of(k)) for k in range(len(own))], expected)

    def test_the_datasheets_start_up_example_reads_as_it_says(self) -> None:
        # Application note, software configuration flow chart: A8 3F, D3 00, 40, A0, C0, DA 02, 81 7F, A4, A6, D5 80, 8D 14, AF.
        own = commands(PART, payload_of(send("A8 3F D3 00 40 A0 C0 DA 02 81 7F A4 A6 D5 80 8D 14 AF")))
        said = [(own.name_of(k), own.fields_of(k)[0]) for k in range(len(own))]
        self.assertEqual(
            said,
            [
                ("multiplex-ratio", {"lines": 64}), ("display-offset", {"rows": 0}), ("start-line", {"row": 0}),
                ("segment-remap", {"state": "off"}), ("com-scan", {"direction": "ascending"}),
                ("com-pins", {"wiring": "sequential", "left-right": "off"}), ("contrast", {"level": 127}),
                ("entire-display", {"mode": "follow-ram"}), ("invert", {"state": "off"}),
                ("display-clock", {"divide": 1, "frequency": 8}), ("charge-pump", {"state": "on"}), ("display", {"state": "on"}),
            ],
        )  # fmt: skip
        self.assertEqual(b"".join(PART.find(name).encode(dict(fields)) for name, fields in said), own.payload.value.tobytes())

    def test_what_is_undocumented_is_said(self) -> None:
        own = commands(PART, payload_of(send("A8 05 DA 13 DB 10 20 03 FD AF 81")))
        notes = {own.name_of(k): own.fields_of(k)[1] for k in range(len(own))}
        self.assertIn("outside 16 to 64", notes["multiplex-ratio"])
        self.assertIn("fixed bits", notes["com-pins"])
        self.assertIn("not documented", notes["vcomh-level"])
        self.assertIn("not documented", notes["memory-mode"])
        self.assertEqual(list(notes)[-3:], ["unknown", "display", "truncated"])

    def test_errors_in_a_description_name_file_key_and_reason(self) -> None:
        text = (SHIPPED / "ssd1306.toml").read_text()
        path = Path(scratch()) / "mine.toml"
        for old, new, said in (
            ('code = "1010111d"', 'code = "1010111"', r"command 'display': '1010111' is not eight"),
            ('code = "1010111d"', 'code = "1010011d"', r"command 'display': the code 0xa6 is that of 'invert' too"),
            ('fields.d = { name = "state"', 'fields.q = { name = "state"', r"command 'display': letter '[dq]'"),
            ('must = "on"', 'moost = "on"', r"unknown field `moost`"),
            ("pages = 8", 'pages = "eight"', r"memory\.pages: .*int"),
            (
                'display = "display.state"',
                'display = "display.stat"',
                r"no register 'display.stat'; did you mean 'display.state'",
            ),
        ):
            path.write_text(text.replace(old, new, 1))
            with self.assertRaisesRegex(HushedError, said) as caught:
                load_file(path)
            self.assertEqual(caught.exception.where, str(path))
        for name in catalog_names():
            self.assertLessEqual({c.effect for c in load(name).command} - {""}, set(model_of(load(name)).effects) | {"reset"})


class ControlByte(unittest.TestCase):
    @given(st.lists(st.tuples(st.booleans(), st.integers(0, 255)), max_size=12), st.booleans(), st.binary(max_size=20))
    @settings(deadline=None, max_examples=60)
    def test_pairs_and_runs_behind_control_bytes(self, pairs: list[tuple[bool, int]], is_data: bool, rest: bytes) -> None:
        # Any number of (control byte with Co, word) pairs, then a control byte without Co and its run.
        wire = bytes(b for data, word in pairs for b in (0x80 | (0x40 if data else 0), word)) + wrap_control_byte(rest, is_data)
        rig = Rig(bus=[Bus("b", "i2c", lines={"scl": "SCL", "sda": "SDA"})], device=[Device("d", "b", "ssd1306", 0x3C, "128x64")])
        payload = decode(i2c_trace([acked(0x78, *wire)]), rig).devices[0].commands.payload
        self.assertEqual(payload.value.tolist(), [word for _, word in pairs] + list(rest))
        self.assertEqual(payload.data.tolist(), [data for data, _ in pairs] + [is_data] * len(rest))


class Addressing(unittest.TestCase):
    """The three modes (datasheet 10.1.3), against a pointer moved one byte at a time."""

    @given(
        st.sampled_from(["horizontal", "vertical", "page"]),
        st.tuples(st.integers(0, 127), st.integers(0, 127)).map(sorted),
        st.tuples(st.integers(0, 7), st.integers(0, 7)).map(sorted),
        st.lists(st.binary(min_size=1, max_size=300), min_size=1, max_size=4),
    )
    @settings(deadline=None, max_examples=80)
    def test_runs_land_where_single_bytes_would(self, mode: str, columns: list[int], pages: list[int], runs: list[bytes]) -> None:
        code = {"horizontal": 0, "vertical": 1, "page": 2}[mode]
        (c0, c1), (p0, p1) = columns, pages
        setup = bytes([0x20, code, 0x21, c0, c1, 0x22, p0, p1])
        if mode == "page":
            setup = bytes([0x20, code, 0xB0 | p0, c0 & 15, 0x10 | c0 >> 4])
        expected: dict[tuple[int, int], int] = {}
        column, page = c0, p0
        for value in b"".join(runs):
            expected[page, column] = value
            if mode == "page":
                column = column + 1 if column < 127 else c0
            elif mode == "horizontal":
                column, page = (column + 1, page) if column < c1 else (c0, page + 1 if page < p1 else p0)
            else:
                page, column = (page + 1, column) if page < p1 else (p0, column + 1 if column < c1 else c0)
        ram, written = run((False, setup), *((True, raw) for raw in runs)).at()
        got = {(int(p), int(c)): int(ram[p, c]) for p, c in np.argwhere(written)}
        self.assertEqual(got, expected)

    def test_the_memory_at_any_time(self) -> None:
        memory = run(send("20 00"), (True, b"\x01\x02"), send("21 00 7F 22 00 07"), (True, b"\x03"))
        self.assertEqual([memory.at(when)[0][0, 0] for when in (1, 2, 9, 10)], [0, 1, 1, 3])
        self.assertEqual([memory.at(when)[1].sum() for when in (1, 2, 3, 99)], [0, 1, 2, 2])


BASE = "AE D5 80 A8 3F D3 00 40 8D 14 20 00 A1 C8 DA 12 AF"


def glass(setup: str, panel: str = "128x64", mark: int = 0) -> PixelGlass:
    """The glass of a memory in which row r of column `mark` is lit where bit r of a fixed pattern is."""
    data = bytearray(1024)
    for row in range(64):
        if ROWS >> row & 1:
            data[row // 8 * 128 + mark] |= 1 << row % 8
    memory = run(send(setup), send("21 00 7F 22 00 07"), (True, bytes(data)))
    return memory.glass(PART.panel(panel))


ROWS = 0x9C3A_57E1_04D8_B263  # no two rotations of it, nor its mirror, are alike
ORDER = [ROWS >> row & 1 for row in range(64)]


class Outputs(unittest.TestCase):
    """From memory rows to lines of the glass: 10.1.6, 10.1.14, 10.1.15 with Tables 10-1 and 10-2, 10.1.18 with Table 10-3."""

    def column(self, setup: str, panel: str = "128x64", x: int = 0) -> list[int]:
        return glass(BASE + setup, panel).lit[:, x].astype(int).tolist()

    def test_upright_with_both_remaps_on(self) -> None:
        self.assertEqual(self.column(""), ORDER)
        self.assertEqual(self.column("A0", x=127), ORDER)  # without segment remap: mirrored
        self.assertEqual(self.column("C0"), ORDER[::-1])  # without COM remap: upside down
        self.assertEqual(glass(BASE, mark=5).lit[:, 5].astype(int).tolist(), ORDER)

    def test_start_line_and_offset(self) -> None:
        # Table 10-2, multiplex 64: start line 8 puts row 8 first; offset 8 does the same by moving the outputs.
        self.assertEqual(self.column("48"), ORDER[8:] + ORDER[:8])
        self.assertEqual(self.column("D3 08"), ORDER[-8:] + ORDER[:-8])
        # Table 10-1 (C0): offset 8 brings row 8 to COM0, which this glass has at its lower end.
        self.assertEqual(self.column("C0 D3 08")[::-1], ORDER[8:] + ORDER[:8])

    def test_multiplex_below_the_panels_lines(self) -> None:
        # Table 10-2, multiplex 48: COM47 to COM0 carry rows 0 to 47, COM63 to COM48 nothing.
        self.assertEqual(self.column("A8 2F"), [0] * 16 + ORDER[:48])
        self.assertEqual(self.column("A8 2F D3 08"), ORDER[40:48] + [0] * 16 + ORDER[:40])

    def test_com_pins_of_another_glass(self) -> None:
        # Alternative glass driven sequentially: the halves of the picture lie in every second line.
        got = self.column("DA 02")
        turned = ORDER[::-1]
        expected = [turned[k // 2 + (32 if k % 2 else 0)] for k in range(64)][::-1]
        self.assertEqual(got, expected)
        # Left/right remap of the halves: odd and even lines are exchanged.
        self.assertEqual(self.column("DA 32"), [ORDER[k ^ 1] for k in range(64)])
        # A 128x32 glass (sequential) set up as alternative: odd outputs go to pins that it lacks.
        self.assertEqual(self.column("A8 1F DA 02", "128x32"), ORDER[:32])
        self.assertEqual(self.column("A8 1F DA 12", "128x32"), [0] * 16 + ORDER[1:32:2])

    def test_smaller_glass_lies_in_the_middle_of_memory(self) -> None:
        data = bytes(range(128)) * 8
        memory = run(send(BASE.replace("A8 3F", "A8 2F")), send("21 00 7F 22 00 07"), (True, data))
        first = memory.glass(PART.panel("64x48")).lit[:8, 0]
        self.assertEqual(int(np.packbits(first, bitorder="little")[0]), 32)

    def test_whole_panel_modes_and_power(self) -> None:
        self.assertTrue(glass(BASE + "A5").lit.all())
        inverted = glass(BASE + "A7").lit
        self.assertEqual(inverted[:, 0].astype(int).tolist(), [1 - bit for bit in ORDER])
        self.assertEqual([glass(BASE + more).shown for more in ("", "AE", "8D 10")], [True, False, False])
        external = msgspec.structs.replace(PART.panel("128x64"), supply="external")
        memory = run(send(BASE + "8D 10"), (True, b"\1"))
        self.assertTrue(memory.glass(external).shown)

    def test_scrolling_moves_pages_by_the_frame_clock(self) -> None:
        start = "21 00 7F 22 00 07"
        memory = run(send(BASE), send(start), (True, bytes([0xFF]) + bytes(1023)), send("27 00 00 07 00 00 FF 2F"))
        memory.tick = 1e-3  # the scroll began some ticks in; a frame at 370 kHz and multiplex 64 lasts 9.34 ms
        frame = 54 * 64 / 370e3
        since = int(memory.register("scrolling.since") or 0)
        for steps in (0, 1, 5, 130):
            when = since + int((steps + 0.5) * 2 * frame / 1e-3)  # interval code 7: a step every 2 frames
            lit = memory.glass(PART.panel("128x64"), when)
            self.assertTrue(lit.scrolling)
            self.assertEqual(np.flatnonzero(lit.lit[0]).tolist(), [-steps % 128])
        self.assertFalse(run(send(BASE), send("27 00 00 07 00 00 FF 2F 2E")).glass(PART.panel("128x64")).scrolling)


class Layout(unittest.TestCase):
    @given(st.integers(1, 70), st.integers(1, 140), st.integers(0, 2**32 - 1))
    @settings(deadline=None, max_examples=50)
    def test_pages_are_packed_and_unpacked_exactly(self, height: int, width: int, seed: int) -> None:
        pixels = np.random.default_rng(seed).random((height, width)) < 0.5
        pages = pack_pages(pixels)
        self.assertEqual(pages.shape, (-(-height // 8), width))
        self.assertTrue((unpack_pages(pages, height) == pixels).all())
        self.assertEqual(bool(pages[0, 0] & 1), bool(pixels[0, 0]))

    def test_mounted_pictures_come_out_as_a_person_sees_them(self) -> None:
        pixels = np.random.default_rng(1).random((64, 128)) < 0.5
        for rotate in (0, 90, 180, 270):
            for mirror in (False, True):
                panel = msgspec.structs.replace(PART.panel("128x64"), rotate=rotate, mirror=mirror)
                seen = np.rot90(pixels, -rotate // 90) if rotate % 180 else pixels
                memory = run(send(BASE), send("21 00 7F 22 00 07"), (True, pack_pages(as_mounted(seen, panel)).tobytes()))
                self.assertTrue((memory.glass(panel).lit == seen).all(), (rotate, mirror))
