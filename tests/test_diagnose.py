"""Findings: every mishap is found by its own code and lines, and clean traffic, however odd, is left alone."""

import unittest
from dataclasses import replace
from fractions import Fraction

import numpy as np

from hushed_wire.demo.captures import CAPTURES
from hushed_wire.diagnosis import diagnose
from hushed_wire.diagnosis.compete import LAYERS, compete
from hushed_wire.diagnosis.verdict import Diagnosis
from hushed_wire.finding import Finding, codes
from hushed_wire.rig import Options, Rig, Setup, assume, load_rig
from hushed_wire.rig.rehearse import rehearse
from hushed_wire.rig.vocabulary import parse_mishap
from hushed_wire.trace import Trace
from support import acked, demo, i2c_trace, program, program_json

LINES = {
    "wiring.swapped-lines": ["SCL", "SDA"],
    "wiring.stuck-line": ["SDA"],
    "timing.clock-too-fast": ["SCL"],
    "capture.undersampled": ["SCL"],
    "capture.silent": ["SCL", "SDA"],
    "address.no-answer": ["SCL", "SDA"],
}


def rig() -> Rig:
    return load_rig(demo() / "front-desk.toml")


def of(trace: Trace, by: Rig | None = None) -> Diagnosis:
    return diagnose(trace, Setup(by) if by is not None else assume(trace, Options()))


def rehearsed(*mishaps: str, rate: int = 20_000_000, seed: int = 1, by: Rig | None = None) -> Trace:
    acts = [parse_mishap(text) for text in mishaps]
    return rehearse(demo() / "tide.hush", by or rig(), mishaps=acts, rate=Fraction(rate), seed=seed)[0]


def problems(outcome: Diagnosis) -> list[str]:
    return [finding.code for finding in outcome.findings if finding.severity != "note"]


class DemoFaults(unittest.TestCase):
    def test_each_is_named_first_with_and_without_a_rig(self) -> None:
        self.assertGreaterEqual(len({recording.finds for recording in CAPTURES}), 14)
        for recording in CAPTURES:
            for options in ([], ["--rig", "front-desk.toml"]):
                done = program_json("diagnose", recording.name, *options)
                expected = recording.finds
                if recording.name == "other-panel.vcd" and not options:
                    expected = (
                        "picture.all-traffic-good"  # nothing tells that the glass is another: the set-up fits a ready panel
                    )
                first = done["findings"][0]
                found = [finding["code"] for finding in done["findings"]]
                if codes()[expected].severity == "note":
                    self.assertIn(expected, found, recording.name)
                    self.assertEqual([f for f in done["findings"] if f["severity"] != "note"], [], recording.name)
                else:
                    self.assertEqual(first["code"], expected, recording.name)
                    self.assertEqual(len([f for f in done["findings"] if f["severity"] != "note"]), 1, recording.name)
                    self.assertEqual(first["lines"], LINES.get(expected, first["lines"]), recording.name)
                    self.assertTrue(first["remedy"] and first["evidence"] and first["summary"], recording.name)
                self.assertEqual(bool(done["assumed"]), not options, recording.name)

    def test_seeds_and_rates_do_not_change_the_answer(self) -> None:
        for recording in CAPTURES:
            if recording.volts or recording.finds == "capture.undersampled" or not recording.mishaps:
                continue
            for seed, rate in ((11, 6_000_000), (12, 24_000_000), (13, 100_000_000)):
                outcome = of(rehearsed(*recording.mishaps, rate=rate, seed=seed), rig())
                self.assertIn(recording.finds, [finding.code for finding in outcome.findings], (recording.name, rate))
                self.assertLessEqual(len(problems(outcome)), 1)

    def test_a_capture_far_too_slow_is_called_so(self) -> None:
        for rate in (400_000, 500_000, 700_000, 1_000_000, 1_300_000):
            for seed in range(3):
                for by in (rig(), None) if rate > 500_000 else (rig(),):  # at one sample a clock only the rig can tell
                    self.assertEqual(
                        problems(of(rehearsed(rate=rate, seed=seed), by))[:1], ["capture.undersampled"], (rate, seed, by)
                    )

    def test_what_the_capture_tells_about_a_line_held_or_idle(self) -> None:
        for mishaps, code, lines in (
            (("stuck:SCL,low",), "wiring.stuck-line", ["SCL"]),
            (("stuck:SCL,high",), "wiring.stuck-line", ["SCL"]),
            (("stuck:SDA,high",), "wiring.stuck-line", ["SDA"]),
            (("stuck:SDA,low", "stuck:SCL,high"), "wiring.stuck-line", ["SDA"]),
            (("stuck:SDA,low", "stuck:SCL,low"), "capture.silent", ["SCL", "SDA"]),
        ):
            for by in (rig(), None):
                outcome = of(rehearsed(*mishaps), by)
                self.assertEqual((problems(outcome), outcome.findings[0].lines), ([code], lines), mishaps)
        remedy = of(rehearsed("stuck:SDA,low"), rig()).findings[0].remedy
        for part in ("short", "hung", "nine times", "SDA"):
            self.assertIn(part, remedy)


