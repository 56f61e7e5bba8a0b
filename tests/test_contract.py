"""The contract of the command line: exit statuses and one clear line, whatever the streams are and whatever goes wrong."""

from __future__ import annotations

import os
import subprocess
import sys
import unittest

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


if __name__ == "__main__":
    unittest.main()
