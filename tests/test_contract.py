"""The contract of the command line: exit statuses and one clear line, whatever the streams are and whatever goes wrong."""

from __future__ import annotations

import gzip
import json
import os
import re
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path
from xml.etree import ElementTree

from hushed_wire.harmless import hazardous, no_formula
from hushed_wire.link import wire_talk
from hushed_wire.link.base import LinkLost, LinkUnusable
from hushed_wire.link.serial_probe import SerialProbe
from support import PROGRAM, demo, program


def shell(line: str, **env: str) -> subprocess.CompletedProcess[bytes]:
    """A command line of bash, `hw` being the program; pipes fail as their parts do."""
    text = f'set -o pipefail; hw() {{ "{PROGRAM}" "$@"; }}; {line}'
    return subprocess.run(
        ["bash", "-c", text], cwd=demo(), env={**os.environ, **env}, capture_output=True, timeout=120, check=False
    )


class Streams(unittest.TestCase):
    def test_a_closed_stream_changes_no_status(self) -> None:
        for line in (
            "hw diagnose swapped.vcd >&-",
            "hw diagnose swapped.vcd 2>&-",
            "hw diagnose swapped.vcd <&-",
            "hw diagnose swapped.vcd >&- 2>&- <&-",
        ):
            with self.subTest(line):
                done = shell(line)
                self.assertEqual((done.returncode, b"Traceback" in done.stderr + done.stdout), (1, False), done.stderr)
        self.assertEqual(shell("hw catalog >&-").returncode, 0)
        self.assertEqual(shell("hw diagnose nothing.vcd 2>&-").returncode, 2)

    def test_a_pipe_whose_reader_has_left_keeps_the_verdict(self) -> None:
        for line, status in (("hw diagnose swapped.vcd | true", 1), ("hw diagnose healthy.vcd | true", 0), ("hw diagnose swapped.vcd --format json | true", 1),
                             ("hw catalog ssd1306 | head -1", 0), ("hw decode healthy.vcd | head -1", 0)):  # fmt: skip
            with self.subTest(line):
                done = shell(line)
                self.assertEqual(
                    (done.returncode, b"Traceback" in done.stderr, b"Exception" in done.stderr),
                    (status, False, False),
                    done.stderr,
                )

    def test_what_a_stream_cannot_show_is_replaced(self) -> None:
        for encoding in ("ascii", "latin-1", "cp437"):
            for line, status in (
                ("hw diagnose too-fast.vcd", 1),
                ("hw screen healthy.vcd", 0),
                ("hw catalog hd44780", 0),
                ("hw diagnose 'é µ.vcd'", 2),
            ):
                with self.subTest(encoding=encoding, line=line):
                    done = shell(line, PYTHONIOENCODING=encoding)
                    self.assertEqual((done.returncode, b"Traceback" in done.stderr), (status, False), done.stderr)


class LastResort(unittest.TestCase):
    def test_a_defect_is_one_line_and_no_finding(self) -> None:
        code = (
            "import sys; import hushed_wire.cli.lines as own; own.run = lambda args: 1 // 0; "
            "sys.argv = ['hushed-wire', 'lines', 'healthy.vcd']; from hushed_wire.cli.main import main; sys.exit(main())"
        )
        for trace in ("", "1"):
            env = {**os.environ, "HUSHED_WIRE_TRACE": trace}
            done = subprocess.run([sys.executable, "-c", code], cwd=demo(), env=env, capture_output=True, timeout=60, check=False)
            self.assertEqual(done.returncode, 2)
            said = done.stderr.decode().strip().split("\n")
            self.assertIn("hushed-wire: lines: this should not have happened: ZeroDivisionError at", said[-2])
            self.assertIn("HUSHED_WIRE_TRACE=1", said[-1])
            self.assertEqual(len(said) > 2, bool(trace))

    def test_times_ahead_of_a_trigger(self) -> None:
        done = program("decode", "healthy.vcd", "--from", "-280us", "--to", "2ms", "--summary")
        self.assertEqual(done.returncode, 0, done.stderr)
        self.assertEqual(program("decode", "healthy.vcd", "--from", "-4V").returncode, 2)
        with tempfile.TemporaryDirectory() as text:
            file = Path(text) / "trigger.csv"
            rows = [f"{(number - 200) * 1e-6:.6f},{number % 2},{number // 3 % 2}" for number in range(400)]
            file.write_text("\n".join(["Time [s],A,B", *rows]) + "\n")
            found = program("find", str(file), "high(A)<1.5us", "--most", "3").stdout.decode()
            shown = re.findall(r"--from (-[0-9.]+us) --to (-[0-9.]+us)", found)
            self.assertEqual(len(shown), 3, found)
            for start, end in shown:
                self.assertEqual(program("lines", str(file), "--from", start, "--to", end).returncode, 0)


