"""Wiring on paper: each fault of a rig is found by its code, and a sound rig is left alone."""

import json
import unittest
from pathlib import Path

import numpy as np

from hushed_wire.diagnosis.rig import examine
from hushed_wire.errors import HushedError
from hushed_wire.finding import codes
from hushed_wire.rig import load_rig
from hushed_wire.rig.pinmap import load_pin_map
from hushed_wire.trace import read_capture
from support import demo, program, program_json, scratch

RIG = (demo() / "front-desk.toml").read_text()
SECOND = '\n[[device]]\nname = "spare"\non = "front"\npart = "ssd1306"\naddress = 0x3D\npanel = "128x32"\n'
# rule: (what is changed in the sound rig, what is added, code, words of the finding)
FAULTS = [
    ('pins = { scl = "GPIO3", sda = "GPIO2" }', 'pins = { scl = "GPIO3" }', "", "rig.missing-role", "no SDA among its pins"),
    ('lines = { scl = "SCL", sda = "SDA" }', 'lines = { scl = "SCL" }', "", "rig.missing-role", "no SDA among its lines"),
    ('sda = "GPIO2"', 'sda = "pin 5"', "", "rig.doubled-pin", r"pin 5 \(GPIO3\) is both SCL of 'front' and SDA"),
    ("", "", SECOND, "rig.address-clash", "'tide' and 'spare' are both at 0x3d"),
    ('supply = "3.3V", pull_up', 'supply = "1.8V", pull_up', "", "rig.level-mismatch", r"takes 2\.64 V and more"),
    ('supply = "3.3V", pull_up', 'supply = "5V", pull_up', "", "rig.over-voltage", r"take 3\.6 V"),
    ('pins = { scl = "GPIO3", sda = "GPIO2" }', "pins = { scl = 5, sda = 3 }", "", "rig.pin-scheme", "fits header positions"),
    ("2.2kOhm", "470Ohm", "", "rig.pull-up", r"too low: the drivers have to sink 7\.78 mA"),
    ("80pF", "360pF", "", "rig.pull-up", r"pull-ups of 990 Ohm are too high: a rise takes 302 ns"),
    ("80pF", "2nF", "", "rig.pull-up", "too high"),
    ("400kHz", "450kHz", "", "rig.clock-limit", "allows 400 kHz"),
    ("", "", 'plugged = { VCC = "pin 1", SCL = "pin 5", SDA = "pin 3" }\n', "rig.open-supply", "no GND"),
    ('scl = "GPIO3"', 'scl = "GPIO17"', "", "rig.pin-function", r"pin 11 \(GPIO17\) has no hardware I2C SCL"),
    ('scl = "GPIO3"', 'scl = "GND"', "", "rig.pin-function", "no signal pin"),
    ('scl = "GPIO3"', 'scl = "GPIO99"', "", "rig.pin-function", "has no GPIO 99"),
    (
        '"80pF", ',
        '"80pF", supply_current = "50mA", ',
        'current = "60mA"\n',
        "rig.overcurrent",
        "draw 60 mA, their supply gives 50 mA",
    ),
    (
        'sda = "GPIO2" }\n',
        'sda = "GPIO2" }\nthrough = { scl = "inverting transistor" }\n',
        "",
        "rig.level-mismatch",
        "inverting shifter",
    ),
]


def variant(old: str, new: str, more: str) -> Path:
    assert old in RIG
    path = demo() / "variant.toml"
    path.write_text((RIG.replace(old, new, 1) if old else RIG) + more)
    return path


