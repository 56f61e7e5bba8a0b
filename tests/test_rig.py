"""Rigs and sequences: what their files take, what their errors say, what rehearsal makes of them."""

import unittest
from fractions import Fraction
from pathlib import Path

import numpy as np
from hypothesis import given, settings
from hypothesis import strategies as st

from hushed_wire.errors import HushedError
from hushed_wire.part import load
from hushed_wire.part.wrap import Send
from hushed_wire.picture import image
from hushed_wire.rig import Options, assume, decode, load_rig, rig_toml
from hushed_wire.rig.rehearse import rehearse, steps_of
from hushed_wire.rig.vocabulary import parse_mishap
from hushed_wire.sequence import Target, expand, parse_text
from hushed_wire.trace import read_capture
from strategies import legal
from support import demo, scratch

PART = load("ssd1306")
TARGET = Target("tide", PART, PART.panel("128x64"))
FOLDER = scratch()
RIG = (demo() / "front-desk.toml").read_text()


def steps(text: str) -> list[tuple[bool, bytes]]:
    return [(send.data, send.raw) for step in expand(parse_text(text, "s.hush"), [TARGET], demo()) for send in step.sends]


class RigFile(unittest.TestCase):
    def load(self, text: str) -> object:
        path = FOLDER / "rig.toml"
        path.write_text(text)
        return load_rig(path)

    def test_a_rig_written_is_the_rig_read(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        self.assertEqual(self.load(rig_toml(rig)), rig)

    def test_errors_name_file_key_and_reason(self) -> None:
        for old, new, said in (
            ('kind = "i2c"', 'kind = "i2s"', r"bus 'front': kind: there is no kind of bus 'i2s'"),
            ("address = 0x3D", 'address = "0x3D"', r"device\[0\]\.address: expected `int"),
            ("address = 0x3D", "adress = 0x3D", r"device\[0\]: object contains unknown field `adress`\n.*'address'"),
            (
                "address = 0x3D",
                "address = 0x7A",
                r"device 'tide': address: ssd1306 cannot have 0x7a \(that is the 8-bit form: halve it\)",
            ),
            ("address = 0x3D", "", r"device 'tide': address: is missing"),
            ('on = "front"', 'on = "frunt"', r"device 'tide': on: there is no bus or bridge 'frunt'\n.*'front'"),
            ('part = "ssd1306"', 'part = "ssd1304"', r"device 'tide': the catalog has no part 'ssd1304'\n.*'ssd1306'"),
            (
                'panel = "128x64-yellow-blue"',
                'panel = "128x46"',
                r"device 'tide': ssd1306 has no ready panel '128x46'\n.*'128x64'",
            ),
            ('panel = "128x64-yellow-blue"', "panel = { width = 200, height = 64 }", r"does not fit into the memory"),
            ('panel = "128x64-yellow-blue"', "panel = { width = 128, hieght = 64 }", r"device 'tide': panel: .*hieght"),
            ('scl = "SCL", ', "", r"bus 'front': lines: the role 'scl' is missing"),
            ('scl = "SCL", sda', 'scl = "SDA", sda', r"one line plays two roles"),
            ('scl = "SCL"', 'scl = "SCL", sdo = "X"', r"lines\.sdo: a bus of kind i2c has no such role"),
            ('clock = "400kHz"', 'clock = "400"', r"clock: '400' has no unit"),
            ('clock = "400kHz"', 'clock = "400ms"', r"is in s, not Hz"),
            ('supply = "3.3V"', 'supply = "0V"', r"driver\.supply: '0V' is not above zero"),
            ("[[device]]", "[[device", r"not TOML: .*line 12"),
        ):
            self.assertIn(old, RIG)
            with self.assertRaisesRegex(HushedError, r"(?s)rig\.toml: .*" + said, msg=new):
                self.load(RIG.replace(old, new, 1))
        with self.assertRaisesRegex(HushedError, "0x3d is that of 'tide' too"):
            self.load(RIG + '[[device]]\nname = "b"\non = "front"\npart = "ssd1306"\naddress = 0x3D\n')

    def test_panels_may_be_spelled_out_or_start_from_a_ready_one(self) -> None:
        table = 'panel = { ready = "128x32", supply = "external", bands = [{ from = 0, to = 7, colour = "yellow" }] }'
        rig = self.load(RIG.replace('panel = "128x64-yellow-blue"', table))
        panel = rig.target(rig.device[0]).panel  # type: ignore[attr-defined]
        self.assertEqual((panel.height, panel.com_pins, panel.supply, panel.bands[0].last), (32, "sequential", "external", 7))


class Sequences(unittest.TestCase):
    @given(st.lists(legal(PART), min_size=1, max_size=20))
    @settings(deadline=None, max_examples=50)
    def test_commands_by_name_give_their_bytes(self, drawn: list[tuple[object, dict[str, object]]]) -> None:
        text = "\n".join(" ".join([c.name, *(f"{k}={v}" for k, v in fields.items())]) for c, fields in drawn)  # type: ignore[attr-defined]
        self.assertEqual(steps(text), [(False, c.encode(fields)) for c, fields in drawn])  # type: ignore[attr-defined]

    def test_bytes_data_waits_and_bare_values(self) -> None:
        text = "display on  # a comment\nbytes 0xAE 213 0b1\ndata 0x00*3 7\nwait 1.5ms\ncontrast 0xCF\n\nnop"
        self.assertEqual(
            steps(text), [(False, b"\xaf"), (False, b"\xae\xd5\x01"), (True, b"\0\0\0\7"), (False, b"\x81\xcf"), (False, b"\xe3")]
        )
        waits = [step.wait for step in expand(parse_text(text, "s"), [TARGET], demo())]
        self.assertEqual(sum(waits), Fraction(3, 2000))

    def test_a_picture_comes_to_its_place_in_every_mode(self) -> None:
        pixels = image.load(demo() / "tide.pbm")
        for mode in ("horizontal", "vertical", "page"):
            path = demo() / f"in-{mode}.hush"
            path.write_text(
                (demo() / "tide.hush").read_text().replace("memory-mode horizontal", f"memory-mode {mode}").replace("data ", "# ")
            )
            trace, _ = rehearse(path, load_rig(demo() / "front-desk.toml"))
            shown = decode(trace, load_rig(demo() / "front-desk.toml")).devices[0].glass()
            self.assertTrue((shown.lit == pixels).all() and shown.known.all() and shown.shown, mode)

    def test_errors_name_the_line_and_what_was_expected(self) -> None:
        for line, said in (
            ("dispaly on", "'dispaly' is neither a verb nor a command of ssd1306\n.*'display'"),
            ("display maybe", "'maybe' is no value of display state\n.*off or on"),
            ("display state=on speed=3", "'display' has no field 'speed'"),
            ("multiplex-ratio 80", "80 is out of range for multiplex-ratio lines\n.*16 to 64"),
            ("column-address start=0", "'column-address' needs its field 'end'\n.*end=0 to 127"),
            ("column-address 0 127", "names no field\n.*start=… end=…"),
            ("data 0x100", "'0x100' is not a byte"),
            ("data 0x00*999999999", "too many bytes"),
            ("wait 10", "'10' has no unit"),
            ("wait 10kHz", "is in Hz, not s"),
            ("picture nothing.pbm", "no such picture"),
            ("picture tide.hush", "is not a picture"),
            ("device tyde", "no device 'tyde'\n.*'tide'"),
            ('display "on', "quotation mark"),
            ("display state=on state=off", "'state' is given twice"),
        ):
            with self.assertRaisesRegex(HushedError, f"(?s)s.hush:2: .*{said}", msg=line):
                steps(f"nop\n{line}\nnop")

    def test_a_picture_of_another_size_is_refused(self) -> None:
        small = Target("tide", PART, PART.panel("128x32"))
        with self.assertRaisesRegex(HushedError, "'tide.pbm' is 128x64, the panel shows 128x32"):
            expand(parse_text("picture tide.pbm", "s.hush"), [small], demo())


class Rehearsal(unittest.TestCase):
    def test_it_is_reproducible_and_its_seed_matters(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        first, again, other = (rehearse(demo() / "tide.hush", rig, seed=seed)[0] for seed in (7, 7, 8))
        self.assertEqual(first.times.tolist(), again.times.tolist())
        self.assertNotEqual(first.times.tolist(), other.times.tolist())

    def test_any_rate_and_seed_shows_the_picture_that_was_sent(self) -> None:
        rig, pixels = load_rig(demo() / "front-desk.toml"), image.load(demo() / "tide.pbm")
        for seed, rate in enumerate((2_500_000, 4_000_000, 7_300_000, 24_000_000, 100_000_000)):
            trace, _ = rehearse(demo() / "tide.hush", rig, rate=Fraction(rate), seed=seed)
            self.assertTrue((decode(trace, rig).devices[0].glass().lit == pixels).all(), rate)

    def test_a_display_that_ran_before_the_capture_shows_only_what_is_known(self) -> None:
        text, rig = (demo() / "tide.hush").read_text(), load_rig(demo() / "front-desk.toml")
        pixels = image.load(demo() / "tide.pbm")
        for mode in ("horizontal", "page"):
            (demo() / "twice.hush").write_text(
                text.replace("memory-mode horizontal", f"memory-mode {mode}") + "picture tide.pbm\n"
            )
            trace, _ = rehearse(demo() / "twice.hush", rig)
            late = decode(trace.window(trace.ticks(Fraction(40, 1000)), trace.end), rig).devices[
                0
            ]  # in the middle of the first picture
            self.assertFalse(late.started)
            shown = late.glass()
            self.assertTrue((shown.lit == pixels).all() and shown.known.all() and shown.shown, mode)
            # Data that come before the pointer is known have no place.
            before = trace.window(trace.ticks(Fraction(40, 1000)), trace.ticks(Fraction(45, 1000)))
            self.assertEqual(int(decode(before, rig).devices[0].glass().known.sum()) if mode == "horizontal" else 0, 0)

    def test_long_writes_are_split_as_the_driver_must(self) -> None:
        text = RIG.replace('capacitance = "80pF"', 'capacitance = "80pF", longest_write = 17')
        (demo() / "short.toml").write_text(text)
        rig = load_rig(demo() / "short.toml")
        reading = decode(rehearse(demo() / "tide.hush", rig)[0], rig)
        table = reading.channels[0].table
        self.assertEqual(int((table.last - table.first).max()), 1 + 17)
        self.assertTrue((reading.devices[0].glass().lit == image.load(demo() / "tide.pbm")).all())

    def test_mishaps_that_name_nothing_are_refused(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        for text, said in (
            ("swap:SCL", "like: --mishap swap:SCL,SDA"), ("swap:SCL,SDX", "no line 'SDX'"), ("stuck:SDA,up", "'up' is not a level"),
            ("drop-step:charge", "no step 'charge'\n.*'charge-pump'"), ("refuse:tyde", "no device 'tyde'\n.*'tide'"),
            ("shorten:picture", "NAME,COUNT"), ("alter-step:contrast=3", "alter-step:"), ("late-start:1h", "nothing of the capture"),
            ("strap:tide,0x99", "no 7-bit address"), ("strap:tyde,0x3C", "no device 'tyde'"), ("flaky:tide,x", "not a percentage"),
            ("garble:5", "between host and probe"), ("fast-clock:3V", "is in V, not Hz"), ("spike:SCL,many", "'many' is not a number"),
        ):  # fmt: skip
            with self.assertRaisesRegex(HushedError, f"(?s){said}", msg=text):
                rehearse(demo() / "tide.hush", rig, mishaps=[parse_mishap(text)])
        for text in ("swop:a,b", "swap", "swap:"):
            with self.assertRaises(HushedError):
                parse_mishap(text)

    def test_devices_that_are_strapped_elsewhere_or_loose(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        elsewhere = decode(rehearse(demo() / "tide.hush", rig, mishaps=[parse_mishap("strap:tide,0x3C")])[0], rig)
        self.assertFalse(elsewhere.channels[0].who.answered.any())
        loose = decode(rehearse(demo() / "tide.hush", rig, mishaps=[parse_mishap("flaky:tide,40")], seed=4)[0], rig)
        self.assertTrue(0 < int(loose.channels[0].who.answered.sum()) < len(loose.channels[0].who))

    def test_mishaps_to_steps_do_what_they_say(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        acts = [parse_mishap(text) for text in ("drop-step:charge-pump", "shorten:picture,100", "alter-step:contrast.level=1")]
        changed = {step.name: step for step in steps_of(demo() / "tide.hush", rig, acts)}
        self.assertNotIn("charge-pump", changed)
        self.assertEqual(sum(len(send.raw) for send in changed["picture"].sends if send.data), 100)
        self.assertEqual(changed["contrast"].sends, (Send(False, b"\x81\x01"),))


class Assumptions(unittest.TestCase):
    def test_lines_are_found_by_name_then_by_traffic(self) -> None:
        trace = read_capture(demo() / "healthy.vcd")
        for names, how in ((("I2C_SCL", "I2C_SDA"), "names"), (("D0", "D1"), "traffic"), (("sda", "scl"), None)):
            renamed = trace.select([0, 1], names)
            plan = assume(renamed, Options())
            lines = plan.rig.bus[0].lines
            if how is None:  # wrong names are believed here; the diagnosis finds them out
                self.assertEqual(lines, {"scl": "scl", "sda": "sda"})
            else:
                self.assertEqual(lines, {"scl": names[0], "sda": names[1]})
                self.assertIn(how, plan.assumed["lines"])

    def test_the_panel_follows_the_set_up(self) -> None:
        rig = load_rig(demo() / "front-desk.toml")
        acts = [parse_mishap("alter-step:multiplex-ratio.lines=32"), parse_mishap("alter-step:com-pins.wiring=sequential")]
        trace, _ = rehearse(demo() / "tide.hush", rig, mishaps=acts)
        self.assertEqual(assume(trace, Options()).rig.device[0].panel, "128x32")
        self.assertEqual(assume(trace, Options(panel="128x64")).rig.device[0].panel, "128x64")

    def test_a_stranger_on_the_bus_is_not_taken_for_a_display(self) -> None:
        from support import acked, i2c_trace

        noise = np.random.default_rng(1).integers(0, 256, 40).tolist()
        self.assertEqual(assume(i2c_trace([acked(0xD0, *noise)]), Options()).rig.device, [])
        registers = [acked(0x78, *[0x3B] * 20)]
        self.assertEqual(assume(i2c_trace(registers), Options(part="ssd1306")).rig.device[0].address, 0x3C)
        self.assertTrue(Path(demo() / "tide.hush").exists())
