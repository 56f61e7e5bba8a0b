"""A fixed sample of the corpus: the cause is named first with its lines, healthy captures yield nothing; and what the other options say."""

import json
import unittest
from xml.etree import ElementTree

from corpus import Case, Verdict, faults, healthy, judge
from hushed_wire.diagnosis.explained import about, as_page
from hushed_wire.diagnosis.symptoms import SYMPTOMS, causes, ranked, separating
from hushed_wire.finding import codes
from hushed_wire.rig import load_rig
from support import ROOT, demo, program, program_json


class Corpus(unittest.TestCase):
    def test_faults_are_named_first_with_their_lines(self) -> None:
        verdicts = [judge(case) for case in list(faults(1))[::2]]
        missed = [v for v in verdicts if v.first != v.case.code or not v.right]
        share = 1 - len(missed) / len(verdicts)
        print(f"accuracy: {len(verdicts)} captures with a fault, the cause named first with its lines in {share:.1%}")
        self.assertGreaterEqual(share, 0.98, [(str(v.case), v.case.code, v.wrong) for v in missed])

    def test_healthy_captures_yield_nothing(self) -> None:
        verdicts: list[Verdict] = [judge(case) for case in list(healthy(168))[::3]]
        false = [(str(v.case), v.wrong) for v in verdicts if v.wrong]
        print(f"accuracy: {len(verdicts)} healthy captures, findings on {len(false)}")
        self.assertEqual(false, [])

    def test_a_capture_that_begins_within_one_long_transfer_was_blamed_once(self) -> None:
        self.assertEqual(judge(Case("spi ssd1306", "", seed=133, jitter=2e-9, late=0.4343782)).wrong, [])


class Explained(unittest.TestCase):
    def test_every_code_is_explained_on_its_page_and_by_about(self) -> None:
        self.assertEqual((ROOT / "docs" / "findings.md").read_text(), as_page(), "run make findings")
        for code in codes():
            entry = about(code)
            self.assertTrue(entry.severity and entry.means and entry.looks and entry.why and entry.mend, code)
        self.assertIn("mend", program("diagnose", "--about", "wiring.glitches").stdout.decode())
        done = program("diagnose", "--about", "wiring.glitch")
        self.assertEqual(done.returncode, 2)
        self.assertIn("did you mean 'wiring.glitches'", done.stderr.decode())

    def test_what_is_seen_ranks_causes_that_fit_both(self) -> None:
        self.assertEqual({cause.code for cause in causes() if cause.code} - set(codes()), set())
        for place in ("pump-room", "front-desk", "gate-signal", "gate-keeper"):
            rig = load_rig(demo() / f"{place}.toml")
            for sight in SYMPTOMS:
                entries = ranked(sight, rig, None)
                if sight in ("blank", "dim", "garbled"):
                    self.assertGreater(len(entries), 1, (place, sight))
                    self.assertIn(entries[0].cause, separating(entries))
        seen = program_json("diagnose", "no-pump.vcd", "--rig", "front-desk.toml", "--seen", "blank")["seen"]
        self.assertEqual((seen["causes"][0]["cause"], seen["causes"][0]["shown"]), ("setup.charge-pump-off", True))
        seen = program_json("diagnose", "healthy.vcd", "--rig", "front-desk.toml", "--seen", "blank")["seen"]
        self.assertEqual(
            [entry for entry in seen["causes"] if entry["shown"]], []
        )  # the wires are right, so it is none of theirs
        seen = program_json("diagnose", "--seen", "flicker-on-camera-only", "--rig", "gate-signal.toml")["seen"]
        self.assertEqual([entry["cause"] for entry in seen["causes"]], ["camera only"])

    def test_margins_junit_and_the_figure(self) -> None:
        told = {
            entry["symbol"]: entry
            for entry in program_json("diagnose", "handheld.vcd", "--rig", "handheld.toml", "--margins")["margins"]
        }
        self.assertEqual((told["tS2"]["required"], told["tS2"]["beyond"]), (60e-9, 0))
        self.assertAlmostEqual(told["spi_clock"]["usual"], 500e-9, delta=2e-9)
        self.assertEqual(
            program("diagnose", "no-pump.vcd", "--rig", "front-desk.toml", "--format", "junit", "-o", "out.xml").returncode, 1
        )
        suite = ElementTree.fromstring((demo() / "out.xml").read_text())
        self.assertEqual((suite.get("failures"), suite[0].get("name")), ("1", "setup.charge-pump-off"))
        suites = [
            ElementTree.fromstring(program("diagnose", name, "--format", "junit").stdout)
            for name in ("no-pump.vcd", "healthy.vcd", "handheld.vcd", "quiet.vcd")
        ]
        names = [sorted({case.get("name") for case in suite}) for suite in suites]
        self.assertEqual(names, [names[0]] * 4, "the same cases for every capture")
        self.assertEqual([suite.get("failures") for suite in suites], ["1", "0", "0", "1"])
        (demo() / "bad.vcd").write_text("nothing\n")
        bad = program("diagnose", "bad.vcd", "--format", "junit")
        self.assertEqual((bad.returncode, ElementTree.fromstring(bad.stdout).get("errors")), (2, "1"))
        done = program(
            "diagnose", "swapped.vcd", "--rig", "front-desk.toml", "--picture", "fault.png", "--format", "json", "--all"
        )
        self.assertEqual((demo() / "fault.png").read_bytes()[:4], b"\x89PNG")
        self.assertIn("explained_away", json.loads(done.stdout))
        self.assertEqual(program("diagnose").returncode, 2)


if __name__ == "__main__":
    unittest.main()
