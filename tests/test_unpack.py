"""Bytes back to pictures and pictures to bytes as people ask for them: guesses, sheets, products in every form, what is refused."""

import json
import unittest

import numpy as np
from PIL import Image

from support import demo, program, program_json, scratch

FOLDER = scratch()


def text_of(*words: str) -> str:
    done = program(*words, cwd=FOLDER)
    assert done.returncode == 0, done.stderr
    return done.stdout.decode()


def rows_of(*words: str) -> list[str]:
    rows: list[str] = json.loads(text_of(*words, "--as", "json"))["rows"]
    return rows


class Guesses(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.tide = np.asarray(Image.open(demo() / "tide.pbm")) == 0  # PBM: 1 is black
        cls.rows = ["".join(".#"[bool(bit)] for bit in row) for row in ~cls.tide]
        for name, options in (("upright.bin", ["--part", "ssd1306"]), ("flat.bin", ["--layout", "first=low"])):
            done = program("pack", "tide.pbm", *options, "--as", "binary", "-o", str(FOLDER / name))
            assert done.returncode == 0, done.stderr

    def test_the_layout_of_a_picture_is_among_the_first_guesses(self) -> None:
        for name, options in (
            ("upright.bin", '--layout "stand=upright first=low" --size 128x64'),
            ("flat.bin", "--layout first=low --size 128x64"),
        ):
            found = program_json("unpack", name, "--guess", cwd=FOLDER)["guesses"]
            self.assertIn(options, [guess["options"].replace('"first=low"', "first=low") for guess in found[:3]], name)
            self.assertEqual(sorted((guess["order"] for guess in found), reverse=True), [guess["order"] for guess in found])

    def test_a_guess_that_is_chosen_is_the_layout_that_it_says(self) -> None:
        import shlex

        found = program_json("unpack", "upright.bin", "--guess", cwd=FOLDER)["guesses"]
        for number in (1, 2, len(found)):
            chosen = program("unpack", "upright.bin", "--guess", "--choose", str(number), "--as", "json", cwd=FOLDER)
            options = found[number - 1]["options"]
            self.assertIn(f"chosen: {options}", chosen.stderr.decode())
            self.assertEqual(json.loads(chosen.stdout)["rows"], rows_of("unpack", "upright.bin", *shlex.split(options)))

    def test_text_sheet_and_pictures(self) -> None:
        shown = text_of("unpack", "upright.bin", "--guess", "--picture", "sheet.png")
        self.assertRegex(shown, r"choose +size +order +as options")
        self.assertIn("--choose N takes one", shown)
        with Image.open(FOLDER / "sheet.png") as sheet:
            self.assertLessEqual((sheet.width, sheet.height), (1300, 820))
            self.assertGreater(len(sheet.convert("RGB").getcolors(1 << 24) or []), 3)
        text_of(
            "unpack",
            "upright.bin",
            "--guess",
            "--choose",
            "1",
            "--marks",
            "--picture",
            "marked.png",
            "--as",
            "picture",
            "-o",
            "plain.png",
        )
        with Image.open(FOLDER / "plain.png") as plain:
            self.assertEqual(plain.size, (128, 64))
            np.testing.assert_array_equal(np.asarray(plain.convert("L")) > 127, ~self.tide)
        with Image.open(FOLDER / "marked.png") as marked:
            self.assertEqual(((marked.width - 24) % 128, (marked.height - 24) % 64), (0, 0))

    def test_headers_widths_and_bytes_in_text(self) -> None:
        raw = (FOLDER / "upright.bin").read_bytes()
        (FOLDER / "headed.bin").write_bytes(b"\x01\x02\x03\x04" + raw)
        layout = ["--layout", "stand=upright first=low"]
        self.assertEqual(rows_of("unpack", "headed.bin", "--skip", "4", *layout, "--size", "128"), self.rows)
        (FOLDER / "bytes.txt").write_text(", ".join(f"0x{byte:02x}" for byte in raw))
        self.assertEqual(rows_of("unpack", "bytes.txt", *layout, "--size", "128x64"), self.rows)
        self.assertEqual(rows_of("unpack", "bytes.txt", "--part", "ssd1306"), self.rows)
        viewed = text_of("unpack", "bytes.txt", "--part", "ssd1306")
        self.assertIn("128x64 pixels; 1 bit a pixel; bytes stand upright", viewed)

    def test_refusals(self) -> None:
        (FOLDER / "nothing.bin").write_bytes(b"")
        (FOLDER / "noise.bin").write_bytes(bytes(range(128, 256)) * 3)
        for words, said in (
            (["upright.bin", "--skip", "5000", "--part", "ssd1306"], "--skip 5000 of 1024 bytes"),
            (["upright.bin", "--choose", "1", "--part", "ssd1306"], "--choose picks one of the guesses"),
            (["upright.bin", "--guess", "--choose", "900"], "--choose 900"),
            (["upright.bin", "--guess", "--part", "ssd1306"], "a guess and a layout"),
            (["upright.bin", "--guess", "--picture", "sheet.gif"], "the sheet is a PNG"),
            (["upright.bin", "--layout", "first=low"], "how large is the picture?"),
            (["upright.bin", "--layout", "first=low", "--size", "96"], "no whole picture 96 pixels wide"),
            (["upright.bin", "--part", "ssd1306", "--picture", "x.jpeg.doc"], "end its name in .png"),
            (["upright.bin", "--part", "ssd1306", "-o", "x.xyz", "--as", "picture"], "cannot be written so"),
            (["nothing.bin", "--part", "ssd1306"], "it is empty"),
            (["noise.bin", "--read", "text", "--part", "ssd1306"], "it is not text"),
        ):
            done = program("unpack", *words, cwd=FOLDER)
            self.assertEqual(done.returncode, 2, words)
            self.assertIn(said, done.stderr.decode(), words)


class Packing(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        ramp = np.tile(np.arange(256, dtype=np.uint8), (16, 1))
        Image.fromarray(ramp).save(FOLDER / "ramp.png")
        colours = np.stack([ramp, ramp[:, ::-1], np.full_like(ramp, 128)], axis=2)
        Image.fromarray(colours).save(FOLDER / "colours.png")
        frames = [Image.fromarray((np.indices((8, 16))[1] // 4 % 4 == k).astype(np.uint8) * 255) for k in range(4)]
        frames[0].save(FOLDER / "moving.gif", save_all=True, append_images=frames[1:], duration=80)

    def packed(self, *words: str) -> bytes:
        done = program("pack", *words, "--as", "binary", cwd=FOLDER)
        assert done.returncode == 0, done.stderr
        return done.stdout

    def test_shades_keep_the_brightness(self) -> None:
        # Of a ramp from dark to bright half the dots are lit, evenly spread or not; plain steps cut it in the middle.
        for how in ("plain", "ordered", "diffuse"):
            rows = np.unpackbits(
                np.frombuffer(self.packed("ramp.png", "--layout", "first=high", "--shades", how), np.uint8)
            ).reshape(16, 256)
            self.assertAlmostEqual(float(rows.mean()), 0.5, delta=0.02, msg=how)
            bright = rows.reshape(16, 8, 32).mean(axis=(0, 2))
            wanted = (np.arange(8) >= 4).astype(float) if how == "plain" else (np.arange(8) + 0.5) / 8
            np.testing.assert_allclose(bright, wanted, atol=0.08, err_msg=how)
        for bits, how in ((2, "plain"), (4, "diffuse"), (4, "ordered")):
            raw = np.frombuffer(
                self.packed("ramp.png", "--layout", f"bits={bits} colours=grey first=high", "--shades", how), np.uint8
            )
            pixels = np.stack([raw >> shift & ((1 << bits) - 1) for shift in range(8 - bits, -1, -bits)], axis=1).reshape(16, 256)
            want = np.arange(256) / 255 * ((1 << bits) - 1)
            self.assertLess(float(np.abs(pixels.mean(axis=0) - want).max()), 0.55, (bits, how))

    def test_negative_palette_and_colours(self) -> None:
        plain = np.frombuffer(self.packed("ramp.png", "--layout", "first=high"), np.uint8)
        np.testing.assert_array_equal(
            np.frombuffer(self.packed("ramp.png", "--layout", "first=high", "--negative"), np.uint8), ~plain
        )
        grey = ["--layout", "bits=4 colours=grey first=high"]
        index = np.frombuffer(self.packed("ramp.png", *grey, "--palette", "0x000000,0x808080,0xFFFFFF"), np.uint8).reshape(
            16, 128
        )
        self.assertEqual([int(index[0, k]) >> 4 for k in (0, 64, 127)], [0, 1, 2])
        raw = np.frombuffer(self.packed("colours.png", "--layout", "bits=16 colours=rgb"), ">u2").reshape(16, 256)
        self.assertEqual((int(raw[3, 255]) >> 11, int(raw[3, 255]) >> 5 & 63, int(raw[3, 255]) & 31), (31, 0, 16))
        ordered = np.frombuffer(
            self.packed("colours.png", "--layout", "bits=16 colours=rgb", "--shades", "ordered"), ">u2"
        ).reshape(16, 256)
        red = (ordered >> 11).astype(float).mean(axis=0) * 255 / 31
        self.assertLess(float(np.abs(red - np.arange(256)).max()), 9)

    def test_frames_and_motion(self) -> None:
        each = 16 * 8 // 8
        whole = self.packed("moving.gif", "--layout", "first=high", "--frames", "all")
        self.assertEqual(len(whole), 4 * each)
        for number in range(4):
            columns = np.unpackbits(np.frombuffer(whole[number * each : (number + 1) * each], np.uint8)).reshape(8, 16)
            np.testing.assert_array_equal(columns[0], np.arange(16) // 4 == number)
        self.assertEqual(self.packed("moving.gif", "--layout", "first=high", "--frames", "1-2"), whole[each : 3 * each])
        hush = text_of("pack", "moving.gif", "--layout", "first=high", "--frames", "0-1", "--as", "hush", "--every", "250ms")
        self.assertEqual([line.split()[0] for line in hush.splitlines() if not line.startswith("#")], ["data", "wait", "data"])
        self.assertIn("wait 250ms", hush)
        text_of(
            "pack",
            "moving.gif",
            "--layout",
            "first=high",
            "--frames",
            "all",
            "--picture",
            "all.png",
            "--marks",
            "-o",
            "x.bin",
            "--as",
            "binary",
        )
        self.assertEqual(len(list(FOLDER.glob("all-000?.png"))), 4)
        slid = self.packed("--text", "GATE", "--scroll", "left", "--size", "8x8", "--layout", "first=high", "--by", "8")
        first = np.unpackbits(np.frombuffer(slid[:8], np.uint8)).reshape(8, 8)
        self.assertFalse(first.any())  # the text begins outside the window
        self.assertTrue(np.frombuffer(slid, np.uint8).any())

    def test_refusals(self) -> None:
        for words, said in (
            ([], "a picture, or a text"),
            (["ramp.png", "--text", "GATE", "--part", "ssd1306"], "a picture, or a text"),
            (["--text", "GATE", "--scale", "0", "--part", "ssd1306"], "--scale 0"),
            (["moving.gif", "--frames", "all", "--scroll", "left", "--layout", "first=high"], "a moving picture that is moved"),
            (["--text", "GATE", "--scroll", "left", "--layout", "first=high"], "how large is the window?"),
            (["--text", "SKERRY HAVEN", "--size", "20x8", "--layout", "first=high"], "is 71 pixels wide, there is room for 20"),
            (["moving.gif", "--frames", "9", "--layout", "first=high"], "has 4"),
            (["moving.gif", "--frames", "3-1", "--layout", "first=high"], "frames 3-1"),
            (["moving.gif", "--frames", "most", "--layout", "first=high"], "names no frames"),
            (["colours.png", "--layout", "bits=16 colours=rgb", "--shades", "diffuse"], "at most 256 colours"),
            (["ramp.png", "--layout", "bits=4 colours=grey", "--palette", "black"], "is no colour"),
            (["ramp.png", "--layout", "bits=16 colours=rgb", "--palette", "0x000000,0xFFFFFF"], "2 colours for 16 bits"),
            (["ramp.png", "--layout", "first=high", "--as", "hush", "--every", "-1s"], "--every"),
            (["ramp.png", "--layout", "first=high", "--picture", "x.tiff"], "a picture is a PNG"),
        ):
            done = program("pack", *words, cwd=FOLDER)
            self.assertEqual(done.returncode, 2, words)
            self.assertIn(said, done.stderr.decode(), words)


class Fonts(unittest.TestCase):
    def test_views_records_and_pictures(self) -> None:
        shown = text_of("glyphs", "5x7", "--chars", "A-C")
        self.assertIn("3 glyphs, 5x7: U+0041-U+0043", shown)
        self.assertIn("bytes stand upright", shown)
        record = json.loads(text_of("glyphs", "5x7", "--chars", "A-C", "--as", "json"))
        self.assertEqual([glyph["character"] for glyph in record["glyphs"]], ["A", "B", "C"])
        listed = text_of("glyphs", "5x7", "--chars", "A-C", "--as", "hex")
        for glyph in record["glyphs"]:
            self.assertIn(" ".join(f"{byte:02X}" for byte in glyph["bytes"]), listed.upper().replace("0X", "").replace(",", ""))
        text_of("glyphs", "5x7", "--chars", "A-C", "--picture", "font.png", "--marks", "--as", "json", "-o", "font.json")
        with Image.open(FOLDER / "font.png") as sheet:
            self.assertGreater(sheet.width, 15)

    def test_refusals(self) -> None:
        for words, said in (
            (["5x7", "--picture", "x.gif"], "a picture of a font is a PNG"),
            (["seven-segments", "--as", "bdf"], "segments are no bdf"),
            (["seven-segments", "--text", "4.20", "--places", "99"], "--places 99"),
            (["absent.bdf"], "absent.bdf"),
        ):
            done = program("glyphs", *words, cwd=FOLDER)
            self.assertEqual(done.returncode, 2, words)
            self.assertIn(said, done.stderr.decode(), words)


if __name__ == "__main__":
    unittest.main()
