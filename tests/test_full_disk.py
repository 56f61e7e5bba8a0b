"""A disk that fails at any call: what was there stays as it was, nothing is left beside it, and one clear error says so."""

from __future__ import annotations

import errno
import os
import subprocess
import tempfile
import unittest
from pathlib import Path

from support import PROGRAM, ROOT, demo, scratch

# What writes, and what it is to write; {old} is there already.
LINES = {
    "decode tide.vcd --as hush -o {old}": "a sequence",
    "diagnose tide.vcd --rig front-desk.toml --format junit -o {old}": "for other programs",
    "convert tide.vcd -o {old}.csv": "a capture",
    "convert tide.vcd -o {old}.npz": "a packed capture",
    "rehearse tide.hush --rig front-desk.toml -o {old}.vcd -q": "wires",
    "screen tide.vcd --rig front-desk.toml --picture {old}.png": "a picture",
    "build tide.hush --rig front-desk.toml --as c -o {old}": "words",
    "pack tide.pbm --part ssd1306 --as binary -o {old}": "bytes",
    "decode tide.vcd --save-rig {old}.toml": "a rig",
}
ERRORS = {"ENOSPC": errno.ENOSPC, "EIO": errno.EIO}


class Failing(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        cls.shim = scratch() / "write_shim.so"
        source = ROOT / "tests" / "write_shim.c"
        subprocess.run(["cc", "-shared", "-fPIC", "-Wall", "-Werror", "-o", cls.shim, source, "-ldl"], check=True)
        cls.folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        for name in ("tide.hush", "front-desk.toml", "tide.pbm"):
            (cls.folder / name).write_bytes((demo() / name).read_bytes())
        (cls.folder / "tide.vcd").write_bytes((demo() / "healthy.vcd").read_bytes())

    def run_on(self, line: str, **shim: object) -> subprocess.CompletedProcess[bytes]:
        env = {**os.environ, "LD_PRELOAD": str(self.shim), "SHIM_FOLDER": str(self.folder)}
        env |= {f"SHIM_{key.upper()}": str(value) for key, value in shim.items()}
        return subprocess.run([PROGRAM, *line.split()], cwd=self.folder, env=env, capture_output=True, timeout=120, check=False)

    def test_every_call_that_can_fail(self) -> None:
        count = scratch() / "calls"
        for template, what in LINES.items():
            line = template.replace("{old}", "old")
            name = next(word for word in reversed(line.split()) if word.startswith("old"))
            old = self.folder / name
            old.write_bytes(b"as it was")
            old.chmod(0o640)
            done = self.run_on(line, count=count)
            self.assertIn(done.returncode, (0, 1), (line, done.stderr))
            whole, status = old.read_bytes(), done.returncode
            self.assertNotEqual(whole, b"as it was", line)
            calls = int(count.read_text())
            self.assertGreaterEqual(calls, 3, f"{line}: a file is made, written and put in its place")
            before = sorted(path.name for path in self.folder.iterdir())
            for at in sorted({*range(1, min(calls, 4) + 1), calls // 2, calls - 1, calls} - {0}):
                for error, number in (("EINTR", errno.EINTR), list(ERRORS.items())[at % 2]):
                    with self.subTest(what=what, call=at, of=calls, error=error):
                        old.write_bytes(b"as it was")
                        stays = {} if error == "EINTR" else {"stays": 1}  # a call that was interrupted is made again
                        done = self.run_on(line, at=at, error=number, **stays)
                        said = done.stderr.decode()
                        self.assertNotIn("Traceback", said)
                        self.assertEqual(sorted(path.name for path in self.folder.iterdir()), before)
                        if error == "EINTR" and done.returncode == status:
                            self.assertEqual(old.read_bytes(), whole)
                            continue
                        self.assertEqual((done.returncode, old.read_bytes()), (2, b"as it was"), said)
                        self.assertRegex(said, rf"hushed-wire: {name}: cannot be written: .+\n  choose another place")


if __name__ == "__main__":
    unittest.main()
