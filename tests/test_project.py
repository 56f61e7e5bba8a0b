"""A folder's own file: what it says stands in place of options, what is given counts more, and `init` writes it."""

import json
import shutil
import tomllib
import unittest
from pathlib import Path

from hushed_wire.errors import HushedError
from hushed_wire.project import find_project
from support import demo, program, scratch


def project(text: str) -> Path:
    """A folder with a project, and one below it with captures of the demo."""
    folder = scratch()
    below = folder / "captures"
    below.mkdir()
    (folder / "hushed.toml").write_text(text)
    for name in ("front-desk.toml", "tide.hush", "tide.pbm"):
        shutil.copy(demo() / name, folder / name)
    for name in ("no-pump.vcd", "handheld.vcd", "healthy-volts.csv.gz"):
        shutil.copy(demo() / name, below / name)
    return below


class Values(unittest.TestCase):
    def test_the_rig_of_a_folder_above(self) -> None:
        below = project('rig = "front-desk.toml"\nfail-on = "never"\n')
        done = program("diagnose", "no-pump.vcd", "-v", cwd=below)
        self.assertEqual(done.returncode, 0, "fail-on")
        self.assertIn(b"On 'tide', the charge pump", done.stdout)
        self.assertRegex(done.stderr.decode(), r"from \S+hushed.toml: rig \.\./front-desk\.toml, fail-on never")
        self.assertIn(b"On 'ssd1306-3d'", program("diagnose", "no-pump.vcd", "--no-project", cwd=below).stdout)
        self.assertIn(b"'sh1106-3d'", program("diagnose", "no-pump.vcd", "--part", "sh1106", cwd=below).stdout)
        both = program("diagnose", "no-pump.vcd", "--rig", "../front-desk.toml", "--part", "sh1106", cwd=below)
        self.assertIn(b"both say what hangs on the wires", both.stderr)
        self.assertEqual(program("diagnose", "no-pump.vcd", "--fail-on", "fault", cwd=below).returncode, 1)

    def test_where_a_rig_is_asked_for(self) -> None:
        below = project('rig = "front-desk.toml"\n')
        self.assertIn(b"Front desk: 4 wires", program("wiring", cwd=below).stdout)
        made = program("rehearse", "../tide.hush", "-o", "out.vcd", cwd=below)
        self.assertEqual((made.returncode, (below / "out.vcd").is_file()), (0, True), made.stderr)
        sent = program("send", "../tide.hush", cwd=below)
        self.assertEqual(sent.returncode, 0, sent.stderr)

    def test_a_capture_of_something_else(self) -> None:
        below = project('rig = "front-desk.toml"\n')
        done = program("decode", "handheld.vcd", cwd=below)
        self.assertEqual(done.returncode, 2)
        self.assertIn(b"the rig is that of", done.stderr)
        self.assertEqual(program("decode", "handheld.vcd", "--no-project", cwd=below).returncode, 0)

    def test_a_rate_is_for_files_that_tell_none(self) -> None:
        below = project('rate = "1MHz"\nthreshold = "1.2V"\n')
        (below / "levels.csv").write_text("SCL,SDA\n1,1\n1,0\n0,0\n1,0\n0,0\n1,1\n")
        for name, lasts in (("healthy-volts.csv.gz", 0.0538), ("levels.csv", 6e-6), ("no-pump.vcd", 0.0537)):
            done = program("lines", name, "--format", "json", cwd=below)
            self.assertAlmostEqual(json.loads(done.stdout)["duration"] / lasts, 1, 2, name)
            self.assertEqual(done.stderr, b"", name)
        text = program("lines", "healthy-volts.csv.gz", cwd=below).stdout.decode()
        self.assertIn("threshold 1.20 V", text)

    def test_it_is_never_overwritten_by_a_product(self) -> None:
        below = project('rig = "front-desk.toml"\n')
        for target in ("../hushed.toml", "../front-desk.toml"):
            done = program("decode", "no-pump.vcd", "-o", target, cwd=below)
            self.assertEqual((done.returncode, b"would overwrite" in done.stderr), (2, True), done.stderr)

    def test_what_makes_no_sense_is_one_error(self) -> None:
        for text, said in (
            ("rig = ", "not TOML"), ('colour = "x"', "no key 'colour'"), ("rate = 5", "is no text"), ('color = "blue"', "it can be: auto"),
            ("\0", "cannot be read as text"), ('rate = "abc"', "hushed.toml: rate: 'abc' is not a frequency"),
        ):  # fmt: skip
            folder = scratch()
            (folder / "hushed.toml").write_text(text)
            done = program("lines", str(demo() / "healthy.vcd"), cwd=folder)
            self.assertEqual(done.returncode, 2, text)
            self.assertIn(said, done.stderr.decode())
            if "rate =" not in text or "5" in text:
                with self.assertRaises(HushedError):
                    find_project(folder)
        self.assertIsNone(find_project(scratch()))


