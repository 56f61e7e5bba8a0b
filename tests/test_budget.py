"""What wiring and parts allow: held against sums done by hand, and against what a rehearsal of the same frame takes on its wires."""

import json
import re
import unittest
from typing import Any

from hypothesis import given, settings
from hypothesis import strategies as st

import hushed_wire
from hushed_wire.port.budget import E24, Asked, budget_of, e24
from hushed_wire.rig import load_rig
from support import demo, program


def asked(place: str, *more: str, status: int = 0) -> Any:
    done = program("budget", f"{place}.toml", *more, "--format", "json")
    assert done.returncode == status, (done.returncode, done.stderr)
    return json.loads(done.stdout)


class Buses(unittest.TestCase):
    def test_by_hand(self) -> None:
        """240x320 pixels of two bytes at 10 MHz; SSD1306: nine bits a byte, a START and a STOP of each transfer."""
        own = asked("gate-keeper")["bus"][0]
        self.assertAlmostEqual(own["frame_time"], (2 * 240 * 320 + 11) * 8 / 10e6, delta=1e-5)
        self.assertAlmostEqual(own["frames_per_second_at_limit"], 15e6 / (2 * 240 * 320 * 8), delta=0.01)
        own = asked("front-desk")["bus"][0]
        self.assertTrue(1024 * 9 / 400e3 < own["frame_time"] < 1.03 * 1024 * 9 / 400e3, own["frame_time"])

    def test_against_a_rehearsal(self) -> None:
        """The time between two markers around a whole frame on the wires."""
        # What a driver rests between transfers of its own accord is not in the budget: with short ones (wheelhouse) it is most of the time.
        for place in ("front-desk", "handheld", "pump-room", "engine-room"):
            rig = load_rig(demo() / f"{place}.toml")
            expected = next(own for own in budget_of(rig, Asked()).bus)
            panel = rig.target(rig.device[0]).panel
            text = panel.form == "digits" or rig.target(rig.device[0]).part.memory.kind == "character"
            frame = [f'text 0,{row} "{"8" * panel.width}"' for row in range(panel.height)] if text else ["fill on"]
            start = (demo() / f"{'tide' if place == 'front-desk' else place}.hush").read_text()
            begins = min(
                at
                for at in (
                    start.find(verb)
                    for verb in ("\nglyph ", "\ntext ", "\npicture ", "\ncounter ", "\nfill ", "\ncolumn-address ")
                )
                if at >= 0
            )
            (demo() / "frame.hush").write_text(start[:begins] + "\nwait 60ms\n" + "\n".join(frame) + "\n")
            reading = hushed_wire.decode(hushed_wire.rehearse(demo() / "frame.hush", rig), rig)
            told = [
                (int(c.payload.start[int(c.first[k])]), c.time_of(k)) for c in reading.devices[0].chips for k in range(len(c))
            ]
            told.sort()
            tick = float(reading.trace.tick)
            cut = max(range(1, len(told)), key=lambda k: told[k][0] - told[k - 1][1])
            took = (max(end for _, end in told[cut:]) - told[cut][0]) * tick
            with self.subTest(place):
                self.assertLess(abs(took / expected.frame_time - 1), 0.45, (took, expected.frame_time))

    def test_dividers(self) -> None:
        own = asked("gate-keeper", "--source", "400MHz", "--goal", "10", status=1)["bus"][0]
        allowed = [entry for entry in own["dividers"] if entry["allowed"]]
        self.assertEqual(
            (allowed[0]["divider"], allowed[0]["note"]), (28, "the fastest that is allowed")
        )  # 400 / 28 = 14.29 MHz, 26 gives 15.38
        self.assertEqual([entry["divider"] for entry in own["dividers"] if not entry["allowed"]], [26])
        first = next(entry for entry in allowed if entry["note"] == "begin here")
        self.assertTrue(first["clock"] <= 15e6 / 4 and first["divider"] % 2 == 0)
        self.assertTrue(all(a["clock"] > b["clock"] for a, b in zip(own["dividers"], own["dividers"][1:], strict=False)))
        powers = asked("wheelhouse", "--source", "48MHz", "--dividers", "powers")["bus"][0]["dividers"]
        self.assertEqual([entry["divider"] for entry in powers][:3], [4, 8, 16])
        self.assertEqual([entry["allowed"] for entry in powers][:3], [False, True, True])

    def test_goals(self) -> None:
        self.assertIs(asked("front-desk", "--goal", "30")["bus"][0]["reached"], True)
        missed = asked("gate-keeper", "--goal", "10", status=1)["bus"][0]
        self.assertIs(missed["reached"], False)
        self.assertAlmostEqual(missed["clock_needed"], 10 * 153_611 * 8, delta=2e4)
        self.assertIsNone(asked("gate-keeper", "--goal", "60", status=1)["bus"][0]["clock_needed"])

    def test_what_the_glass_follows(self) -> None:
        own = asked("handheld", "--goal", "60")["bus"][0]
        self.assertEqual((own["reached"], own["response_time"]), (True, 0.2))
        self.assertIn("the glass", own["bottleneck"])
        self.assertIsNone(asked("front-desk")["bus"][0]["response_time"])
        said = program("budget", "handheld.toml", "--goal", "60").stdout.decode()
        self.assertIn("60 frames a second are reached on the wires; the glass follows about 5", said)

    def test_pull_ups(self) -> None:
        own = asked("front-desk", "--goal", "40")["pull_ups"][0]
        self.assertAlmostEqual(own["least"], (3.3 - 0.4) / 3e-3, delta=1)
        self.assertAlmostEqual(own["most"], 300e-9 / (0.8473 * 80e-12), delta=5)
        self.assertAlmostEqual(own["load"], 40 * asked("front-desk")["bus"][0]["frame_time"], delta=1e-6)


