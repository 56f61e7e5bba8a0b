"""Several LED drivers as one panel: chains of them, modules that are turned, digits with a colon or with fourteen segments.

The captures are made by the second maker's bus masters, and what must be seen is worked out here, dot by dot.
"""

from __future__ import annotations

import random
import tempfile
import unittest
from pathlib import Path

from maker.masters import I2c, Spi
from maker.wave import Wave
from maker.writers import vcd
from support import program, program_json

RIG = """
[[bus]]
name = "wires"
kind = "spi"
lines = {{ sck = "CLK", mosi = "DIN", cs = "LOAD" }}

[[device]]
name = "sign"
on = "wires"
part = "max7219"
panel = {panel}
"""
I2C_RIG = """
[[bus]]
name = "wires"
kind = "i2c"
lines = {{ scl = "SCL", sda = "SDA" }}

[[device]]
name = "levels"
on = "wires"
part = "ht16k33"
address = 0x70
panel = "{panel}"
"""


def chain(path: Path, seed: int, drivers: int, together: bool) -> list[list[int]]:
    """A capture of a chain that is set up and shows random rows; together: a load has a word for each, else no-ops for all but one.

    Returns the byte of each driver's each digit register, the driver nearest to the master first.
    """
    chance = random.Random(seed)
    rows = [[chance.randrange(256) for _ in range(8)] for _ in range(drivers)]
    wave = Wave(seed, CLK=0, DIN=0, LOAD=1)
    spi = Spi(wave, 2e6, sck="CLK", mosi="DIN", cs="LOAD")
    wave.wait(1e5)
    for register, value in ((0x0F, 0), (0x0C, 0), (0x0B, 7), (0x09, 0), (0x0A, 4)):
        spi.write([register, value] * drivers)
    for digit in range(8):
        if together:
            spi.write([byte for driver in range(drivers - 1, -1, -1) for byte in (digit + 1, rows[driver][digit])])
        else:
            for driver in range(drivers):
                words = [[0, 0]] * drivers
                words[drivers - 1 - driver] = [digit + 1, rows[driver][digit]]
                spi.write([byte for word in words for byte in word])
    spi.write([0x0C, 1] * drivers)
    wave.wait(1e5)
    vcd(wave, path)
    return rows


def seen(rows: list[list[int]], turn: int) -> list[str]:
    """The dots of a chain whose nearest driver is on the right, each module turned clockwise."""
    out = []
    for y in range(8):
        line = ""
        for module in reversed(rows):
            for x in range(8):
                row, column = {0: (y, x), 90: (7 - x, y), 180: (7 - y, 7 - x), 270: (x, 7 - y)}[turn]
                line += ".#"[module[row] >> (7 - column) & 1]
        out.append(line)
    return out