class Init(unittest.TestCase):
    def test_from_a_capture(self) -> None:
        folder = scratch()
        shutil.copy(demo() / "no-pump.vcd", folder / "no-pump.vcd")
        done = program("init", "no-pump.vcd", cwd=folder)
        self.assertEqual(done.returncode, 0, done.stderr)
        rig = tomllib.loads((folder / "rig.toml").read_text())
        self.assertEqual((rig["device"][0]["part"], rig["device"][0]["address"]), ("ssd1306", 0x3D))
        self.assertIn("address = 0x3d", (folder / "rig.toml").read_text())
        told = json.loads(program("diagnose", "no-pump.vcd", "--format", "json", cwd=folder).stdout)
        self.assertEqual((told["findings"][0]["code"], told["assumed"]), ("setup.charge-pump-off", {}))
        again = program("init", "no-pump.vcd", cwd=folder)
        self.assertEqual((again.returncode, b"is there already" in again.stderr), (2, True))

    def test_from_answers(self) -> None:
        folder = scratch()
        answers = b"hd44780\n20x4\nD4\nD5\nD6\nD7\n\n-\n\n-\n5V\n"
        done = program("init", cwd=folder, stdin=answers)
        self.assertEqual(done.returncode, 0, done.stderr)
        rig = tomllib.loads((folder / "rig.toml").read_text())
        lines = {"d4": "D4", "d5": "D5", "d6": "D6", "d7": "D7", "rs": "RS", "e": "E"}
        self.assertEqual(
            (rig["bus"][0]["lines"], rig["device"][0]["panel"], rig["bus"][0]["driver"]), (lines, "20x4", {"supply": "5V"})
        )
        self.assertEqual(program("wiring", cwd=folder).returncode, 0)

    def test_answers_that_make_no_sense(self) -> None:
        for answers, said in (
            (b"ssd130\n", b"is none of them"),
            (b"hd44780\n", b"the answers end here"),
            (b"", b"the answers end here"),
        ):
            folder = scratch()
            done = program("init", cwd=folder, stdin=answers)
            self.assertEqual((done.returncode, said in done.stderr, list(folder.iterdir())), (2, True, []), answers)


class Tour(unittest.TestCase):
    def test_ten_stops_or_one_story(self) -> None:
        folder = str(scratch() / "tour")
        told = program("demo", folder).stdout.decode()
        self.assertIn("── 10/10  ", told)
        self.assertIn("the charge pump is not switched on", told)
        story = program("demo", "draw", folder).stdout.decode()
        self.assertEqual(story.count("\n── "), 3)
        for words in (("draw", "listen"), ("a", "b")):
            self.assertEqual(program("demo", *words).returncode, 2)


class OwnInput(unittest.TestCase):
    def test_what_a_file_includes_is_not_overwritten_either(self) -> None:
        folder = scratch()
        shutil.copy(demo() / "front-desk.toml", folder / "front-desk.toml")
        shutil.copy(demo() / "tide.pbm", folder / "tide.pbm")
        (folder / "part.hush").write_text("display off\npicture tide.pbm\n")
        (folder / "main.hush").write_text("device tide\ninclude part.hush\n")
        before = {path.name: path.read_bytes() for path in folder.iterdir()}
        (folder / "link.hex").symlink_to(folder / "part.hush")
        for target in ("part.hush", "tide.pbm", "link.hex", "front-desk.toml"):
            done = program("build", "main.hush", "--rig", "front-desk.toml", "--as", "hex", "-o", target, cwd=folder)
            self.assertEqual((done.returncode, b"read by this command" in done.stderr), (2, True), (target, done.stderr))
        self.assertEqual({path.name: path.read_bytes() for path in folder.iterdir() if not path.is_symlink()}, before)
        for _ in range(2):  # a product may be made again
            done = program("build", "main.hush", "--rig", "front-desk.toml", "--as", "hex", "-o", "out.hex", cwd=folder)
            self.assertEqual((done.returncode, (folder / "out.hex").is_file()), (1, True), done.stderr)  # there are findings