class Rules(unittest.TestCase):
    def test_a_sound_rig_has_no_finding(self) -> None:
        done = program_json("wiring", "front-desk.toml")
        self.assertEqual(done["findings"], [])
        self.assertEqual([wire["driver"] for wire in done["wires"][:2]], ["pin 5 (GPIO3)", "pin 3 (GPIO2)"])
        self.assertEqual((done["probe"][0]["lines"], done["probe"][0]["rate"]), (["SCL", "SDA"], 4e6))
        self.assertIn("START", done["probe"][0]["trigger"])

    def test_each_fault_is_found_by_its_code(self) -> None:
        seen = set()
        for old, new, more, code, said in FAULTS:
            path = variant(old, new, more)
            found = examine(load_rig(path, lenient=True), demo()).findings
            if code:
                own = [finding for finding in found if finding.code == code]
                self.assertTrue(own, (old, new, more, [finding.code for finding in found]))
                self.assertRegex("; ".join(finding.summary for finding in own), said)
                self.assertTrue(own[0].remedy and own[0].evidence)
                seen.add(code)
        self.assertEqual(seen, {code for code in codes() if code.startswith("rig.")})

    def test_a_module_that_sits_the_wrong_way_round(self) -> None:
        right = 'plugged = { VCC = "pin 1", SDA = "pin 3", SCL = "pin 5", GND = "pin 9" }\n'
        wrong = 'plugged = { GND = "pin 1", SCL = "pin 3", SDA = "pin 5", VCC = "pin 9" }\n'
        self.assertEqual(examine(load_rig(variant("", "", right), lenient=True), demo()).findings, [])
        (found,) = examine(load_rig(variant("", "", wrong), lenient=True), demo()).findings
        self.assertIn("the wrong way round: turned, 4 of its 4 pins meet what they need, as it is 0", found.summary)

    def test_the_scheme_that_is_said_is_the_one_that_is_read(self) -> None:
        for scheme, pins in (("header", "scl = 5, sda = 3"), ("gpio", "scl = 3, sda = 2")):
            path = variant('pins = { scl = "GPIO3", sda = "GPIO2" }', f"pins = {{ {pins} }}", "")
            path.write_text(path.read_text().replace('pin_map = "header-40"', f'pin_map = "header-40", pin_scheme = "{scheme}"'))
            self.assertEqual(examine(load_rig(path, lenient=True), demo()).findings, [])

    def test_software_may_drive_any_pin(self) -> None:
        path = variant('pins = { scl = "GPIO3", sda = "GPIO2" }', 'pins = { scl = "GPIO23", sda = "GPIO24" }', "")
        path.write_text(path.read_text().replace('pin_map = "header-40"', 'pin_map = "header-40", bit_banged = true'))
        self.assertEqual(examine(load_rig(path, lenient=True), demo()).findings, [])


MODULES = '{ VCC = "pin 1", SDA = "pin 3", SCL = "pin 5", GND = "pin 9" }'
PLUGGED = [  # what of a sound module is plugged or fed in another way, code, words
    ('GND = "pin 9"', 'GND = "pin 17"', "rig.pin-function", r"GND of 'tide' sits on pin 17 \(3V3\), which is 3\.3V"),
    ('VCC = "pin 1"', 'VCC = "pin 7"', "rig.pin-function", r"VCC of 'tide' sits on pin 7 \(GPIO4\), which is a signal pin"),
    ('VCC = "pin 1"', 'VCC = "pin 6"', "rig.pin-function", "VCC of 'tide' sits on pin 6 \\(GND\\), which is ground"),
    ('SDA = "pin 3"', 'SDA = "pin 5"', "rig.doubled-pin", r"pin 5 \(GPIO3\) is both SDA of 'tide' and SCL of 'tide'"),
    (
        'SDA = "pin 3"',
        'SDA = "pin 8"',
        "rig.pin-function",
        r"SDA of 'tide' sits on pin 8 \(GPIO14\), the pins of bus 'front' have SDA on pin 3",
    ),
    ('SDA = "pin 3"', 'SDA = "pin 4"', "rig.pin-function", r"SDA of 'tide' sits on pin 4 \(5V\), which is 5V"),
    ('SDA = "pin 3"', 'SDA = "pin 14"', "rig.pin-function", "which is ground"),
    ('SDA = "pin 3"', 'SDA = "pin 99"', "rig.pin-function", "no position 99"),
    (', GND = "pin 9"', "", "rig.open-supply", "no GND"),
    ('VCC = "pin 1", ', "", "rig.open-supply", "no VCC"),
]


