"""Runs every test and closes with ``N passed, N failed`` (and ``N skipped`` where there are any)."""

import sys
import unittest
from pathlib import Path

HERE = Path(__file__).resolve().parent


def main() -> int:
    pattern = sys.argv[1] if len(sys.argv) > 1 else "test_*.py"
    suite = unittest.TestLoader().discover(str(HERE), pattern=pattern, top_level_dir=str(HERE.parent))
    result = unittest.TextTestRunner(verbosity=1).run(suite)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    passed = result.testsRun - bad - skipped
    print(f"{passed} passed, {bad} failed" + (f", {skipped} skipped" if skipped else ""), flush=True)
    return 1 if bad or not result.testsRun else 0


if __name__ == "__main__":
    sys.exit(main())
