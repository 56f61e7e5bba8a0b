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
        # A set-up alone, as volts of a whole picture are a hundred times as long and tell no more of the wires.
        (demo() / "short.hush").write_text(
            "".join(
                line
                for line in (demo() / "tide.hush").read_text().splitlines(True)
                if "picture" not in line and "fill" not in line
            )
        )
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
        program("rehearse", "short.hush", "--rig", "low.toml", "--volts", "--rate", "8MHz", "-q", "-o", "low-volts.csv")
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

    def test_what_was_not_judged_is_no_all_good(self) -> None:
        """Good, good as far as it can be told, not judged: in text, JSON, JUnit, a sweep and the exit status."""
        two = (
            demo() / "front-desk.toml"
        ).read_text() + '[[device]]\nname = "spare"\non = "front"\npart = "ssd1306"\naddress = 0x3C\npanel = "128x64"\n'
        (demo() / "two.toml").write_text(two)
        hum = "$timescale 1us $end\n$var wire 1 a A $end\n$var wire 1 b B $end\n$var wire 1 c C $end\n$enddefinitions $end\n#0\n0a\n0b\n1c\n"
        hum += "".join(f"#{at}\n{at // 7 % 2}a\n{at // 31 % 2}b\n" for at in range(7, 40_000, 7))
        (demo() / "hum.vcd").write_text(hum)
        for name, rig, wanted, status, said in (
            ("healthy.vcd", "front-desk.toml", "good", 0, "look beyond them"),
            ("healthy.vcd", "", "good as far as it can be told", 0, "had to be assumed"),
            ("late.vcd", "front-desk.toml", "not judged", 2, "no word for 'tide'"),
            ("old-box-1.vcd", "", "not judged", 2, "no part of the catalog was recognised"),
            ("hum.vcd", "", "not judged", 2, "no display's bus"),
            ("swapped.vcd", "front-desk.toml", "findings", 1, "exchanged"),
        ):
            with self.subTest(name, rig=rig):
                words = ("--rig", rig) if rig else ()
                done = program("diagnose", name, *words, "--format", "json")
                told = json.loads(done.stdout)
                self.assertEqual((told["judgement"], done.returncode), (wanted, status))
                self.assertIn(said, told["verdict"])
                self.assertEqual(
                    bool(told["untold"]), wanted == "good as far as it can be told" or name in ("late.vcd", "hum.vcd")
                )
                text = program("diagnose", name, *words).stdout.decode()
                for reason in told["untold"]:
                    self.assertIn(reason[:40], re.sub(r"\s+", " ", text))
                self.assertEqual(program("diagnose", name, *words, "--fail-on", "never").returncode, 0)
                junit = ET.fromstring(program("diagnose", name, *words, "--format", "junit").stdout)
                self.assertEqual(junit.get("errors"), str(int(wanted == "not judged")))
                if name != "hum.vcd":
                    alone = scratch()
                    shutil.copy(demo() / name, alone / name)
                    swept = program("sweep", str(alone), *words, "--format", "json")
                    one = json.loads(swept.stdout)["captures"][0]
                    self.assertEqual((one["status"], one["code"] == "not-judged"), (status, wanted == "not judged"))
                    self.assertEqual(swept.returncode, status)
        # A display that hears nothing while its bus is busy is a finding.
        done = program("diagnose", "healthy.vcd", "--rig", "two.toml", "--format", "json")
        first = json.loads(done.stdout)["findings"][0]
        self.assertEqual((first["code"], first["device"], done.returncode), ("capture.unlike-rig", "spare", 1))


if __name__ == "__main__":
    unittest.main()