HOSTILE = "SCL\x1b[31m", "=1+1|SDA\u202e"


def hostile() -> str:
    """A healthy capture whose lines have names that a terminal, a reader of XML or a spreadsheet would obey."""
    text = (demo() / "healthy.vcd").read_text(encoding="utf-8")
    for plain, name in zip(("SCL", "SDA"), HOSTILE, strict=True):
        text = text.replace(f" {plain} $end", f" {name} $end")
    return text


class Names(unittest.TestCase):
    def setUp(self) -> None:
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        (self.folder / "own.vcd").write_text(hostile(), encoding="utf-8")

    def run_here(self, *words: str) -> subprocess.CompletedProcess[bytes]:
        return subprocess.run([PROGRAM, *words], cwd=self.folder, capture_output=True, timeout=120, check=False)

    def test_what_a_terminal_would_obey_is_escaped(self) -> None:
        for line in (
            "lines own.vcd",
            "diagnose own.vcd",
            "diagnose own.vcd -v",
            "decode own.vcd",
            "lines own.vcd --color always",
        ):
            words = line.split()
            with self.subTest(line):
                done = self.run_here(*words)
                self.assertEqual(done.returncode, 0, done.stderr)
                said = re.sub("\x1b\\[[0-9;]*m", "", done.stdout.decode()) if "always" in words else done.stdout.decode()
                self.assertFalse(set(said) & {"\x1b", "\u202e"})
                self.assertIn("\\x1b[31m", said)
        for name in ("a\x1b[2J.vcd", "b\u202e.vcd", "c\nd.vcd", "e" * 5000):
            done = self.run_here("diagnose", name)
            said = done.stderr.decode()
            self.assertEqual((done.returncode, said.count("\n") in (1, 2)), (2, True), said)
            self.assertFalse(set(said) & {"\x1b", "\u202e"})
            self.assertLess(len(said), 1500)

    def test_reports_for_other_programs_stay_readable_by_them(self) -> None:
        done = self.run_here("diagnose", "own.vcd", "--format", "junit", "--fail-on", "note")
        ElementTree.fromstring(done.stdout)
        self.assertEqual(self.run_here("plot", "own.vcd", "-o", "own.svg").returncode, 0)
        drawn = (self.folder / "own.svg").read_text(encoding="utf-8")
        ElementTree.fromstring(drawn)
        self.assertIn("x1b", drawn)
        names = [line["name"] for line in json.loads(self.run_here("lines", "own.vcd", "--format", "json").stdout)["lines"]]
        self.assertEqual(names, list(HOSTILE))  # what programs read is as it stands in the file

    def test_text_as_programs_export_it(self) -> None:
        text = (demo() / "healthy.vcd").read_text(encoding="utf-8").replace("SDA", "Fähre-µ")
        plain = None
        for name, data in {
            "plain": text.encode(),
            "bom": b"\xef\xbb\xbf" + text.encode(),
            "utf16": text.encode("utf-16"),
            "big": b"\xfe\xff" + text.encode("utf-16-be"),
            "packed": gzip.compress(text.encode("utf-16")),
            "latin": text.encode("latin-1"),
        }.items():
            with self.subTest(name):
                (self.folder / f"{name}.vcd").write_bytes(data)
                done = json.loads(self.run_here("lines", f"{name}.vcd", "--format", "json").stdout)["lines"]
                plain = plain or done
                self.assertEqual(done, plain)
                self.assertEqual([line["name"] for line in done], ["SCL", "Fähre-µ"])
        with (self.folder / "utf16.vcd").open("rb") as file:  # from a pipe, too
            done = subprocess.run(
                [PROGRAM, "lines", "-", "--format", "json"], stdin=file, capture_output=True, timeout=60, check=True
            )
        self.assertEqual(json.loads(done.stdout)["lines"], plain)
        self.assertEqual(self.run_here("convert", "utf16.vcd", "-o", "again.vcd").returncode, 0)
        self.assertEqual(json.loads(self.run_here("lines", "again.vcd", "--format", "json").stdout)["lines"], plain)

    def test_cells_that_a_spreadsheet_would_calculate(self) -> None:
        for cell, shown in (
            ("=1+1", "'=1+1"),
            ("@x", "'@x"),
            ("-x", "'-x"),
            ("-0.5", "-0.5"),
            ("+3", "+3"),
            ("plain", "plain"),
            (7, 7),
            ("a\x1bb", "a\\x1bb"),
        ):
            self.assertEqual(no_formula(cell), shown)
            self.assertEqual(hazardous(f"0,{cell},x\n"), cell != shown)


