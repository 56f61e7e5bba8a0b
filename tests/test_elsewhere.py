"""What other systems lack is not needed by what works on files, on the desk, and on a probe at a serial port."""

import ast
import shutil
import subprocess
import sys
import unittest
from pathlib import Path
from unittest import mock

import numpy as np

from hushed_wire.cli import link_options
from hushed_wire.cli.main import parser_for
from hushed_wire.errors import HushedError
from hushed_wire.rig import load_rig
from hushed_wire.view import halves
from support import ROOT, demo, program, scratch

# Modules and functions of POSIX systems alone; names of files in /dev are not there either.
ABSENT = ("fcntl", "termios", "tty", "pty", "resource", "pwd", "grp", "readline", "curses")
HIDDEN = f"""
import os, sys
for name in {ABSENT}:
    sys.modules[name] = None
for name in ("fork", "forkpty", "openpty", "geteuid", "getuid", "mkfifo", "setsid"):
    if hasattr(os, name):
        delattr(os, name)
from hushed_wire.cli.main import main
sys.exit(main(sys.argv[1:]))
"""
COMMANDS = (
    ("lines", "healthy.vcd"), ("lines", "healthy-volts.csv.gz"), ("wiring", "front-desk.toml"), ("links",), ("scan", "--rig", "front-desk.toml"),
    ("catalog", "ssd1306"), ("explain", "ssd1306", "AE", "8D", "14"), ("build", "tide.hush", "--rig", "front-desk.toml"),
    ("rehearse", "tide.hush", "--rig", "front-desk.toml", "-o", "made.vcd"), ("send", "tide.hush", "--rig", "front-desk.toml"),
    ("pack", "tide.pbm", "--part", "ssd1306", "-o", "tide.c"), ("unpack", "tide.c", "--part", "ssd1306"), ("decode", "healthy.vcd", "--format", "json"),
    ("find", "healthy.vcd", "stop"), ("screen", "pump-room.vcd", "--rig", "pump-room.toml"), ("plot", "handheld.vcd", "-o", "plot.png"),
    ("convert", "healthy.vcd", "-o", "healthy.csv"), ("diagnose", "no-pump.vcd", "--report", "report.html"), ("sweep", "healthy.vcd", "blank.vcd"),
    ("budget", "gate-keeper.toml"), ("compare", "healthy.vcd", "tide-new.hush", "--rig-b", "front-desk.toml"),
    ("emit", "tide.hush", "--rig", "front-desk.toml", "--for", "c", "-o", "driver"), ("init", "healthy.vcd"),
)  # fmt: skip


class Elsewhere(unittest.TestCase):
    def test_main_commands_without_what_other_systems_lack(self) -> None:
        folder = scratch() / "demo"
        shutil.copytree(demo(), folder)
        for words in COMMANDS:
            done = subprocess.run([sys.executable, "-c", HIDDEN, *words], capture_output=True, text=True, cwd=folder, check=False)
            self.assertIn(done.returncode, (0, 1), (words, done.stderr))
            self.assertNotIn("should not have happened", done.stderr, words)

    def test_ports_by_the_names_that_other_systems_give_them(self) -> None:
        for name in ("COM5", "com12", "/dev/cu.usbmodem1", "/dev/ttyACM0"):
            args = parser_for("scan").parse_args(["--link", name])
            rig = load_rig(demo() / "front-desk.toml")
            with (
                mock.patch("hushed_wire.link.serial_probe.open_serial", side_effect=HushedError(f"asked for {name}")),
                self.assertRaisesRegex(HushedError, name),
            ):
                link_options.open_link(args, rig)

    def test_the_second_half_in_a_process_that_is_spawned(self) -> None:
        chance = np.random.default_rng(7)
        bits = np.unpackbits(chance.integers(0, 256, 6000, np.uint8))
        clocked = np.repeat(np.stack([bits << 1, bits << 1 | 1], axis=1).reshape(-1, 160), 2, axis=1)  # words of ten bytes
        rest = np.full((len(clocked), 40), 4, np.uint8)
        path = scratch() / "halves.bin"
        path.write_bytes(np.hstack([rest, clocked, rest]).astype(np.uint8).tobytes())
        words = (
            "decode",
            str(path),
            "--raw",
            "1",
            "--rate",
            "20MHz",
            "--bus",
            "spi",
            "--line",
            "sck=0",
            "--line",
            "mosi=1",
            "--line",
            "cs=2",
            "--format",
            "jsonl",
        )
        whole = program(*words).stdout
        code = (
            "import sys\nfrom hushed_wire.view import halves\nfrom hushed_wire.cli.main import main\n"
            "if __name__ == '__main__':\n    halves.START, halves.SMALLEST = sys.argv[1], 1\n    sys.exit(main(sys.argv[2:]))\n"
        )
        script = scratch() / "spawned.py"
        script.write_text(code)
        self.assertGreater(halves.SMALLEST, path.stat().st_size)
        for start in ("spawn", "fork"):
            done = subprocess.run([sys.executable, str(script), start, *words], capture_output=True, check=True)
            self.assertEqual(done.stdout, whole, start)
        absent = subprocess.run([sys.executable, str(script), "none", *words], capture_output=True, check=False)
        self.assertIn(b"cannot find context for 'none'", absent.stderr, "the second half had a process of its own")

    def test_text_files_are_opened_in_utf_8(self) -> None:
        """Whatever a system takes for its own: said wherever a file is opened as text."""
        for path in (ROOT / "src").rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                if not (
                    isinstance(node, ast.Call)
                    and isinstance(node.func, ast.Attribute)
                    and node.func.attr in ("read_text", "write_text")
                ):
                    continue
                said = {keyword.arg for keyword in node.keywords}
                self.assertTrue({"encoding", "errors"} & said, f"{path.relative_to(ROOT)}:{node.lineno}")

    def test_only_links_need_posix(self) -> None:
        for path in (ROOT / "src" / "hushed_wire").rglob("*.py"):
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
                names = (
                    [alias.name for alias in node.names]
                    if isinstance(node, ast.Import)
                    else [node.module or ""]
                    if isinstance(node, ast.ImportFrom)
                    else []
                )
                if {name.split(".")[0] for name in names} & {*ABSENT}:
                    self.assertEqual(path.parent, Path(ROOT / "src" / "hushed_wire" / "link"), path)
