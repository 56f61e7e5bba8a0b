"""Every mistake in a rig or a sequence is told by its key, its reason and what to do; every demo rig is read back as it is written."""

import unittest
from pathlib import Path

from hushed_wire.errors import HushedError
from hushed_wire.part import load
from hushed_wire.rig import load_rig, rig_toml
from hushed_wire.sequence import Target, expand, parse_file, parse_text
from support import demo, program, scratch

FOLDER = scratch()
PUMP = """
[[bus]]
name = "pumps"
kind = "i2c"
clock = "100kHz"
driver = { supply = "5V", pull_up = "4.7kOhm" }
lines = { scl = "SCL", sda = "SDA" }

[[bridge]]
name = "adapter"
on = "pumps"
part = "pcf8574"
address = 0x23
drives = { rs = "p0", rw = "p1", e = "p2", backlight = "p3", d4 = "p4", d5 = "p5", d6 = "p6", d7 = "p7" }

[[device]]
name = "pump-lcd"
on = "adapter"
part = "hd44780"
panel = "20x4"
"""
ENGINE = """
[[bus]]
name = "engine"
kind = "parallel"
lines = { d0 = "D0", d1 = "D1", d2 = "D2", d3 = "D3", d4 = "D4", d5 = "D5", d6 = "D6", d7 = "D7", rs = "RS", e = "E", cs1 = "A", cs2 = "B" }

[[device]]
name = "engine-lcd"
on = "engine"
part = "ks0108"
panel = "128x64"
"""
GATE = """
[[bus]]
name = "gate"
kind = "matrix"
lines = { row0 = "R0", row1 = "R1", column0 = "C0", column1 = "C1" }

[[device]]
name = "signal"
on = "gate"
part = "led-matrix"
"""
LEVEL = """
[[bus]]
name = "level"
kind = "spi"
lines = { sck = "SCK", mosi = "MOSI", cs = "CS" }

[[device]]
name = "wheelhouse"
on = "level"
part = "max7219"
panel = "8-digits"
"""
# Of each: the rig, what is exchanged in it for what, the error's key and reason, and words of its remedy.
MISTAKES = (
    (PUMP, 'name = "adapter"', 'name = "pumps"', "bridge 'pumps': the name is taken already", "a name of its own"),
    (PUMP, 'on = "adapter"', 'on = "adaptor"', "device 'pump-lcd': on: there is no bus or bridge 'adaptor'", "adapter"),
    (PUMP, 'on = "pumps"', 'on = "adapter"', "bridge 'adapter': on: there is no bus or other bridge 'adapter'", ""),
    (PUMP, "address = 0x23", "", "bridge 'adapter': address: is missing", "0x20, 0x21"),
    (PUMP, "address = 0x23", "address = 0x38", "pcf8574 cannot have 0x38", "0x27"),
    (PUMP, '"pcf8574"', '"pcf8579"', "bridge 'adapter': part: ", "pcf8574"),
    (PUMP, '"pcf8574"\naddress', '"ssd1306"\naddress', "ssd1306 is no bridge", "expanders and shift registers"),
    (PUMP, 'd7 = "p7"', 'd7 = "p8"', "bridge 'adapter': drives.d7: pcf8574 has no output 'p8'", "p7"),
    (PUMP, 'd7 = "p7"', 'd7 = "p6"', "drives.d7: output 'p6' drives 'd6' already", "an output of its own"),
    (PUMP, 'e = "p2"', 'ee = "p2"', "drives.ee: a bus of kind", "e"),
    (PUMP, 'panel = "20x4"', 'panel = "20x3"', "device 'pump-lcd'", "20x4"),
    (PUMP, 'part = "hd44780"\npanel = "20x4"', 'part = "ssd1306"', "ssd1306 cannot hang on a bus of kind parallel", "i2c"),
    (PUMP, 'clock = "100kHz"', 'clock = "100 parsec"', "'100 parsec' is not a frequency", "like 400kHz"),
    (PUMP, 'supply = "5V"', 'supply = "5kHz"', "'5kHz' is in Hz, not V", "like 3.3V"),
    (PUMP, 'pull_up = "4.7kOhm"', 'longest_write = 1', "driver.longest_write: a control byte", "2 or more"),
    (PUMP, 'sda = "SDA"', 'sdb = "SDA"', "bus 'pumps': lines.sdb: a bus of kind i2c has no such role", "sda"),
    (PUMP, ', sda = "SDA"', "", "bus 'pumps': lines: the role 'sda' is missing", 'add sda = "name of the line'),
    (PUMP, 'sda = "SDA"', 'sda = "SCL"', "one line plays two roles", "a line of its own"),
    (PUMP, 'panel = "20x4"', 'panel = { width = 20, height = 4, cells = [[0]] }', "'cells' has to name the addresses of each row", "ready"),
    (PUMP, 'panel = "20x4"', 'panel = { ready = "20x4", rotate = 90 }', "'rotate' plays no role on a hd44780", "docs/rig.md"),
    (LEVEL, 'panel = "8-digits"', 'panel = { ready = "8-digits", rotate = 45 }', "panel: rotate = 45", "0, 90, 180 or 270"),
    (LEVEL, 'panel = "8-digits"', 'panel = { ready = "8-digits", segment = ["a"] }', "'segment' is nothing that a panel has", "segments"),
    (PUMP, 'panel = "20x4"', 'panel = { ready = "20x4", glass = "thick" }', "panel: ", "docs/rig.md"),
    (PUMP, 'panel = "20x4"', 'panel = "20x4"\ncurrent = "5V"', "'5V' is in V, not A", "like 20mA"),
    (PUMP, 'panel = "20x4"', 'panel = "20x4"\nselect = "cs7"', "device 'pump-lcd': select: 'adapter' has no role 'cs7'", ""),
    (ENGINE, 'e = "E", ', "", "the role 'e' (or 'wr') is missing", 'add e = "name of the line'),
    (ENGINE, 'd3 = "D3", ', "", "bus 'engine': lines: the role 'd3' is missing", "add d3"),
    (PUMP, 'd6 = "p6", ', "", "bridge 'adapter': drives: the role 'd6' is missing", "add d6"),
    (ENGINE, '"128x64"', "{ width = 300, height = 64 }", "300x64 at column 0, row 0 does not fit into the memory of ks0108", "memory has"),
    (GATE, 'row0 = "R0", row1 = "R1", ', "", "there are no rows (row0 … or digit0 …)", "name them"),
    (GATE, ', column0 = "C0", column1 = "C1"', "", "there are no columns (column0 … or segment_a …)", "name them"),
    (LEVEL, 'panel = "8-digits"', 'panel = "8-digits"\nposition = 99', "position: 99 is no place in a chain", "at most 63"),
    (LEVEL, '[[bus]]\nname = "level"\nkind = "spi"\nlines = { sck = "SCK", mosi = "MOSI", cs = "CS" }', "", "bus: the rig has none", "add a [[bus]]"),
    (LEVEL, 'kind = "spi"', 'kind = "sbi"', "bus", "docs/rig.md"),
    (LEVEL, 'kind = "spi"', 'kind = "spi"\nmodes = 3', "modes", "'mode'"),
    (LEVEL, "[[device]]", "[[device]", "not TOML", "at that place"),
)  # fmt: skip
RING = (
    PUMP
    + """
[[bridge]]
name = "one"
on = "two"
part = "74hc595"
drives = { clock = "q0", data = "q1", latch = "q2" }

[[bridge]]
name = "two"
on = "one"
part = "74hc595"
drives = { clock = "q0", data = "q1", latch = "q2" }
"""
)