class Written(unittest.TestCase):
    def test_an_input_or_another_output_is_never_overwritten(self) -> None:
        with tempfile.TemporaryDirectory() as text:
            folder = Path(text)
            for name in ("healthy.vcd", "front-desk.toml", "tide.hush"):
                (folder / name).write_bytes((demo() / name).read_bytes())
            (folder / "link.vcd").symlink_to("healthy.vcd")
            (folder / "hard.hush").hardlink_to(folder / "tide.hush")
            before = {path.name: path.read_bytes() for path in folder.iterdir()}
            for line in (
                "convert healthy.vcd -o healthy.vcd",
                "convert healthy.vcd -o ./link.vcd",
                "decode healthy.vcd --rig front-desk.toml -o front-desk.toml",
                "rehearse tide.hush --rig front-desk.toml -o hard.hush",
                "plot healthy.vcd -o new.png --save-rig ./new.png",
                "screen healthy.vcd --picture healthy.vcd",
            ):
                with self.subTest(line):
                    done = subprocess.run([PROGRAM, *line.split()], cwd=folder, capture_output=True, timeout=60, check=False)
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(b"would overwrite", done.stderr)
            self.assertEqual(before, {path.name: path.read_bytes() for path in folder.iterdir()})
            (folder / "out.txt").symlink_to("target.txt")
            subprocess.run([PROGRAM, "catalog", "ssd1306"], cwd=folder, capture_output=True, timeout=60, check=True)
            line = [PROGRAM, "decode", "healthy.vcd", "-o", "out.txt"]
            subprocess.run(line, cwd=folder, capture_output=True, timeout=60, check=True)
            self.assertTrue((folder / "out.txt").is_symlink())
            self.assertIn(b"I2C", (folder / "target.txt").read_bytes())

    def test_ended_from_outside_nothing_is_left(self) -> None:
        with tempfile.TemporaryDirectory() as text:
            folder = Path(text)
            (folder / "slow.vcd").write_bytes((demo() / "healthy.vcd").read_bytes())
            os.mkfifo(folder / "pipe")
            running = subprocess.Popen(
                [PROGRAM, "decode", "-", "--rig", str(demo() / "front-desk.toml"), "--format", "jsonl", "-o", "out.jsonl"],
                cwd=folder,
                stdin=subprocess.PIPE,
                stderr=subprocess.PIPE,
            )
            assert running.stdin is not None
            running.stdin.write((folder / "slow.vcd").read_bytes()[:300_000])
            running.stdin.flush()
            until = time.monotonic() + 60
            while time.monotonic() < until and len(list(folder.iterdir())) < 3:  # what it writes, under its temporary name
                time.sleep(0.05)
            self.assertEqual(len(list(folder.iterdir())), 3)
            running.terminate()
            _, said = running.communicate(timeout=30)
            self.assertEqual((running.returncode, b"Traceback" in said), (143, False), said)
            self.assertEqual(sorted(path.name for path in folder.iterdir()), ["pipe", "slow.vcd"])


class Found(unittest.TestCase):
    """What `make fuzz` found: each of these ended in the last resort once."""

    def test_found_by_chance(self) -> None:
        bitmap = "STARTFONT 2.1\nCHARS 1\nSTARTCHAR A\nENCODING 65\nDWIDTH 5 0\nBBX 5 2 0 0\nBITMAP\n20\n50\nENDCHAR\nENDFONT\n"
        with tempfile.TemporaryDirectory() as text:
            for name, data, line, status, said in (
                ("nothing.hush", b"wait 100ms\n", "build nothing.hush --rig RIG", 0, ""),
                ("zero.hush", b"include a\0b.hush\n", "build zero.hush --rig RIG", 2, "byte 9 is zero"),
                ("return.csv", b'Time,A,B\n0,1,0\n1,0,1\n"2\r",', "lines return.csv", 0, ""),
                ("times.csv", b"| t  | t  |\n|--|---|\n| 0 | 0 |\n| 5 | 5 |\n", "lines times.csv", 2, "no line"),
                ("bomb.pgm", b"P5\n15351 9467\n255\n", "pack bomb.pgm --part ssd1306", 2, "15351x9467"),
                ("low.bdf", bitmap.encode(), "glyphs low.bdf", 2, "the font is 0 dots high"),
            ):
                with self.subTest(name):
                    (Path(text) / name).write_bytes(data)
                    words = line.replace("RIG", str(demo() / "front-desk.toml")).split()
                    done = subprocess.run([PROGRAM, *words], cwd=text, capture_output=True, timeout=60, check=False)
                    told = done.stderr.decode()
                    self.assertEqual((done.returncode, "should not have happened" in told), (status, False), told)
                    self.assertIn(said, told)
                    self.assertTrue(not told or told.startswith(("hushed-wire: ", "warning: ")), told)


