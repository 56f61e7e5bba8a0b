"""The library as programs use it: the page's examples, what each call gives and refuses, catalogs side by side."""

from __future__ import annotations

import contextlib
import io
import os
import re
import subprocess
import sys
import threading
import typing
import unittest
from pathlib import Path

import numpy as np

import hushed_wire
from hushed_wire import HushedError, library
from hushed_wire.part.catalogs import SHIPPED
from support import ROOT, demo, scratch

PAGE = ROOT / "docs" / "library.md"
EXAMPLES = re.findall(r"```python\n(.*?)```", PAGE.read_text(), re.DOTALL)


class Page(unittest.TestCase):
    def run_in_demo(self, text: str) -> tuple[dict[str, typing.Any], str]:
        printed, space = io.StringIO(), {"__name__": "example"}
        before = Path.cwd()
        os.chdir(demo())
        try:
            with contextlib.redirect_stdout(printed):
                exec(compile(text, str(PAGE), "exec"), space)
        finally:
            os.chdir(before)
        return space, printed.getvalue()

    def test_the_first_example_names_the_cause(self) -> None:
        _, printed = self.run_in_demo(EXAMPLES[0])
        self.assertIn("the charge pump is not switched on", printed.splitlines()[0])
        self.assertIn("fault setup.charge-pump-off 0.0251", printed)

    def hil(self, capture: str) -> unittest.TestResult:
        space, _ = self.run_in_demo(EXAMPLES[1].replace("healthy.vcd", capture))
        result = unittest.TestResult()
        before = Path.cwd()
        os.chdir(demo())
        try:
            unittest.defaultTestLoader.loadTestsFromTestCase(space["FrontDesk"]).run(result)
        finally:
            os.chdir(before)
        return result

    def test_the_hardware_test_passes_on_a_good_board_and_says_why_on_others(self) -> None:
        good = self.hil("healthy.vcd")
        self.assertEqual((good.testsRun, good.failures, good.errors), (4, [], []))
        for capture, said in (("no-pump.vcd", "charge pump is not switched on"), ("too-fast.vcd", "MHz")):
            bad = self.hil(capture)
            self.assertIn(said, "".join(text for _, text in bad.failures))

    def test_the_last_example_lists_commands_and_the_glass(self) -> None:
        _, printed = self.run_in_demo(EXAMPLES[2])
        for said in ("0x23 is a pcf8574 with a character display behind it", "hd44780 function-set", "'PUMP 2  12.4 l/s"):
            self.assertIn(said, printed)

    def test_the_table_names_every_call(self) -> None:
        calls = re.findall(r"^\| `(\w+)", PAGE.read_text(), re.MULTILINE)
        self.assertEqual(set(calls), set(hushed_wire.__all__) - {"__version__"})


class Calls(unittest.TestCase):
    def test_everything_is_typed_and_nothing_is_loaded_ahead(self) -> None:
        for name in library.__all__:
            hints = typing.get_type_hints(getattr(library, name))
            self.assertIn("return", hints, name)
            self.assertNotIn(typing.Any, hints.values(), name)
        code = "import sys, hushed_wire; print(*(m for m in sys.modules if m.startswith(('numpy', 'msgspec', 'hushed_wire.'))))"
        loaded = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout.split()
        self.assertEqual(set(loaded), {"hushed_wire.lazy", "hushed_wire.version"})

    def test_what_cannot_be_done_is_one_error(self) -> None:
        capture = hushed_wire.read_capture(demo() / "healthy.vcd")
        rig = hushed_wire.load_rig(demo() / "front-desk.toml")
        for call, said in (
            (lambda: hushed_wire.read_capture(demo() / "absent.vcd"), "no such file"),
            (lambda: hushed_wire.read_capture(demo() / "healthy.vcd", raw=1), "no sample rate"),
            (lambda: hushed_wire.read_capture(demo() / "healthy.vcd", raw=1, rate="20MV"), "rate: '20MV'"),
            (lambda: hushed_wire.screen(capture), "a capture alone does not tell"),
            (lambda: hushed_wire.screen(capture, rig, at=3.0), "3 s is beside the capture"),
            (lambda: hushed_wire.rehearse(demo() / "tide.hush", rig, mishaps=["swop"]), "swop"),
            (lambda: hushed_wire.load_part("ssd1307"), "no part 'ssd1307'"),
            (lambda: hushed_wire.decode(capture, hushed_wire.load_rig(demo() / "handheld.toml")), "lacks"),
        ):
            with self.assertRaises(HushedError) as caught:
                call()
            self.assertIn(said, str(caught.exception))
            self.assertTrue(caught.exception.remedy, said)

    def test_a_moment_is_what_the_glass_showed_then(self) -> None:
        capture = hushed_wire.read_capture(demo() / "healthy.vcd")
        setup = hushed_wire.guess_rig(capture)
        early, late = (hushed_wire.screen(capture, setup, at=at)["ssd1306-3d"] for at in (0.001, None))
        self.assertEqual((early.shown, late.shown), (False, True))
        reading = hushed_wire.decode(capture, setup)
        self.assertTrue(np.array_equal(hushed_wire.screen(reading)["ssd1306-3d"].visible, late.visible))


class Catalogs(unittest.TestCase):
    def test_two_live_in_one_process(self) -> None:
        folders = []
        for title in ("first of them", "second of them"):
            folder = scratch()
            text = (SHIPPED / "pcd8544.toml").read_text()
            (folder / "tidelcd.toml").write_text(re.sub(r"^title = .*$", f'title = "{title}"', text, count=1, flags=re.MULTILINE))
            folders.append(folder)
        first, second = (hushed_wire.Catalog([folder]) for folder in folders)
        seen: dict[str, str] = {}

        def ask(catalog: hushed_wire.Catalog, key: str) -> None:
            with catalog.in_use():
                both.wait(10)
                seen[key] = hushed_wire.load_part("tidelcd").title

        both = threading.Barrier(2)
        threads = [threading.Thread(target=ask, args=pair) for pair in ((first, "first"), (second, "second"))]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        self.assertEqual(seen, {"first": "first of them", "second": "second of them"})
        with first.in_use(), second.in_use():
            self.assertEqual(hushed_wire.load_part("tidelcd").title, "second of them")
        with self.assertRaises(HushedError):
            hushed_wire.load_part("tidelcd")  # outside, the parts that ship are asked

    def test_a_part_stays_as_it_is(self) -> None:
        part = hushed_wire.load_part("ssd1306")
        with self.assertRaises(AttributeError):
            part.title = "another"  # type: ignore[misc]
        with self.assertRaisesRegex(HushedError, "no such folder"):
            hushed_wire.Catalog([demo() / "absent"])


if __name__ == "__main__":
    unittest.main()
