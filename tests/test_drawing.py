"""The drawing commands as people run them: every product compiled and read back, every panel showing what was packed for it."""

from __future__ import annotations

import io
import json
import subprocess
import sys
import unittest

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st
from PIL import Image

from hushed_wire.errors import HushedError
from hushed_wire.part.segments import character
from hushed_wire.picture.bdf import read_bdf, write_bdf
from hushed_wire.picture.font import Font, Glyph, set_text
from hushed_wire.picture.font_file import SHIPPED, shipped
from hushed_wire.picture.guess import guesses, header_of
from hushed_wire.picture.motion import changed_boxes, windows
from hushed_wire.picture.text_art import read_art, write_art
from hushed_wire.picture.truth import in_digits, wiring_of
from hushed_wire.sequence.numbers import bcd, shown
from support import demo, program, program_json, scratch
from test_buses import SPI, WIDE, bus, device

FOLDER = scratch()
I2C = bus("i2c", ["scl", "sda"], clock="400kHz")
# part: rig on which its picture goes over the wires
GLASSES = {
    "ssd1306": I2C + device("ssd1306", "128x64", address=0x3D),
    "ssd1306 upside down": I2C
    + device("ssd1306", "128x32", address=0x3D).replace('"128x32"', '{ ready = "128x32", rotate = 180 }'),
    "sh1106": I2C + device("sh1106", "128x64", address=0x3C),
    "pcd8544": bus("spi", SPI, clock="1MHz") + device("pcd8544", "84x48"),
    "ks0108": bus("parallel", [*WIDE, "cs1", "cs2", "reset"], select="high") + device("ks0108", "128x64"),
    "max7219": bus("spi", ["sck", "mosi", "cs"], clock="2MHz") + device("max7219", "8x8"),
    "ht16k33": I2C + device("ht16k33", "16x8", address=0x71),
    "st7735": bus("spi", SPI, clock="10MHz")
    + device("st7735", "80x160").replace('"80x160"', '{ ready = "80x160", width = 40, height = 24 }'),
    "st7789": bus("spi", SPI, clock="10MHz")
    + device("st7789", "135x240").replace('"135x240"', '{ ready = "135x240", width = 40, height = 24 }'),
    "ili9341": bus("spi", SPI, clock="10MHz")
    + device("ili9341", "240x320").replace('"240x320"', '{ ready = "240x320", width = 40, height = 24 }'),
}
HOSTILE = ['gate";system("x")', "while", "9 lives", "*/ int x;\n/*", "class", "a'b\\", "ÄÖ", "import os"]


def c_bytes(source: bytes) -> None:
    done = subprocess.run(
        ["cc", "-Wall", "-Werror", "-Wextra", "-std=c99", "-x", "c", "-c", "-", "-o", "/dev/null"],
        input=source,
        capture_output=True,
    )
    assert done.returncode == 0, done.stderr.decode()


def picture(name: str, wide: int, high: int, colour: bool, seed: int = 1) -> None:
    """A picture with shapes and noise, so that every pixel's place counts."""
    rng = np.random.default_rng(seed)
    if colour:
        pixels = rng.integers(0, 256, (high, wide, 3), dtype=np.uint8) & np.array([0xF8, 0xFC, 0xF8], np.uint8)
        pixels |= np.stack([pixels[..., 0] >> 5, pixels[..., 1] >> 6, pixels[..., 2] >> 5], axis=2)
        Image.fromarray(pixels).save(FOLDER / name)
    else:
        Image.fromarray(rng.integers(0, 2, (high, wide)).astype(bool)).save(FOLDER / name)