class Lamps(unittest.TestCase):
    def test_by_hand(self) -> None:
        words = ("--source", "12MHz", "--current", "10mA", "--forward", "2V", "--pin-current", "20mA")
        own = asked("gate-signal", *words, status=1)["leds"][0]
        self.assertEqual((own["turns"], own["duty"], own["rows_per_second"]), (5, 0.2, 600))
        self.assertAlmostEqual(own["counter_rows_per_second"], 12e6 / 2 ** (own["counter_bit"] + 1))
        self.assertTrue(0.7 < own["counter_rows_per_second"] / 600 < 1.42)
        self.assertAlmostEqual(own["average_current"], 0.002)
        self.assertAlmostEqual(own["row_current"], 0.07)
        self.assertIn("transistor", own["too_much"][0])
        self.assertEqual(asked("led-sign")["leds"][0]["turns"], 4)

    @given(st.floats(1, 1e6))
    @settings(max_examples=200)
    def test_the_next_resistor_of_the_series(self, ohms: float) -> None:
        found = e24(ohms)
        self.assertGreaterEqual(found, ohms * 0.999)
        self.assertLess(found, ohms * 1.16)
        digits = round(found / 10 ** (len(str(int(found))) - 2)) if found >= 10 else round(found * 10)
        self.assertIn(digits, (*E24, 100))


class AsAUser(unittest.TestCase):
    def test_memory(self) -> None:
        own = asked("front-desk", "--ram", "512", status=1)["memory"]["tide"]
        self.assertEqual((own["frame"], own["ram_fits"]), (1024, False))
        self.assertEqual(asked("gate-keeper")["memory"]["gate-tft"]["type"], "uint32_t")

    def test_text(self) -> None:
        said = program("budget", "gate-keeper.toml", "--source", "400MHz", "--goal", "60")
        self.assertEqual(said.returncode, 1)
        for word in (r"122\.889 ms", "60 frames a second are out of reach", "begin here", "too fast for the part"):
            self.assertTrue(re.search(word, said.stdout.decode()), word)

    def test_what_makes_no_sense(self) -> None:
        for words, text in ((("--goal", "0"), "--goal"), (("--source", "-1Hz"), "--source"), (("--ram", "-3"), "--ram")):
            done = program("budget", "front-desk.toml", *words)
            self.assertEqual(done.returncode, 2)
            self.assertIn(text, done.stderr.decode())
        done = program("budget", "gate-signal.toml", "--current", "10mA", "--forward", "9V")
        self.assertEqual(done.returncode, 2)


if __name__ == "__main__":
    unittest.main()
