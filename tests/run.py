"""Runs all tests and ends with a plain line: N passed, N failed, N skipped."""

import sys
import unittest
from pathlib import Path


class Count(unittest.TextTestResult):
    """Counts what passed, too."""

    passed = 0

    def addSuccess(self, test: unittest.TestCase) -> None:
        super().addSuccess(test)
        self.passed += 1


def main() -> int:
    here = Path(__file__).parent
    pattern = sys.argv[1] if len(sys.argv) > 1 else "test_*.py"
    suite = unittest.defaultTestLoader.discover(str(here), pattern=pattern, top_level_dir=str(here))
    result = unittest.TextTestRunner(resultclass=Count, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    sys.stdout.flush()
    print(f"{getattr(result, 'passed', 0)} passed, {failed} failed, {len(result.skipped)} skipped", flush=True)
    return 1 if failed or not getattr(result, "passed", 0) else 0


if __name__ == "__main__":
    sys.exit(main())
