"""What a diagnosis rests on and offers: calls that are insisted on, rests behind each word, kinds of bus that were tried, the figure's window."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

from hushed_wire.trace import read_capture
from maker.masters import I2c, Parallel
from maker.wave import Wave
from maker.writers import vcd
from support import program

LCD = tuple(f"D{bit}" for bit in range(8))


class Evidence(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def told(self, *options: str) -> dict[str, object]:
        done = program("diagnose", "c.vcd", *options, "--format", "json", cwd=self.folder)
        found: dict[str, object] = json.loads(done.stdout)
        return found

    def test_calls_beside_a_search_for_devices(self) -> None:
        # A search calls every address once. Who is called again and again is meant, whoever else answers.
        for present, then, code in (
            ((), (), "address.no-answer"), ((0x27,), (0x27,), "address.no-answer"), ((0x68,), (0x68,), "address.no-answer"),
            ((0x3C,), (), "wiring.loose-contact"), ((0x3C,), (0x3C,), "setup.display-off"),
        ):  # fmt: skip
            with self.subTest(present=present, then=then):
                wave = Wave(1, SCL=1, SDA=1)
                bus = I2c(wave, 390e3, ())
                wave.wait(1e6)
                for address in range(0x08, 0x78):
                    bus.start()
                    bus.byte(address << 1, address in present)
                    bus.stop()
                bus.present = then
                for _ in range(3):
                    wave.wait(1e6)
                    bus.write(0x3C, [0x00, 0xAE, 0xD5, 0x80])
                wave.wait(1e5)
                vcd(wave, self.folder / "c.vcd")
                outcome = self.told()
                first = outcome["findings"][0]  # type: ignore[index]
                self.assertEqual(first["code"], code)
                if code == "address.no-answer":
                    self.assertEqual((first["evidence"]["called"], first["count"]), ("0x3c", 4))
                    self.assertEqual(first["evidence"]["answering"], [f"{address:#04x}" for address in present])

    def lcd(self, rest: float, polled: bool) -> None:
        """A set-up as the datasheet has it, and text with so many nanoseconds behind each letter; polled: the busy flag is read in between."""
        wave = Wave(1, RS=0, RW=0, E=0, **dict.fromkeys(LCD, 0))
        bus = Parallel(wave, LCD, rw="RW")
        wave.wait(50e6)
        for value, behind in (
            (0x38, 5e6),
            (0x38, 2e5),
            (0x38, 5e4),
            (0x38, 5e4),
            (0x08, 5e4),
            (0x01, 2e6),
            (0x06, 5e4),
            (0x0C, 5e4),
            (0x80, 5e4),
        ):
            bus.write(value, 0)
            wave.wait(behind)
        for letter in b"GATE OPEN 12.5 m":
            bus.write(letter, 1)
            wave.wait(rest)
            if polled:
                wave.put(RS=0, RW=1)
                bus.strobe(0x11)  # busy flag clear, the address counter beside it
                wave.put(RW=0)
        wave.wait(1e6)
        vcd(wave, self.folder / "c.vcd")

    def test_rests_behind_each_word(self) -> None:
        options = ("--part", "hd44780", "--panel", "16x1-straight", "--margins")
        for rest, polled, below in ((20e3, False, 15), (45e3, False, 0), (20e3, True, 0)):
            with self.subTest(rest=rest, polled=polled):
                self.lcd(rest, polled)
                outcome = self.told(*options)
                (margin,) = [entry for entry in outcome["margins"] if entry["what"] == "rest behind data"] or [None]  # type: ignore[attr-defined]
                codes = [finding["code"] for finding in outcome["findings"] if finding["severity"] != "note"]  # type: ignore[attr-defined]
                if polled:
                    self.assertIsNone(margin)  # whoever reads has seen whether it was busy
                else:
                    self.assertEqual((margin["required"], margin["beyond"]), (41e-6, below))
                self.assertEqual("timing.wait-short" in codes, below > 0, codes)

    def test_kinds_of_bus_that_were_tried(self) -> None:
        wave = Wave(5, X=0, Y=0)
        for _ in range(400):  # a knob, turned this way and that
            first, second = ("X", "Y") if wave.chance.random() < 0.5 else ("Y", "X")
            for level in (1, 0):
                for line in (first, second):
                    wave.put(**{line: level})
                    wave.wait(wave.chance.uniform(1e5, 4e6))
        vcd(wave, self.folder / "c.vcd")
        outcome = self.told()
        (found,) = [finding for finding in outcome["findings"] if finding["code"] == "capture.unlike-rig"]  # type: ignore[attr-defined]
        self.assertTrue({"as I2C", "as SPI", "as parallel", "as scanned LEDs"} <= set(found["evidence"]), found["evidence"])
        self.assertIn("come nearest", found["evidence"]["as I2C"])

    def test_the_window_of_a_figure_fits_the_fault(self) -> None:
        from hushed_wire import diagnose, guess_rig
        from hushed_wire.view.scene import focus_of, scene_of

        self.lcd(20e3, False)
        trace = read_capture(self.folder / "c.vcd")
        outcome = diagnose(trace, guess_rig(trace, part="hd44780", panel="16x1-straight"))
        low, high = focus_of(scene_of(outcome.reading), outcome.findings)
        at = outcome.findings[0].start
        assert at is not None
        self.assertTrue(low <= at <= high)
        self.assertLess(high - low, 0.003)  # of 60 ms: some words, which can be told apart


if __name__ == "__main__":
    unittest.main()