class Rigs(unittest.TestCase):
    def refused(self, text: str) -> HushedError:
        (FOLDER / "rig.toml").write_text(text)
        with self.assertRaises(HushedError, msg=text) as caught:
            load_rig(FOLDER / "rig.toml")
        return caught.exception

    def test_each_mistake_is_told_by_key_reason_and_remedy(self) -> None:
        for text in (PUMP, ENGINE, GATE, LEVEL):
            (FOLDER / "rig.toml").write_text(text)
            load_rig(FOLDER / "rig.toml")
        for text, right, wrong, said, remedy in MISTAKES:
            with self.subTest(wrong):
                self.assertEqual(text.count(right), 1, right)
                error = self.refused(text.replace(right, wrong))
                self.assertIn(said, error.what)
                self.assertIn(remedy, error.remedy)
                self.assertIn("rig.toml", error.where)
        self.assertIn("hang on one another in a ring", self.refused(RING).what)
        one = RING.replace('on = "two"', 'count = 0\non = "pumps"')
        self.assertIn("a chain of 0", self.refused(one).what)

    def test_what_cannot_be_read_says_why(self) -> None:
        (FOLDER / "rig.toml").write_bytes(b"\xff\xfe\x00title")
        for path, said in (
            (FOLDER / "rig.toml", "cannot be read as text"),
            (FOLDER / "absent.toml", "no such file"),
            (FOLDER, "cannot be read"),
        ):
            with self.assertRaises(HushedError) as caught:
                load_rig(path)
            self.assertIn(said, caught.exception.what)
        done = program("wiring", str(FOLDER / "rig.toml"))
        self.assertEqual((done.returncode, done.stdout), (2, b""))

    def test_every_demo_rig_is_read_back_as_it_is_written(self) -> None:
        for path in sorted(demo().glob("*.toml")):
            rig = load_rig(path)
            (FOLDER / "again.toml").write_text(rig_toml(rig))
            self.assertEqual(load_rig(FOLDER / "again.toml"), rig, path.name)

    def test_a_sequence_drives_one_bus(self) -> None:
        two = LEVEL + PUMP
        (FOLDER / "two.toml").write_text(two)
        rig = load_rig(FOLDER / "two.toml")
        targets = [rig.target(device) for device in rig.device]
        steps = expand(parse_text('device wheelhouse\ntext 0,0 "4.20"\ndevice pump-lcd\nclear\n', "s.hush"), targets, FOLDER)
        with self.assertRaises(HushedError) as caught:
            rig.bus_for(steps)
        self.assertIn("what came before was on 'level'", str(caught.exception))
        self.assertEqual(caught.exception.where, "s.hush:4")
        with self.assertRaises(HushedError):
            rig.bus_for([])