class CleanTraffic(unittest.TestCase):
    def clean(self, trace: Trace, by: Rig | None = None, note: object = "") -> None:
        self.assertEqual(problems(of(trace, by)), [], note)

    def test_clocks_rates_seeds_and_spikes(self) -> None:
        for seed, (clock, rate) in enumerate(
            [("10kHz", 1_000_000), ("100kHz", 2_000_000), ("400kHz", 2_400_000), ("390kHz", 16_000_000)]
        ):
            by = rig()
            by.bus[0].clock = clock
            for acts in ((), ("spike:SCL,50",) if rate > 10_000_000 else ()):
                self.clean(rehearsed(*acts, rate=rate, seed=seed, by=by), by, clock)
                self.clean(rehearsed(*acts, rate=rate, seed=seed, by=by), None, clock)

    def test_captures_that_begin_or_end_anywhere(self) -> None:
        whole = rehearsed()
        for percent in range(0, 96, 5):
            start = whole.end * percent // 100
            self.clean(whole.window(start, whole.end), rig(), percent)
            self.clean(whole.window(start, whole.end), None, percent)
        # One that ends in mid-traffic: what would have come is not held against the driver.
        words = of(whole, rig())
        self.assertEqual(problems(words), [])
        for percent in range(5, 45, 4):
            self.clean(whole.window(0, whole.end * percent // 100), rig(), percent)

    def test_odd_but_legal_drivers(self) -> None:
        text = (demo() / "tide.hush").read_text()
        variants = {
            "order": text.replace("charge-pump on\n", "").replace("display on\n", "charge-pump on\ndisplay on\n"),
            "vertical": text.replace("memory-mode horizontal", "memory-mode vertical"),
            "page": text.replace("memory-mode horizontal", "memory-mode page"),
            "inverse": text.replace("invert off", "invert on"),
            "all on for a while": text + "entire-display all-on\nwait 2ms\nentire-display follow-ram\n",
            "off and on": text + "display off\nwait 2ms\ndisplay on\n",
            "on early": text.replace("display off", "display on", 1),
            "nops": "nop\nnop\n" + text,
        }
        for name, variant in variants.items():
            path = demo() / "variant.hush"
            path.write_text(variant)
            self.clean(rehearse(path, rig(), seed=3)[0], rig(), name)
        split = rig()
        split.bus[0].driver.longest_write = 32
        self.clean(rehearse(demo() / "tide.hush", split, seed=3)[0], split, "split")

    def test_a_picture_in_the_half_of_memory_that_the_start_line_shows(self) -> None:
        text = (demo() / "tide.hush").read_text().split("column-address")[0]
        text = (
            text.replace("multiplex-ratio 64", "multiplex-ratio 32")
            .replace("alternative", "sequential")
            .replace("start-line 0", "start-line 32")
        )
        (demo() / "lower.hush").write_text(
            text + "column-address start=0 end=127\npage-address start=2 end=7\ndata 0x55*768\ndisplay on\n"
        )
        lower = rig()
        lower.device[0].panel = "128x32"
        self.clean(rehearse(demo() / "lower.hush", lower, seed=2)[0], lower)

    def test_other_devices_and_a_bus_scan_are_no_fault(self) -> None:
        scan = [([address << 1], [address in (0x3D, 0x68)]) for address in range(0x08, 0x78)]
        for by in (rig(), None):
            trace = i2c_trace([*scan, acked(0x7A, 0x00, 0xAF), acked(0xD0, 0x00, 0x12)])
            self.clean(trace, by)

    def test_a_scan_that_finds_nobody_is_told_as_one(self) -> None:
        outcome = of(i2c_trace([([address << 1], [False]) for address in range(0x10, 0x70)]))
        self.assertEqual(problems(outcome), ["address.no-answer"])
        self.assertIn("one of the 96 addresses", outcome.verdict)

    def test_a_simulators_exact_trace_is_not_undersampled(self) -> None:
        exact = i2c_trace([acked(0x7A, 0x00, 0xAE)] * 8, tick=Fraction(1, 10**6), clock=200_000)
        self.assertNotIn("capture.undersampled", problems(of(exact)))


class Honesty(unittest.TestCase):
    def test_a_relative_is_named_only_where_its_glass_fits_the_windows(self) -> None:
        """Of two that have no pump, the one whose glass begins at column 4 is not what a window from column 0 is for."""
        found = program_json("diagnose", "no-pump.vcd")["findings"][0]
        self.assertEqual((found["code"], found["confidence"]), ("setup.charge-pump-off", "likely"))
        self.assertIn("ssd1309", found["remedy"])
        self.assertNotIn("ssd1305", found["remedy"])
        self.assertEqual(
            program_json("diagnose", "no-pump.vcd", "--rig", "front-desk.toml")["findings"][0]["confidence"], "certain"
        )

    def test_traffic_that_is_no_i2c_is_said_to_be_unlike_the_rig(self) -> None:
        random = np.random.default_rng(4)
        for seed in range(6):
            times = np.concatenate([[0], np.cumsum(random.integers(40, 4000, 4000))])
            levels = random.integers(0, 4, len(times)).astype(np.uint8)
            trace = Trace(("SCL", "SDA"), times, levels, int(times[-1]) + 1, Fraction(1, 10**8), None, 1)
            self.assertEqual(problems(of(trace, rig())), ["capture.unlike-rig"], seed)

    def test_traffic_for_somebody_else_only(self) -> None:
        outcome = of(i2c_trace([acked(0xD0, 0x00, 0x12)] * 4), rig())
        self.assertEqual(problems(outcome), ["capture.unlike-rig"])
        self.assertIn("0x68", outcome.verdict)

    def test_a_display_that_answers_at_another_strap_than_the_rig_says(self) -> None:
        other = rig()
        other.device[0].address = 0x3C
        outcome = of(rehearsed(by=other), rig())
        self.assertEqual(problems(outcome), ["capture.unlike-rig"])
        self.assertIn("say address = 0x3c in the rig", outcome.findings[0].remedy)

    def test_a_display_is_found_behind_much_other_traffic(self) -> None:
        first = i2c_trace([acked(0xD0, number & 0xFF) for number in range(3000)], tick=Fraction(1, 20_000_000))
        frame = rehearsed()
        times = np.concatenate([first.times, frame.times + first.end])
        levels = np.concatenate([first.levels, frame.levels])
        trace = replace(frame, times=times, levels=levels, end=frame.end + first.end)
        self.assertEqual([finding.code for finding in of(trace).findings], ["picture.all-traffic-good"])

    def test_the_wrong_strap_is_named_in_the_remedy(self) -> None:
        outcome = of(i2c_trace([([0x78], [False])] * 5), rig())
        self.assertEqual(problems(outcome), ["address.neighbour"])
        self.assertIn("call 0x3d", outcome.findings[0].remedy)

    def test_shifted_addresses_in_both_directions(self) -> None:
        for called in (0x78, 0x79, 0x7A, 0x7B):
            outcome = of(i2c_trace([([called << 1 & 0xFF], [False])] * 3))
            self.assertEqual(problems(outcome), ["address.shifted"], hex(called))
            self.assertEqual(outcome.findings[0].evidence["meant"], f"{called >> 1:#04x}")

    def test_unknown_levels_and_cut_files_are_reported(self) -> None:
        trace = rehearsed()
        hidden = np.zeros_like(trace.levels)
        hidden[2000:2010] = 1
        outcome = of(replace(trace, unknown=hidden), rig())
        found = {finding.code: finding for finding in outcome.findings}
        self.assertEqual(found["capture.unknown-levels"].lines, ["SCL"])
        data = (demo() / "healthy.vcd").read_bytes()
        (demo() / "cut.vcd").write_bytes(
            data[: len(data) // 2 + 1] if data[len(data) // 2] not in b"\n" else data[: len(data) // 2]
        )
        done = program("diagnose", "cut.vcd", "--rig", "front-desk.toml")
        self.assertEqual((done.returncode, b"capture.cut-short" in done.stdout), (1, True))

    def test_nothing_is_assumed_silently(self) -> None:
        done = program_json("diagnose", "healthy.vcd")
        self.assertEqual(len(done["assumed"]), 3)
        self.assertTrue(done["ruled_out"] and done["not_observable"])
        self.assertEqual(set(done), {"verdict", "judgement", "untold", "findings", "ruled_out", "not_observable", "assumed"})


class Competing(unittest.TestCase):
    def test_what_a_better_finding_explains_is_not_one_more_line(self) -> None:
        cause = Finding("wiring.swapped-lines", "a", "b", bus="front")
        symptom = Finding("address.no-answer", "c", "d", bus="front")
        beside = Finding("capture.noisy-threshold", "e", "f", bus="front")  # no layer above the cause's
        for found in ([symptom, beside, cause], [cause, symptom, beside], [beside, cause, symptom]):
            kept, hidden = compete([replace(finding) for finding in found])
            self.assertEqual([finding.code for finding in kept], ["wiring.swapped-lines", "capture.noisy-threshold"])
            self.assertEqual([finding.code for finding in hidden], ["address.no-answer"])
            self.assertEqual(kept[0].explains, ["address.no-answer"])

    def test_what_explains_each_other_is_told_once(self) -> None:
        for order in ((0, 1), (1, 0)):
            found = [Finding("wiring.glitches", "", ""), Finding("wiring.loose-contact", "", "", confidence="likely")]
            kept, hidden = compete([found[k] for k in order])
            self.assertEqual(
                [[finding.code for finding in part] for part in (kept, hidden)], [["wiring.glitches"], ["wiring.loose-contact"]]
            )

    def test_a_cause_explains_its_own_bus_unless_the_line_is_shared(self) -> None:
        cause = Finding("wiring.stuck-line", "", "", bus="front", lines=["RST"])
        other = Finding("setup.display-off", "", "", bus="hand")
        kept, _ = compete([replace(cause), replace(other)])
        self.assertEqual(len(kept), 2)
        kept, hidden = compete([replace(cause), replace(other)], lambda one, two: "RST" in one.lines)
        self.assertEqual([finding.code for finding in hidden], ["setup.display-off"])

    def test_one_device_that_does_not_answer_says_nothing_of_another(self) -> None:
        cause = Finding("address.no-answer", "", "", device="tide", bus="front")
        for device, stands in (("tide", 1), ("pumps", 2)):
            kept, _ = compete([replace(cause), Finding("setup.display-off", "", "", device=device, bus="front")])
            self.assertEqual(len(kept), stands)

    def test_the_table_points_at_what_exists(self) -> None:
        for name, code in codes().items():
            self.assertLessEqual(set(code.also), set(codes()), name)
            self.assertLessEqual(set(code.explains or []), set(LAYERS), name)
            self.assertNotIn(name, code.also)
