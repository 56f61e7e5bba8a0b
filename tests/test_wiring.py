"""Wiring on paper: each fault of a rig is found by its code, and a sound rig is left alone."""

import unittest
from pathlib import Path

from hushed_wire.diagnosis.rig import examine
from hushed_wire.errors import HushedError
from hushed_wire.finding import codes
from hushed_wire.rig import load_rig
from hushed_wire.rig.pinmap import load_pin_map
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
    ("2.2kOhm", "470Ohm", "", "rig.pull-up", r"too low: the drivers have to sink 6\.17 mA"),
    ("2.2kOhm", "10kOhm", "", "rig.pull-up", r"too high: a rise takes 678 ns, 300 ns is allowed"),
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
