"""Runs all tests, a file on each core, and ends with a plain line: N passed, N failed, N skipped.

python tests/run.py [PATTERN]           one pattern runs in this process
"""

import os
import re
import shutil
import subprocess
import sys
import tempfile
import unittest
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

HERE = Path(__file__).parent
LINE = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped\n\Z", re.MULTILINE)


class Count(unittest.TextTestResult):
    """Counts what passed, too."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def here(pattern: str) -> int:
    """In this process."""
    suite = unittest.defaultTestLoader.discover(str(HERE), pattern=pattern, top_level_dir=str(HERE))
    result = unittest.TextTestRunner(resultclass=Count, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    sys.stdout.flush()
    print(f"{getattr(result, 'passed', 0)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 1 if failed or not getattr(result, "passed", 0) else 0


def apart(path: Path) -> tuple[int, int, int]:
    """One file in a process of its own; what went wrong there is printed here."""
    done = subprocess.run([sys.executable, __file__, path.name], capture_output=True, text=True, check=False)
    found = LINE.search(done.stdout)
    passed, failed, skipped = (int(count) for count in found.groups()) if found else (0, 1, 0)
    if failed or done.returncode:
        print(f"\n==== {path.name}\n{done.stderr}{done.stdout}", flush=True)
        failed = max(1, failed)
    else:
        told = "".join(f"  {line}\n" for line in done.stdout.splitlines() if line.startswith("accuracy: "))
        print(f"{path.name}: {passed} passed\n{told}", end="", flush=True)
    return passed, failed, skipped


def main() -> int:
    """Everything, or what the pattern names."""
    if len(sys.argv) > 1:
        return here(sys.argv[1])
    folder = tempfile.mkdtemp(prefix="hushed-wire-tests-")
    try:
        demo = Path(folder) / "skerry-haven"  # made once for all
        subprocess.run(
            [str(Path(sys.executable).parent / "hushed-wire"), "demo", str(demo), "--no-tour"], capture_output=True, check=True
        )
        os.environ["HUSHED_WIRE_TESTS_DEMO"] = str(demo)
        files = sorted(
            HERE.glob("test_*.py"), key=lambda path: -path.stat().st_size
        )  # large ones first, so that the cores end together
        with ThreadPoolExecutor(os.cpu_count() or 2) as pool:
            passed, failed, skipped = (sum(counts) for counts in zip(*pool.map(apart, files), strict=True))
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{passed} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