class Chains(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def rig(self, panel: str) -> list[str]:
        (self.folder / "rig.toml").write_text(RIG.format(panel=panel))
        return ["--rig", "rig.toml"]

    def test_a_chain_is_one_panel(self) -> None:
        for drivers, panel, turn in (
            (4, '"32x8"', 0), (4, '"32x8-turned"', 90), (8, '"64x8"', 0), (2, '{ ready = "16x8", module_turn = 270 }', 270),
        ):  # fmt: skip
            for together in (True, False):
                with self.subTest(panel=panel, together=together):
                    rows = chain(self.folder / "sign.vcd", drivers, drivers, together)
                    options = self.rig(panel)
                    shown = program_json("screen", "sign.vcd", *options, cwd=self.folder)["screens"][-1]
                    self.assertTrue(shown["lit"])
                    self.assertEqual(shown["rows"], seen(rows, turn))
                    done = program("diagnose", "sign.vcd", *options, cwd=self.folder)
                    self.assertEqual(done.returncode, 0, done.stdout)

    def test_a_chain_without_a_rig_is_told_as_one(self) -> None:
        for drivers in (2, 3, 4):
            with self.subTest(drivers=drivers):
                rows = chain(self.folder / "sign.vcd", 20 + drivers, drivers, drivers % 2 == 0)
                shown = program_json("screen", "sign.vcd", "--save-rig", "found.toml", cwd=self.folder)["screens"][-1]
                self.assertEqual(shown["rows"], seen(rows, 0))
                again = program_json("screen", "sign.vcd", "--rig", "found.toml", cwd=self.folder)["screens"][-1]
                self.assertEqual(again["rows"], shown["rows"])
                told = program("decode", "sign.vcd", cwd=self.folder).stdout.decode()
                self.assertIn(f"for a chain of {drivers}", told)
                self.assertIn("each chip: scan-limit 8", told)

    def test_what_is_made_for_a_chain_reaches_the_right_driver(self) -> None:
        options = self.rig('"32x8-turned"')
        lines = ["scan-limit 8", "decode-mode none", "display-test off", "intensity 3", "fill off", "point 9,1", "shutdown off"]
        (self.folder / "sign.hush").write_text("\n".join(lines))
        listed = program("build", "sign.hush", *options, "--as", "hex", cwd=self.folder).stdout.decode().split("\n")
        # Column 9 is in the second module from the left, so in driver 2 of 0 to 3; turned clockwise it is the seventh row's second dot.
        self.assertIn("00 00 07 40 00 00 00 00", listed)
        self.assertIn("0B 07 0B 07 0B 07 0B 07", listed)
        cell = program("catalog", "max7219", "--panel", "32x8-turned", "--cell", "9,1", cwd=self.folder).stdout.decode()
        self.assertIn("driver 2 of the chain, byte 6, bit 6", cell)
        self.assertIn("00 00 07 40 00 00 00 00", cell)
        dry = program_json("send", "sign.hush", *options, "--dry-run", cwd=self.folder)["steps"]
        self.assertIn([0, 0, 7, 0x40, 0, 0, 0, 0], [sent["bytes"] for step in dry for sent in step["transactions"]])
        done = program("rehearse", "sign.hush", *options, "-o", "made.vcd", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        shown = program_json("screen", "made.vcd", *options, cwd=self.folder)["screens"][-1]["rows"]
        self.assertEqual([(y, x) for y, row in enumerate(shown) for x, dot in enumerate(row) if dot == "#"], [(1, 9)])
        done = program("send", "sign.hush", *options, "--link", "desk", "--picture", "desk.png", cwd=self.folder)
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_digits_with_a_colon_and_fourteen_segments(self) -> None:
        for panel, raw, text in (
            # 1 2 : 3. 4 as b c, a b d e g, the colon, a b c d g dp, b c f g
            ("4-digits-colon", {0: 0x06, 2: 0x5B, 4: 0x02, 6: 0xCF, 8: 0x66}, "12:3.4"),
            ("4-digits-colon", {0: 0x06, 2: 0x5B, 4: 0x00, 6: 0x4F, 8: 0x66}, "1234"),
            # G a c d e f g2; A a b c e f g1 g2; T a j m; E a d e f g1
            ("4-digits-14", {0: 0xBD, 2: 0xF7, 4: 0x01, 5: 0x12, 6: 0x79}, "GATE"),
        ):
            with self.subTest(panel=panel, text=text):
                wave = Wave(3, SCL=1, SDA=1)
                bus = I2c(wave, 390e3, (0x70,))
                wave.wait(1e5)
                for command in (0x21, 0xA0, 0xEF):
                    bus.write(0x70, [command])
                bus.write(0x70, [0, *(raw.get(at, 0) for at in range(16))])
                bus.write(0x70, [0x81])
                wave.wait(1e5)
                vcd(wave, self.folder / "levels.vcd")
                (self.folder / "levels.toml").write_text(I2C_RIG.format(panel=panel))
                shown = program_json("screen", "levels.vcd", "--rig", "levels.toml", cwd=self.folder)["screens"][-1]
                self.assertEqual(shown["lines"], [text])
                (self.folder / "levels.hush").write_text(f'text 0,0 "{text}"\n')
                built = program("build", "levels.hush", "--rig", "levels.toml", "--as", "hex", cwd=self.folder).stdout.decode()
                sent = {}
                for line in built.strip().split("\n"):
                    kind, *values = line.split()
                    if kind == "command":
                        at = int(values[0], 16)
                    else:
                        sent |= {at + k: int(value, 16) for k, value in enumerate(values)}
                self.assertEqual(
                    {at: value for at, value in sent.items() if value}, {at: value for at, value in raw.items() if value}
                )
        (self.folder / "levels.toml").write_text(I2C_RIG.format(panel="4-digits-colon"))
        (self.folder / "levels.hush").write_text('text 0,0 "1:23"\n')
        done = program("build", "levels.hush", "--rig", "levels.toml", cwd=self.folder)
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"there is no colon behind digit 1", done.stderr)


if __name__ == "__main__":
    unittest.main()