class Modules(unittest.TestCase):
    def test_each_wrong_pin_is_named(self) -> None:
        for old, new, code, said in PLUGGED:
            with self.subTest(new or old):
                assert old in MODULES
                found = examine(
                    load_rig(variant("", "", f"plugged = {MODULES.replace(old, new)}\n"), lenient=True), demo()
                ).findings
                own = [finding for finding in found if finding.code == code]
                self.assertTrue(own, [finding.code for finding in found])
                self.assertRegex("; ".join(finding.summary for finding in own), said)

    def test_a_bridges_module_is_looked_at_too(self) -> None:
        rig = (demo() / "pump-room.toml").read_text()
        pins = 'plugged = { GND = "GPIO4", VCC = "pin 2", SDA = "pin 3", SCL = "pin 5" }\n'
        rig = rig.replace('part = "pcf8574"\n', 'part = "pcf8574"\n' + pins).replace(
            "driver = {", 'driver = { pin_map = "header-40",'
        )
        (demo() / "plugged.toml").write_text(rig)
        found = program("wiring", "plugged.toml").stdout.decode()
        self.assertIn("GND of 'adapter' sits on pin 7 (GPIO4), which is a signal pin", " ".join(found.split()))

    def test_sides_of_shifters_and_supplies(self) -> None:
        bus = """
[[bus]]
name = "engine"
kind = "spi"
clock = "1MHz"
driver = { supply = "3.3V" }
lines = { sck = "SCK", mosi = "MOSI", cs = "CS" }
through = THROUGH

[[device]]
name = "engine"
on = "engine"
part = "max7219"
panel = "8x8"
supply = "5V"
"""
        sides = '{ called = "buffer", driver = "3.3V", device = "5V" }'
        for through, said in (
            (f"{{ sck = {sides}, mosi = {sides}, cs = {sides} }}", ""),
            (
                f"{{ sck = {sides}, mosi = {sides} }}",
                r"takes 3\.5 V and more as high at its supply of 5 V; its lines are driven with 3\.3V",
            ),
            ("{}", r"takes 3\.5 V and more"),
            ('{ sck = "level shifter", mosi = "level shifter", cs = "level shifter" }', ""),
            (
                f'{{ sck = {sides}, mosi = {sides}, cs = {{ driver = "5V", device = "3.3V" }} }}',
                "the driver's side of what is in the line",
            ),
        ):
            with self.subTest(through):
                (demo() / "shifted.toml").write_text(bus.replace("THROUGH", through))
                found = examine(load_rig(demo() / "shifted.toml", lenient=True), demo())
                self.assertRegex("; ".join(finding.summary for finding in found.findings), said or "^$")
        wires = {wire.signal: wire for wire in found.wires}
        self.assertEqual((wires["SCK"].level, wires["SCK"].through), ("5V", "buffer from 3.3V to 5V"))
        self.assertIn("RSET", wires["ISET"].through)

    def test_a_display_that_is_read_drives_back(self) -> None:
        rig = (demo() / "engine-room.toml").read_text()
        self.assertEqual(program("wiring", "engine-room.toml").returncode, 0)
        (demo() / "low.toml").write_text(rig.replace('supply = "5V"', 'supply = "3.3V"', 1))
        said = " ".join(program("wiring", "low.toml").stdout.decode().split())
        self.assertIn("is read (RW is driven), and drives its data lines to 5 V then; the driver's pins are for 3.3V", said)
        (demo() / "tied.toml").write_text(rig.replace('rw = "RW", ', "").replace('supply = "5V"', 'supply = "3.3V"', 1))
        self.assertNotIn("drives its data lines", program("wiring", "tied.toml").stdout.decode())

    def test_the_list_has_every_wire(self) -> None:
        wires = {wire["device"]: wire for wire in program_json("wiring", "pump-room.toml")["wires"]}
        self.assertEqual(wires["pump-lcd V0"]["driver"], "wiper of a 10 kOhm trimmer from VCC to GND")
        self.assertEqual(wires["pump-lcd D0-D3"]["driver"], "left open")
        self.assertIn("pump-lcd VCC", wires)
        self.assertNotIn("pump-lcd R/W", wires)  # the expander drives it
        (demo() / "past.toml").write_text(PAST)
        past = {(wire["signal"], wire["device"]) for wire in program_json("wiring", "past.toml")["wires"]}
        self.assertIn(("E", "level E"), past)
        self.assertNotIn(("E", "register E"), past)
        self.assertIn(("OE", "register OE"), past)
        self.assertIn(("R/W", "level R/W"), past)


PAST = """
[[bus]]
name = "wall"
kind = "shift"
lines = { clock = "CLK", data = "SER", latch = "LAT", e = "E", rs = "RS" }

[[bridge]]
name = "register"
on = "wall"
part = "74hc595"
drives = { d4 = "q4", d5 = "q5", d6 = "q6", d7 = "q7" }
direct = ["e", "rs"]

[[device]]
name = "level"
on = "register"
part = "hd44780"
panel = "16x2"
"""


