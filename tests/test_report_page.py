"""The page of a diagnosis: what is in it, what a browser makes of it, and that names from files are text in it and nothing else."""

import json
import re
import shutil
import subprocess
import tempfile
import unittest
from pathlib import Path

from support import demo, program, scratch

BROWSER = shutil.which("chromium")
RIG = ("--rig", "front-desk.toml")
HOSTILE = "</script><script>document.title='ran'</script><img src=x onerror=document.title='ran'>"


def made(*words: str, cwd: Path | None = None) -> str:
    """A report, as its page."""
    out = scratch() / "report.html"
    done = program("diagnose", *words, "--report", str(out), cwd=cwd)
    assert done.returncode in (0, 1), done.stderr
    return out.read_text()


def shown(page: str) -> str:
    """What a browser makes of a page, once its script has run."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "page.html"
        path.write_text(page)
        quiet = "--disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync"
        words = [
            str(BROWSER),
            "--headless",
            "--no-sandbox",
            *quiet.split(),
            f"--user-data-dir={folder}/user",
            "--dump-dom",
            f"file://{path}",
        ]
        return subprocess.run(words, capture_output=True, text=True, timeout=120, check=True).stdout


class Page(unittest.TestCase):
    def test_it_holds_all_that_was_found_and_nothing_from_elsewhere(self) -> None:
        page = made("no-pump.vcd", *RIG)
        text = program("diagnose", "no-pump.vcd", *RIG).stdout.decode()
        for said in (
            "setup.charge-pump-off",
            "send 8D 14 (charge-pump on)",
            "pull-up 2.2kOhm to 3.3V",
            "--rig front-desk.toml --report",
            'part = "ssd1306"',
        ):
            self.assertIn(said.replace('"', "&#34;") if said not in page else said, page)
        self.assertIn(text.splitlines()[0].replace("'", "&#39;"), page)
        self.assertEqual(re.findall(r"(?:src|href)=[\"'](?!data:)[^\"']*", page), [])
        self.assertNotRegex(page, r"https?://|@import|url\(")

    def test_its_waves_are_those_of_the_capture(self) -> None:
        page = made("no-pump.vcd", *RIG)
        data = json.loads(re.findall(r'<script type="application/json" id="data">(.*?)</script>', page, re.DOTALL)[0])
        self.assertEqual([line["name"] for line in data["lines"]], ["SCL", "SDA"])
        for line in data["lines"]:
            self.assertEqual(len(line["times"]), len(line["levels"]))
            self.assertEqual(line["times"], sorted(line["times"]))
            self.assertTrue(all(a != b for a, b in zip(line["levels"][1:], line["levels"][2:], strict=False)))
        begin, end = data["focus"]
        told = [box[3] for box in data["lanes"][0]["boxes"] if box[1] > begin and box[0] < end]
        self.assertIn("display on", told)
        self.assertLess(sum(len(line["times"]) for line in data["lines"]), 30_000)

    def test_every_kind_of_display(self) -> None:
        for name, rig in (
            ("pump-room", "pump-room"),
            ("led-sign", "led-sign"),
            ("wheelhouse", "wheelhouse"),
            ("engine-room", "engine-room"),
        ):
            page = made(f"{name}.vcd", "--rig", f"{rig}.toml")
            self.assertIn("On the glass", page)
            self.assertIn("What was said there", page)

    def test_names_are_text(self) -> None:
        folder = scratch()
        text = (demo() / "no-pump.vcd").read_text().replace(" SCL ", f" {HOSTILE.replace(' ', '_')} ")
        (folder / "a<b>&.vcd").write_text(text)
        rig = (
            (demo() / "front-desk.toml")
            .read_text()
            .replace('scl = "SCL"', f'scl = "{HOSTILE.replace(" ", "_")}"')
            .replace('"tide"', f'"{HOSTILE}"')
        )
        (folder / "rig.toml").write_text(rig)
        page = made("a<b>&.vcd", "--rig", "rig.toml", cwd=folder)
        self.assertEqual(page.count("<script"), 2)
        self.assertEqual(page.count("</script>"), 2)
        self.assertNotIn("<img src=x", page)
        self.assertIn("a&lt;b&gt;&amp;.vcd", page)
        if BROWSER:
            self.assertNotIn("<title>ran", shown(page))

    @unittest.skipUnless(BROWSER, "no browser here")
    def test_a_browser_runs_its_script_and_no_other(self) -> None:
        page = made("no-pump.vcd", *RIG)
        dom = shown(page)
        self.assertRegex(dom, r'<div id="waves">')  # its own script took away `hidden`
        self.assertIn('style="display: none;"', dom)
        self.assertNotIn(
            "ran",
            re.findall(r"<title>(.*?)</title>", shown(page.replace("<main>", "<main><script>document.title='ran'</script>", 1)))[
                0
            ],
        )

    def test_what_cannot_be(self) -> None:
        folder = scratch()
        for target, said in (("report.txt", b"end its name in .html"), ("none/report.html", b"does not exist")):
            done = program("diagnose", str(demo() / "no-pump.vcd"), "--report", target, cwd=folder)
            self.assertEqual((done.returncode, said in done.stderr, list(folder.iterdir())), (2, True, []), done.stderr)