class Bounds(unittest.TestCase):
    def test_quantities_beyond_reckoning(self) -> None:
        for text in ("1e400s", "-1e400s", "1e9999999s", "infs", "nans", "9" * 5000 + "s"):
            done = program("decode", "healthy.vcd", f"--from={text}", "--summary")
            self.assertEqual((done.returncode, b"should not have happened" in done.stderr), (2, False), done.stderr)
        for mishap in (
            "spike:SCL,99999999",
            "spike:SCL,²",
            "lag:SCL,-3us",
            "late-start:1e30s",
            "drop-clock:SCL,99999999",
            "loose:SDA,1e9",
            "clock:-5kHz",
        ):
            done = program("rehearse", "tide.hush", "--rig", "front-desk.toml", "-o", os.devnull, "--mishap", mishap)
            self.assertEqual((done.returncode, b"should not have happened" in done.stderr), (2, False), (mishap, done.stderr))

    def test_files_without_an_end(self) -> None:
        with tempfile.TemporaryDirectory() as text:
            folder = Path(text)
            os.mkfifo(folder / "pipe")
            sequences = {
                "fifo": "include pipe",
                "zero": "include /dev/zero",
                "word": "fill " + "x" * 1_000_000,
                "text": 'text 0,0 "' + "x" * 100_000 + '"',
            }
            for number in range(30):
                sequences[f"e{number}"] = f"include e{number + 1}.hush\ninclude e{number + 1}.hush"
            for name, body in {**sequences, "e30": "display-on"}.items():
                (folder / f"{name}.hush").write_text(body + "\n")
            rig = str(demo() / "front-desk.toml")
            for words, said in (
                (["build", "fifo.hush", "--rig", rig], b"is no file"),
                (["build", "zero.hush", "--rig", rig], b"is no file"),
                (["build", "e0.hush", "--rig", rig], b"too much is included"),
                (["build", "word.hush", "--rig", rig], b"a word of 1,000,000 characters"),
                (["build", "text.hush", "--rig", rig], b"a word of 100,0"),
                (["wiring", "/dev/zero"], b"more than 8 MB"),
                (["build", "/dev/zero", "--rig", rig], b"more than 8 MB"),
            ):
                with self.subTest(words):
                    done = subprocess.run([PROGRAM, *words], cwd=folder, capture_output=True, timeout=60, check=False)
                    self.assertEqual(done.returncode, 2)
                    self.assertIn(said, done.stderr)


class Played:
    """A port whose probe answers what a test says."""

    in_waiting = 0

    def __init__(self, *answers: str) -> None:
        self.answers, self.waiting = list(answers), b""

    def write(self, request: bytes) -> None:
        """The next answer goes out under the request's number."""
        number = wire_talk.unpack(request.strip())[0]  # type: ignore[index]
        verb, *words = self.answers.pop(0).split()
        self.waiting += wire_talk.pack(number, verb, *words)

    def read(self, _: int) -> bytes:
        """All that waits."""
        waiting, self.waiting = self.waiting, b""
        return waiting


class ProbeAnswers(unittest.TestCase):
    def test_answers_that_make_no_sense_end_the_link(self) -> None:
        for room in ("x", "-1", "1e9", "99999999999"):
            with self.assertRaisesRegex(LinkUnusable, "number"):
                SerialProbe("port", Played(f"done talk=1 name=bench room={room}"))
        for answer in ("done zz", "done a", "done 0102", "refused -1", "refused x", "refused 77"):
            link = SerialProbe("port", Played("done talk=1 name=bench room=32", answer))
            with self.subTest(answer), self.assertRaisesRegex(LinkLost, "the probe answers"):
                link.read(0x3C, 1)
        self.assertEqual(SerialProbe("port", Played("done talk=1 room=32", "done 5a")).read(0x3C, 1), b"\x5a")


if __name__ == "__main__":
    unittest.main()