class Shifters(unittest.TestCase):
    """Something in the lines that inverts: captures are read by the side on which the probe sat."""

    def test_captures_of_either_side_are_read(self) -> None:
        rig = (demo() / "handheld.toml").read_text()
        over = 'through = { sck = "inverting buffer", mosi = "inverting buffer", cs = "inverting buffer", dc = "inverting buffer" }\n'
        (demo() / "over.toml").write_text(rig.replace('kind = "spi"\n', 'kind = "spi"\n' + over))
        (demo() / "behind.toml").write_text(rig.replace('kind = "spi"\n', 'kind = "spi"\nprobed = "device"\n' + over))
        plain = read_capture(demo() / "handheld.vcd")
        turned = {"CLK", "DIN", "CE", "DC"} & set(plain.names)
        # The other side of the buffers, made here: each level of these lines turned over, in the text of the file.
        marks = {}
        out = []
        for line in (demo() / "handheld.vcd").read_text().split("\n"):
            words = line.split()
            if words[:1] == ["$var"] and words[4] in turned:
                marks[words[3]] = words[4]
            if line[:1] in "01" and line[1:] in marks:
                line = "10"[int(line[0])] + line[1:]
            out.append(line)
        (demo() / "other-side.vcd").write_text("\n".join(out))
        self.assertEqual(len(marks), 4)
        want = program_json("screen", "handheld.vcd", "--rig", "handheld.toml")["screens"][-1]["rows"]
        for capture, name in (("other-side.vcd", "over.toml"), ("handheld.vcd", "behind.toml")):
            with self.subTest(capture):
                self.assertEqual(program_json("screen", capture, "--rig", name)["screens"][-1]["rows"], want)
                done = program("diagnose", capture, "--rig", name)
                self.assertEqual(done.returncode, 0, done.stdout)
                told = [
                    json.loads(line)
                    for line in program("decode", capture, "--rig", name, "--format", "jsonl").stdout.splitlines()
                ]
                commands = [entry["name"] for entry in told if entry["record"] == "command"]
                same = program("decode", "handheld.vcd", "--rig", "handheld.toml", "--format", "jsonl").stdout.splitlines()
                self.assertEqual(commands, [entry["name"] for entry in map(json.loads, same) if entry["record"] == "command"])
        self.assertEqual(program("diagnose", "other-side.vcd", "--rig", "handheld.toml").returncode, 1)

    def test_what_is_made_is_what_the_probe_would_see(self) -> None:
        rig = (demo() / "handheld.toml").read_text()
        (demo() / "over.toml").write_text(
            rig.replace('kind = "spi"\n', 'kind = "spi"\nthrough = { mosi = "inverting buffer" }\n')
        )
        program("rehearse", "handheld.hush", "--rig", "handheld.toml", "-o", "plain.vcd")
        program("rehearse", "handheld.hush", "--rig", "over.toml", "-o", "over.vcd")
        plain, over = read_capture(demo() / "plain.vcd"), read_capture(demo() / "over.vcd")
        line = plain.index("DIN")
        np.testing.assert_array_equal(plain.edges(line).times, over.edges(line).times)
        np.testing.assert_array_equal(plain.edges(line).level, 1 - over.edges(line).level)
        self.assertEqual(program("diagnose", "over.vcd", "--rig", "over.toml").returncode, 0)
        shown = program("send", "handheld.hush", "--rig", "over.toml", "--link", "desk", "--picture", "over.png")
        self.assertEqual(shown.returncode, 0, shown.stderr)
        program("send", "handheld.hush", "--rig", "handheld.toml", "--link", "desk", "--picture", "plain.png")
        self.assertEqual((demo() / "over.png").read_bytes(), (demo() / "plain.png").read_bytes())


class PinMaps(unittest.TestCase):
    def test_the_header_has_its_forty_pins(self) -> None:
        header = load_pin_map("header-40", Path())
        self.assertEqual(sorted(map(int, header.pins)), list(range(1, 41)))
        self.assertEqual(sorted(pin.gpio for pin in header.pins.values() if pin.gpio is not None), list(range(28)))
        self.assertEqual(
            [position for position, pin in header.pins.items() if pin.ground], ["6", "9", "14", "20", "25", "30", "34", "39"]
        )
        for text in ("GPIO3", "gpio 3", "pin 5", "3", "GPIO_3"):
            self.assertEqual(header.find(text).position, "5", text)
        self.assertEqual(header.find(5, "header").gpio, 3)

    def test_errors_in_a_map(self) -> None:
        folder = scratch()
        for text, said in (
            ('title = "m"\n[pins]\n1 = { gpio = 4 }\n2 = { gpio = 4 }\n', "GPIO4 is at position 1 too"),
            ('title = "m"\n[pins]\n1 = { gpoi = 4 }\n', "gpoi"),
            ("title = ", "not TOML"),
        ):
            (folder / "mine.toml").write_text(text)
            with self.assertRaisesRegex(HushedError, said):
                load_pin_map("mine.toml", folder)
        with self.assertRaisesRegex(HushedError, "no pin map 'header-41'\n.*header-40"):
            load_pin_map("header-41", folder)


class Program(unittest.TestCase):
    def test_status_text_and_bad_input(self) -> None:
        variant("2.2kOhm", "470Ohm", "")
        done = program("wiring", "variant.toml")
        self.assertEqual(
            (done.returncode, b"rig.pull-up" in done.stdout, b"use 967 Ohm to" in done.stdout), (1, True, True), done.stdout
        )
        self.assertEqual(program("wiring", "variant.toml", "--fail-on", "fault").returncode, 0)
        for old, new, said in (
            ("2.2kOhm", "2.2k", "has no unit"),
            ("80pF", "80V", "is in V, not F"),
            ('"header-40"', '"none"', "no pin map 'none'"),
        ):
            variant(old, new, "")
            bad = program("wiring", "variant.toml")
            self.assertEqual((bad.returncode, bad.stdout), (2, b""))
            self.assertIn(said, bad.stderr.decode())
        (demo() / "empty.toml").write_text("")
        self.assertIn(b"the rig has none", program("wiring", "empty.toml").stderr)