class EveryPanel(unittest.TestCase):
    def test_shows_what_was_packed_for_it(self) -> None:
        """pack, over the wires of a rehearsal, and the screen that comes of it; unpack gives the same pixels from the bytes."""
        for name, text in GLASSES.items():
            with self.subTest(name):
                (FOLDER / "rig.toml").write_text(text)
                part = name.split()[0]
                start = program("catalog", part, "--start", "--panel", device_panel(text)).stdout.decode()
                if "reset" not in text.split("[[device]]")[0]:
                    start = "\n".join(line for line in start.splitlines() if not line.startswith("reset")) + "\n"
                (FOLDER / "start.hush").write_text(start)
                wide, high = size_of(text)
                colour = part in ("st7735", "st7789", "ili9341")
                picture("in.png", wide, high, colour)
                for words in (
                    ["--as", "hush", "--after", "start.hush", "-o", "picture.hush"],
                    ["-o", "picture.c"],
                    ["-o", "picture.bin"],
                ):
                    done = program("pack", "in.png", "--rig", "rig.toml", *words, cwd=FOLDER)
                    self.assertEqual((done.returncode, done.stderr), (0, b""))
                (FOLDER / "all.hush").write_text(
                    "include start.hush\n" + ("fill off\n" if not colour else "") + "include picture.hush\n"
                )
                done = program("rehearse", "all.hush", "--rig", "rig.toml", "-o", "all.vcd", cwd=FOLDER)
                self.assertEqual(done.returncode, 0, done.stderr)
                told = program_json("decode", "all.vcd", "--rig", "rig.toml", cwd=FOLDER)["commands"]
                self.assertNotIn("unknown", {entry["name"] for entry in told})
                done = program("screen", "all.vcd", "--rig", "rig.toml", "--format", "json", "--picture", "glass.png", cwd=FOLDER)
                self.assertEqual(done.returncode, 0, done.stderr)
                expected = np.asarray(Image.open(FOLDER / "in.png"))
                if colour:
                    glass = np.asarray(Image.open(FOLDER / "glass.png"))
                    scale = max(1, min(4, 720 // max(wide, high)))
                    np.testing.assert_array_equal(glass[12:-12:scale, 12:-12:scale], expected)
                else:
                    rows = json.loads(done.stdout)["screens"][0]["rows"]
                    np.testing.assert_array_equal([[dot == "#" for dot in row] for row in rows], expected)
                for source in ("picture.c", "picture.bin"):
                    done = program("unpack", source, "--rig", "rig.toml", "-o", "out.png", cwd=FOLDER)
                    self.assertEqual(done.returncode, 0, done.stderr)
                    np.testing.assert_array_equal(np.asarray(Image.open(FOLDER / "out.png")), expected)


def device_panel(text: str) -> str:
    return text.split("panel = ")[1].split("\n")[0].split('"')[1]


def size_of(text: str) -> tuple[int, int]:
    if "width = 40" in text:
        return 40, 24
    wide, high = device_panel(text).split("x")
    return int(wide), int(high)


class Products(unittest.TestCase):
    def test_every_product_compiles_whatever_it_is_called(self) -> None:
        picture("in.png", 128, 64, False)
        frames = [Image.new("L", (8, 8), shade) for shade in (0, 255, 0)]
        frames[0].save(FOLDER / "moving.gif", save_all=True, append_images=frames[1:], duration=50)
        for command in (["pack", "in.png", "--part", "ssd1306"], ["pack", "moving.gif", "--frames", "all", "--part", "max7219", "--panel", "8x8"],
                        ["glyphs", "5x7", "--proportional"], ["glyphs", "8x8", "--chars", "A-Z"], ["glyphs", "fourteen-segments"]):  # fmt: skip
            for name in HOSTILE if command[0] == "pack" else HOSTILE[:3]:
                c_bytes(program(*command, "--as", "c", "--name", name, cwd=FOLDER).stdout)
                source = program(*command, "--as", "python", "--name", name, cwd=FOLDER).stdout.decode()
                self.assertIsNotNone(compile(source, "product", "exec"))
        known: dict[str, object] = {}
        exec(program("pack", "in.png", "--part", "ssd1306", "--as", "python", cwd=FOLDER).stdout, known)
        raw = program("pack", "in.png", "--part", "ssd1306", "--as", "binary", cwd=FOLDER).stdout
        self.assertEqual((known["in_"], known["in__width"], len(raw)), (raw, 128, 1024))
        hex_rows = program("pack", "in.png", "--part", "ssd1306", "--as", "hex", cwd=FOLDER).stdout
        self.assertEqual(
            program("unpack", "-", "--part", "ssd1306", "--as", "text", cwd=FOLDER, stdin=hex_rows).stdout.count(b"\n"), 64
        )

    def test_pictures_are_made_to_fit_and_said_so(self) -> None:
        grey = np.tile(np.arange(256, dtype=np.uint8), (40, 1))
        Image.fromarray(grey).save(FOLDER / "ramp.png")
        Image.fromarray(grey.astype(np.uint16) * 257).save(FOLDER / "deep.png")
        clear = np.dstack([grey] * 3 + [np.where(grey < 128, 0, 255).astype(np.uint8)])
        Image.fromarray(clear).save(FOLDER / "clear.png")
        for words, said in (
            (["ramp.png"], "256x40, the panel shows 128x64"),
            (["ramp.png", "--fit", "inside"], "scaled into 128x64"),
            (["ramp.png", "--fit", "crop"], "cropped or edged"),
            (["deep.png", "--fit", "cover"], "16-bit greys"),
            (["clear.png", "--fit", "stretch"], "transparent pixels are taken as black"),
        ):
            done = program("pack", *words, "--part", "ssd1306", "--as", "binary", cwd=FOLDER)
            self.assertIn(said, done.stderr.decode())
            self.assertEqual(done.returncode, 2 if len(words) == 1 else 0)
        lit = {}
        for shades in ("plain", "ordered", "diffuse"):
            done = program("pack", "ramp.png", "--layout", "first=high", "--shades", shades, "--as", "binary", "-q", cwd=FOLDER)
            bits = np.unpackbits(np.frombuffer(done.stdout, np.uint8)).reshape(40, 256)
            lit[shades] = bits.mean()
            self.assertAlmostEqual(lit[shades], 0.5, delta=0.02)
            self.assertEqual(bool(bits[:, 64].mean() > 0.1), shades != "plain")
        done = program(
            "pack",
            "ramp.png",
            "--layout",
            "bits=2",
            "--palette",
            "0x000000,0x555555,0xAAAAAA,0xFFFFFF",
            "--as",
            "binary",
            "-q",
            cwd=FOLDER,
        )
        self.assertEqual(len(done.stdout), 40 * 64)
        self.assertEqual([done.stdout[k] for k in (0, 20, 40, 63)], [0x00, 0x55, 0xAA, 0xFF])

    def test_motion(self) -> None:
        done = program_json(
            "pack", "--text", "GATE", "--font", "8x8", "--part", "max7219", "--panel", "8x8", "--scroll", "left", cwd=FOLDER
        )
        self.assertEqual(len(done["frames"]), 8 + 32 + 1)  # from outside on the right until it is gone on the left
        letter = program_json("pack", "--text", "G", "--font", "8x8", "--part", "max7219", "--panel", "8x8", cwd=FOLDER)
        self.assertEqual(
            [done["frames"][8], *done["frames"][:: len(done["frames"]) - 1]], [*letter["frames"], *[{"bytes": [0] * 8}] * 2]
        )
        done = program("pack", "--text", "GATE OPEN", "--part", "ssd1306", "--scroll", "left", "--by", "8", cwd=FOLDER)
        self.assertRegex(done.stdout.decode(), r"the first costs 1,030 bytes, those after it 14 to 67,")
        program("pack", "--text", "GATE", "--part", "ssd1306", "--scroll", "up", "--picture", "up.gif", "-q", cwd=FOLDER)
        self.assertEqual(Image.open(FOLDER / "up.gif").n_frames, 64 + 7 + 1)
        program(
            "pack",
            "--text",
            "GATE",
            "--part",
            "max7219",
            "--panel",
            "8x8",
            "--scroll",
            "left",
            "--by",
            "8",
            "--picture",
            "n.png",
            "-q",
            cwd=FOLDER,
        )
        self.assertTrue((FOLDER / "n-0003.png").exists())
        picture_now = np.eye(16, dtype=bool)
        moved = list(windows(picture_now, (8, 16), "down", 4))
        np.testing.assert_array_equal(moved[-1], np.zeros((8, 16)))
        self.assertEqual(changed_boxes(np.zeros((16, 16), bool), picture_now), [(0, 0, 8, 8), (8, 8, 16, 16)])

    def test_unknown_bytes_are_guessed(self) -> None:
        for layout in ("stand=upright first=low", "stand=upright", "bits=1", "first=low"):
            raw = program("pack", str(demo() / "tide.pbm"), "--layout", layout, "--as", "binary").stdout
            self.assertIn(f'--layout "{layout}" --size 128x64', [one.options() for one in guesses(raw)[:3]])
        raw = program("pack", str(demo() / "tide.pbm"), "--part", "ssd1306", "--as", "binary").stdout
        self.assertEqual(guesses(raw)[0].options(), '--layout "stand=upright first=low" --size 128x64')
        (FOLDER / "unknown.bin").write_bytes(raw)
        done = program(
            "unpack", "unknown.bin", "--guess", "--choose", "1", "-o", "found.pbm", "--picture", "found.png", cwd=FOLDER
        )
        self.assertIn(b'chosen: --layout "stand=upright first=low" --size 128x64', done.stderr)
        np.testing.assert_array_equal(np.asarray(Image.open(FOLDER / "found.pbm")), np.asarray(Image.open(demo() / "tide.pbm")))
        table = program("glyphs", "5x7", "--chars", "0x20-0x7E", "--as", "binary").stdout
        found = header_of(bytes([5, 7, 0x20, 95]) + table)
        assert found is not None
        self.assertEqual((found.length, found.width, found.height, found.first, found.count), (4, 5, 7, 0x20, 95))
        self.assertIsNone(header_of(raw))


@st.composite
def fonts(draw: st.DrawFn) -> Font:
    high = draw(st.integers(1, 12))
    glyphs = {}
    for code in draw(st.sets(st.integers(0x20, 0x2FF), min_size=1, max_size=6)):
        wide = draw(st.integers(1, 12))
        bits = draw(st.lists(st.booleans(), min_size=high * wide, max_size=high * wide))
        glyphs[code] = Glyph(np.array(bits, bool).reshape(high, wide), draw(st.integers(wide, wide + 3)))
    return Font("tide", high, draw(st.integers(1, high)), glyphs)


def same(one: Font, other: Font) -> bool:
    return one.glyphs.keys() == other.glyphs.keys() and all(
        np.array_equal(glyph.pixels, other.glyphs[code].pixels[:, : glyph.width])
        and not other.glyphs[code].pixels[:, glyph.width :].any()
        and glyph.advance == other.glyphs[code].advance
        for code, glyph in one.glyphs.items()
    )


class Glyphs(unittest.TestCase):
    @settings(max_examples=60)
    @given(fonts())
    def test_fonts_there_and_back(self, font: Font) -> None:
        self.assertTrue(same(font, read_art(write_art(font), "x")))
        self.assertTrue(same(font, read_bdf(write_bdf(font), "x.bdf")))

    def test_a_bdf_of_another_writer(self) -> None:
        """The example glyph of the BDF 2.1 specification, "j": 9x22 dots, two to the left of its origin, six below the base line."""
        dots = "0380" * 4 + "0000" + "0700" * 4 + "0E00" * 5 + "1C00" * 4 + "2C00" + "7800" + "F000" + "E000"
        rows = [dots[k : k + 4] for k in range(0, len(dots), 4)]
        text = "\n".join(["STARTFONT 2.1", "FONTBOUNDINGBOX 9 24 -2 -6", "STARTPROPERTIES 2", "FONT_ASCENT 18", "FONT_DESCENT 6", "ENDPROPERTIES", "CHARS 1",
                          "STARTCHAR j", "ENCODING 106", "SWIDTH 355 0", "DWIDTH 8 0", "BBX 9 22 -2 -6", "BITMAP", *rows, "ENDCHAR", "ENDFONT"])  # fmt: skip
        font = read_bdf(text, "j.bdf")
        glyph = font.glyphs[106]
        self.assertEqual((font.height, font.baseline, glyph.advance, glyph.width), (24, 18, 8, 7))
        self.assertEqual(["".join(".#"[dot] for dot in row) for row in glyph.pixels[[0, 1, 2, 6, 7, 23]].tolist()],
                         [".......", ".......", "....###", ".......", "...###.", "#......"])  # fmt: skip

    def test_shipped_fonts_and_their_tables(self) -> None:
        for name in SHIPPED:
            font = shipped(name)
            self.assertTrue(set(range(0x20, 0x7F)) <= font.glyphs.keys())
            drawn = {glyph.pixels.tobytes() for glyph in font.glyphs.values()}
            self.assertEqual(len(drawn), len(font.glyphs), "two characters look the same")
        for cell, suffix, font in (("5x7", "c", "5x7"), ("8x8", "bin", "8x8"), ("8x8", "png", "8x8"), ("5x7", "bdf", "5x7")):
            words = ["--cell", cell, "--chars", "0x30-0x39", "-o"]
            self.assertEqual(program("glyphs", font, "--chars", "0x30-0x39", "-o", f"digits.{suffix}", cwd=FOLDER).stderr, b"")
            done = program("glyphs", f"digits.{suffix}", *words[:4], "-o", "back.glyphs", "--name", "x", cwd=FOLDER)
            self.assertEqual((done.returncode, b"the longest is taken" in done.stderr), (0, suffix == "c"), done.stderr)
            back = read_art((FOLDER / "back.glyphs").read_text(), "back").glyphs
            self.assertTrue(all(np.array_equal(back[c].pixels, shipped(font).glyphs[c].pixels) for c in range(0x30, 0x3A)))
        own = program("glyphs", "5x7", "--chars", "↑,°", "--part", "hd44780", "--as", "hush").stdout.decode()
        self.assertIn("glyph 0 0b00100 0b01110 0b10101 0b00100*", own.replace("0b00100 0b00100 0b00100 0b00100", "0b00100*4"))
        done = program("glyphs", "5x7", "--chars", "A,€", "--as", "hex")
        self.assertIn("lacks U+20AC: left out", done.stderr.decode())

    def test_text_is_set(self) -> None:
        font = shipped("5x7")
        self.assertEqual(set_text("A", font).shape, (7, 5))
        self.assertEqual(set_text("AB\nC", font, scale=2).shape, (30, 22))
        right = set_text("A", font, align="right", width=20)
        np.testing.assert_array_equal(right[:, 15:], font.glyphs[65].pixels)
        self.assertEqual(set_text("GATE OPEN", font, width=30, wrap=True).shape, (15, 30))
        for words, said in (({"text": "A€"}, "U.20AC"), ({"text": "GATE", "width": 10, "wrap": True}, "is 23 pixels wide")):
            with self.assertRaisesRegex(HushedError, said):
                set_text(font=font, **words)  # type: ignore[arg-type]


class Numbers(unittest.TestCase):
    def test_numbers_as_they_are_shown(self) -> None:
        for word, fields, text in (
            ("42", {}, "42"), ("42", {"width": 5}, "   42"), ("-42", {"width": 5, "pad": "0"}, "-0042"), ("7", {"sign": "always"}, "+7"),
            ("-12.345", {"places": 2}, "-12.35"), ("0.005", {"places": 2}, "0.01"), ("1234", {"divide": 100}, "12.34"),
            ("-5", {"divide": 100, "width": 6}, " -0.05"), ("0x2A", {"as": "hex", "width": 4}, "002A"), ("-1", {"as": "hex", "width": 4}, "FFFF"),
            ("0xA5", {"as": "bits", "width": 8, "group": 4, "marks": "#.", "gap": "_"}, "#.#._.#.#"), ("5", {"as": "bits"}, "101"),
        ):  # fmt: skip
            self.assertEqual(shown(word, fields), text)  # type: ignore[arg-type]
        self.assertEqual((bcd("1925"), bcd("925")), (b"\x19\x25", b"\x09\x25"))
        for word, fields in (("1234", {"width": 3}), ("-1", {"sign": "none"}), ("256", {"as": "hex", "width": 2}), ("x", {}), ("1e400", {}), ("nan", {}),
                             ("3", {"as": "roman"}), ("1.5", {"as": "hex"}), ("9", {"as": "bits", "marks": "#"})):  # fmt: skip
            with self.assertRaises(HushedError):
                shown(word, fields)  # type: ignore[arg-type]

    @given(st.integers(-(10**9), 10**9), st.integers(0, 4), st.integers(0, 14))
    def test_a_number_is_shown_right_or_not_at_all(self, value: int, places: int, width: int) -> None:
        fields = {"divide": 10**places, "width": width}
        try:
            text = shown(str(value), fields)  # type: ignore[arg-type]
        except HushedError:
            self.assertGreater(len(shown(str(value), {"divide": 10**places})), width)
            return
        self.assertEqual(round(float(text) * 10**places), value)
        self.assertTrue(not width or len(text) == width)

    def test_segments(self) -> None:
        plain = wiring_of(7, "", "cathode", False)
        self.assertEqual(
            [plain.value(char) for char in "0123456789"], [0x3F, 0x06, 0x5B, 0x4F, 0x66, 0x6D, 0x7D, 0x07, 0x7F, 0x6F]
        )
        for kind in (7, 14, 16):
            high, low = wiring_of(kind, "", "cathode", False), wiring_of(kind, "", "anode", False)
            full = (1 << len(high.bits)) - 1
            self.assertTrue(all(high.value(char) ^ low.value(char) == full for char, _ in high.table()))
            self.assertEqual(wiring_of(kind, "", "anode", True).table(), high.table())
        shapes = dict(plain.table())
        self.assertTrue(
            all(
                character(n for b, n in enumerate(plain.bits) if value >> b & 1) == char
                for char, value in shapes.items()
                if char not in "5S"
            )
        )
        values = [value for _, value in wiring_of(14, "", "cathode", False).table()]
        self.assertGreater(len(set(values)), len(values) - 4)  # 0 and O, 5 and S look different; only few pairs are alike
        self.assertEqual(in_digits("12.5"), [("1", False), ("2", True), ("5", False)])
        self.assertEqual(in_digits("12.5", 4, "right"), [(" ", False), ("1", False), ("2", False), ("5", True)])
        table = program_json(
            "glyphs", "seven-segments", "--text", "4.2", "--digits", "right-to-left", "--wiring", "g f e d c b a dp"
        )["table"]
        self.assertEqual(
            [(row["character"], row["value"]) for row in table], [("2", 0x6D), ("4.", 0xB3)]
        )  # MAX7219 order, Table 6


class BadInput(unittest.TestCase):
    def test_one_clear_error_each(self) -> None:
        (FOLDER / "empty.png").write_bytes(b"")
        (FOLDER / "no.png").write_bytes(b"not a picture at all")
        (FOLDER / "ragged.glyphs").write_text("glyph A\n.#.\n.##.\n")
        (FOLDER / "twice.glyphs").write_text("glyph A\n.#.\nglyph U+0041\n.#.\n")
        (FOLDER / "words.glyphs").write_text("glyph A\n.#.\nGATE\n")
        (FOLDER / "twice.bdf").write_text(write_bdf(Font("x", 1, 1, {65: Glyph(np.ones((1, 1), bool), 1)})).replace("ENDFONT", "")
                                          + "STARTCHAR B\nENCODING 65\nBBX 1 1 0 0\nBITMAP\n80\nENDCHAR\nENDFONT\n")  # fmt: skip
        buffer = io.BytesIO()
        Image.new("1", (8, 8)).save(buffer, "PNG")
        (FOLDER / "cut.png").write_bytes(buffer.getvalue()[:45])
        picture("in.png", 128, 64, False)
        done = program("glyphs", "twice.bdf", "--as", "hex", cwd=FOLDER)
        self.assertEqual((done.returncode, b"1 codes are drawn twice, the first is taken" in done.stderr), (0, True))
        for words, said in (
            (["pack", "empty.png", "--part", "ssd1306"], "it is not a picture"),
            (["pack", "no.png", "--part", "ssd1306"], "it is not a picture"),
            (["pack", "cut.png", "--part", "max7219", "--panel", "8x8"], "cannot be read as a picture"),
            (["pack", "absent.png", "--part", "ssd1306"], "no such picture"),
            (["pack", "in.png", "--part", "hd44780"], "glyphs FONT --part hd44780"),
            (["pack", "in.png", "--part", "pcf8574"], "drives no panel"),
            (["pack", "in.png"], "how are the pixels to lie?"),
            (["pack", "in.png", "--part", "ssd1306", "--frames", "7"], "has 1"),
            (["pack", "in.png", "--part", "ssd1306", "-o", "x.doc"], "say it with --as"),
            (["pack", "in.png", "--part", "ssd1306", "--lit-from", "a lot"], "no brightness"),
            (["pack", "in.png", "--part", "ssd1306", "-o", "/nowhere/x.c"], "/nowhere"),
            (["pack", "--text", "", "--part", "ssd1306"], "the text is empty"),
            (["pack", "--text", "A\tB", "--part", "ssd1306"], "has no U+0009"),
            (["pack", "--text", "GATE OPEN NOW", "--font", "8x8", "--scale", "4", "--part", "ssd1306"], "there is room for"),
            (["unpack", "0x12", "0x34", "--part", "ssd1306"], "too few bytes: 2, where 128x64"),
            (["unpack", "0x12", "0x34", "--layout", "first=low", "--size", "8x1"], "too many bytes"),
            (["unpack", "0x12", "--layout", "first=low", "--size", "0x8"], "no size for the picture"),
            (["unpack", "absent.bin", "--part", "ssd1306"], "cannot be read"),
            (["unpack", "0x12", "--guess"], "no picture of a likely size"),
            (["unpack", "0x12", "0x345", "--guess"], "more than a byte"),
            (["glyphs", "ragged.glyphs"], "ragged.glyphs:3: the row has 4 dots"),
            (["glyphs", "twice.glyphs"], "twice.glyphs:3: U+0041 is drawn twice"),
            (["glyphs", "words.glyphs"], "words.glyphs:3: 'GATE' is no row"),
            (["glyphs", "6x9"], "there is no font '6x9'"),
            (["glyphs", "5x7", "--chars", "Z-A"], "no span of characters"),
            (["glyphs", "in.png"], "needs --cell"),
            (["glyphs", "in.png", "--cell", "7x7"], "no whole cells"),
            (["glyphs", "8x8", "--part", "hd44780", "--chars", "A", "--as", "hush"], "a cell has 5x8 dots"),
            (["glyphs", "5x7", "--part", "hd44780", "--as", "hush"], "room for eight"),
            (["glyphs", "seven-segments", "--wiring", "a b c"], "no bit drives"),
            (["glyphs", "seven-segments", "--text", "WK"], "cannot show"),
        ):
            done = program(*words, cwd=FOLDER)
            self.assertEqual((done.returncode, done.stdout), (2, b""), (words, done.stderr))
            self.assertIn(said, done.stderr.decode(), words)

    def test_shapes_and_numbers_in_sequences(self) -> None:
        start = "memory-mode horizontal\n"
        for line, said in (
            ("rectangle 200,3 4x4", "lies outside the panel"), ("line 3,4", "two positions"), ("circle 3,4 big", "is no size"),
            ("polygon 1,1 2,2", "three positions"), ("sprite 0,0 absent.png", "no such picture"), ("point", "needs positions"),
            ("number 0,0 1234 width=3", "does not fit 3 places"), ("text 0,0 \"GATE\" font=6x9", "no font '6x9'"),
            ("rectangle 1,1 4x4 full=yes", "has no 'full'"), ("text 100,0 \"GATE OPEN\"", "runs over the panel's edge"),
            ("circle 9,9 4 turn=fast", "turn=fast"), ("line 0,0 9,9 colour=red", "colour=red"),
        ):  # fmt: skip
            (FOLDER / "bad.hush").write_text(start + line + "\n")
            done = program("build", "bad.hush", "--part", "ssd1306", cwd=FOLDER)
            self.assertEqual(done.returncode, 2, line)
            self.assertIn(said, done.stderr.decode(), line)
            self.assertIn("bad.hush:2", done.stderr.decode(), line)
        (FOLDER / "bad.hush").write_text('text 0,0 "ſ"\n')
        self.assertIn("ROM A00 has no 'ſ'", program("build", "bad.hush", "--part", "hd44780", cwd=FOLDER).stderr.decode())


if __name__ == "__main__":
    sys.exit(unittest.main())
