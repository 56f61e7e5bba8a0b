"""Runs all tests, a file on each core, and ends with a plain line: N passed, N failed, N skipped.

python tests/run.py [PATTERN]           one pattern runs in this process
python tests/run.py --explore MINUTES   property tests alone, each time with other random examples

Property tests draw the same examples in every run, so that a suite that passed passes again. What exploring finds becomes an `@example`.
"""

import gc
import os
import re
import shutil
import subprocess
import sys
import tempfile
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

HERE = Path(__file__).parent
PROFILE = "HUSHED_WIRE_TESTS_PROFILE"  # variable of the environment
LINE = re.compile(r"^(\d+) passed, (\d+) failed, (\d+) skipped\n\Z", re.MULTILINE)


class Count(unittest.TextTestResult):
    """Counts what passed, too."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def profile() -> None:
    """How property tests draw: the same examples each time, unless they explore."""
    from hypothesis import settings

    settings.register_profile("steady", derandomize=True, deadline=None, database=None)
    settings.register_profile("explore", derandomize=False, deadline=None, print_blob=True)
    settings.load_profile(os.environ.get(PROFILE, "steady"))


def properties(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    """The property tests of a suite."""
    for entry in suite:
        if isinstance(entry, unittest.TestSuite):
            yield from properties(entry)
        elif getattr(getattr(entry, entry._testMethodName, None), "is_hypothesis_test", False):
            yield entry


def here(pattern: str) -> int:
    """In this process, which deals with memory as the program does: waves of a million changes are no circles that a collector had to look for."""
    from hushed_wire.room import keep

    keep()
    gc.set_threshold(1_000_000, 50, 50)
    profile()
    suite = unittest.defaultTestLoader.discover(str(HERE), pattern=pattern, top_level_dir=str(HERE))
    if os.environ.get(PROFILE) == "explore":
        suite = unittest.TestSuite(properties(suite))
    result = unittest.TextTestRunner(resultclass=Count, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    sys.stdout.flush()
    print(f"{getattr(result, 'passed', 0)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 1 if failed or not getattr(result, "passed", 0) else 0


def apart(path: Path) -> tuple[int, int, int]:
    """One file in a process of its own; what went wrong there is printed here."""
    begin = time.monotonic()
    done = subprocess.run([sys.executable, __file__, path.name], capture_output=True, text=True, check=False)
    found = LINE.search(done.stdout)
    passed, failed, skipped = (int(count) for count in found.groups()) if found else (0, 1, 0)
    if failed or done.returncode:
        print(f"\n==== {path.name}\n{done.stderr}{done.stdout}", flush=True)
        failed = max(1, failed)
    else:
        told = "".join(f"  {line}\n" for line in done.stdout.splitlines() if line.startswith("accuracy: "))
        print(f"{path.name}: {passed} passed in {time.monotonic() - begin:.0f} s\n{told}", end="", flush=True)
    return passed, failed, skipped


def main() -> int:
    """Everything, or what the pattern names."""
    if len(sys.argv) > 1 and sys.argv[1] != "--explore":
        return here(sys.argv[1])
    minutes = float(sys.argv[2]) if len(sys.argv) > 2 else 0.0
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
        end = time.monotonic() + 60 * minutes
        if minutes:
            os.environ[PROFILE] = "explore"
            files = [path for path in files if "import given" in path.read_text() or ", given" in path.read_text()]
        passed = failed = skipped = 0
        with ThreadPoolExecutor(os.cpu_count() or 2) as pool:
            while True:
                for counts in pool.map(apart, files):
                    passed, failed, skipped = passed + counts[0], failed + counts[1], skipped + counts[2]
                if failed or time.monotonic() >= end:
                    break
    finally:
        shutil.rmtree(folder, ignore_errors=True)
    print(f"{passed} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