class Sequences(unittest.TestCase):
    TARGET = Target("tide", load("ssd1306"), load("ssd1306").panel("128x64"), "i2c-control-byte")

    def test_each_mistake_names_its_line(self) -> None:
        for line, said in (
            ("wait", "'wait' needs one time"), ("wait -3ms", "wait"), ("wait 2h", ""), ("wait 7200s", "waits run from 0 s to 3600 s"),
            ("wait 5 parsec", ""), ("bytes", ""), ("bytes 0x1FF", "0x1FF"), ("bytes bcd:12x", "bcd"), ("data zz", "zz"),
            ("include", "'include' needs one file"), ("include absent.hush", "absent.hush"), ("picture", "'picture' needs one file"),
            ("contrast", "contrast"), ("contrast 999", "999"), ("contrast level=3 level=4", ""), ("contrast shine=3", "shine"),
            ("kontrast 3", "contrast"), ("device gate", "gate"), ("repeat 0", "repeat"), ("repeat many", "repeat"),
            ("text 0,0", ""), ('text 0,0 "GATE', ""), ("text a,b \"GATE\"", "position"), ("fill grey", "fill"), ("reset maybe", ""),
            ("counter", ""), ("counter level from=9 to=x", ""), ("count level", "level"), ("glyph 0 0x1F", "glyph"), ("number 0,0 x", ""),
        ):  # fmt: skip
            with self.subTest(line):
                with self.assertRaises(HushedError) as caught:
                    expand(parse_text(f"display off\n{line}\n", "s.hush", FOLDER), [self.TARGET], FOLDER)
                self.assertIn(said, str(caught.exception))
                self.assertIn("s.hush:2", caught.exception.where, str(caught.exception))
                self.assertTrue(caught.exception.remedy)

    def test_what_is_nested_too_deeply(self) -> None:
        folder = scratch()
        (folder / "deep.hush").write_text("repeat 1\n" * 400 + "display on\n" + "end\n" * 400)
        (folder / "deep.toml").write_text("x = " + "[" * 3000 + "]" * 3000)
        for words, said in (
            (("build", "deep.hush", "--part", "ssd1306"), "deep.hush:51: more than 50 'repeat' within one another"),
            (("wiring", "deep.toml"), "deep.toml: not TOML"),
            (("catalog", "ssd1306", "--catalog", "."), "deep.toml: not TOML"),
        ):
            done = program(*words, cwd=folder)
            self.assertEqual(done.returncode, 2)
            self.assertIn(said, done.stderr.decode())

    def test_files_that_include_one_another(self) -> None:
        (FOLDER / "a.hush").write_text("display off\ninclude b.hush\n")
        (FOLDER / "b.hush").write_text("include a.hush\n")
        (FOLDER / "c.hush").write_bytes(b"display \xff\xfe off\n")
        for name, said in (("a.hush", "include"), ("c.hush", "text"), ("absent.hush", "no such"), (".", "")):
            with self.assertRaises(HushedError, msg=name) as caught:
                parse_file(FOLDER / name)
            self.assertIn(said, str(caught.exception), name)
        with self.assertRaises(HushedError) as caught:
            parse_text("include a.hush\n", "standard input", None)
        self.assertIn("nothing can be included here", str(caught.exception))

    def test_numbers_in_every_way(self) -> None:
        plain = expand(parse_text("contrast 9\nbytes 0x81 0b1001 011 bcd:42\n", "s.hush"), [self.TARGET], Path())
        self.assertEqual([send.raw.hex() for step in plain for send in step.sends], ["8109", "81090b42"])


if __name__ == "__main__":
    unittest.main()
