"""One capture, one verdict: whoever is asked, the command, the library, `convert --findings`, `sweep`, a report page or JUnit."""

import json
import re
import shutil
import unittest
import xml.etree.ElementTree as ET

import hushed_wire
from support import demo, program, program_json, scratch

VOLTS = ("pull-up:SDA,47kOhm", "")


class OneVerdict(unittest.TestCase):
    def captures(self) -> list[tuple[str, str]]:
        """Name and rig ("" for none) of captures in the demo's folder; some in volts, with what only volts tell."""
        for number, mishap in enumerate(VOLTS):
            words = ("--mishap", mishap) if mishap else ()
            made = program(
                "rehearse",
                "tide.hush",
                "--rig",
                "front-desk.toml",
                "--volts",
                "--rate",
                "20MHz",
                "-q",
                *words,
                "-o",
                f"volts-{number}.csv",
            )
            self.assertEqual(made.returncode, 0, made.stderr)
        low = (demo() / "front-desk.toml").read_text().replace('supply = "3.3V"', 'supply = "2V"')
        (demo() / "low.toml").write_text(low)
        program("rehearse", "tide.hush", "--rig", "low.toml", "--volts", "--rate", "20MHz", "-q", "-o", "low-volts.csv")
        volts = [f"volts-{number}.csv" for number in range(len(VOLTS))]
        with_rig = ["no-pump.vcd", "half-picture.vcd", "swapped.vcd", "low-volts.csv", *volts]
        alone = ["healthy.vcd", "half-picture.vcd", "handheld.vcd", "low-volts.csv"]
        return [(name, "front-desk.toml") for name in with_rig] + [(name, "") for name in alone]

    def test_every_way_to_ask(self) -> None:
        seen = set()
        for name, rig in self.captures():
            with self.subTest(name, rig=rig):
                words = ("--rig", rig) if rig else ()
                told = program_json("diagnose", name, *words)
                codes = [finding["code"] for finding in told["findings"]]
                seen |= set(codes)

                capture = hushed_wire.read_capture(demo() / name)
                asked = hushed_wire.diagnose(
                    capture, hushed_wire.load_rig(demo() / rig) if rig else hushed_wire.guess_rig(capture)
                )
                self.assertEqual((asked.verdict, [finding.code for finding in asked.findings]), (told["verdict"], codes))

                done = program("convert", name, *words, "--findings", "-q", "-o", "beside.vcd")
                self.assertEqual(done.returncode, 0, done.stderr)
                variables = re.findall(r"\$var reg 1 \S+ (\w+) ", (demo() / "beside.vcd").read_text())
                self.assertEqual(set(variables), {re.sub(r"[.-]", "_", code) for code in codes})

                alone = scratch()
                shutil.copy(demo() / name, alone / name)
                swept = json.loads(program("sweep", str(alone), *words, "--format", "json").stdout)["captures"][0]
                graver = [finding["code"] for finding in told["findings"] if finding["severity"] != "note"]
                self.assertEqual((swept["verdict"], swept["code"] or ""), (told["verdict"], graver[0] if graver else ""))

                program("diagnose", name, *words, "--report", "page.html")
                page = re.sub(r"<[^>]+>", " ", (demo() / "page.html").read_text())
                for code in codes:
                    self.assertIn(code, page)
                suite = ET.fromstring(program("diagnose", name, *words, "--format", "junit").stdout)
                failed = [case.get("name") for case in suite.iter("testcase") if case.find("failure") is not None]
                self.assertEqual(sorted({str(one).partition(" ")[0] for one in failed}), sorted(set(graver)))
        self.assertLessEqual({"wiring.missing-pullup", "wiring.level-mismatch"}, seen)


if __name__ == "__main__":
    unittest.main()
