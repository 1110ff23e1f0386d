"""Run every test; the last line counts them."""

import sys
import unittest
from pathlib import Path


def main() -> int:
    root = Path(__file__).parent
    suite = unittest.defaultTestLoader.discover(str(root), top_level_dir=str(root.parent))
    result = unittest.TextTestRunner(verbosity=1, buffer=True).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    passed = result.testsRun - failed - len(result.skipped) - len(result.expectedFailures)
    sys.stdout.flush()
    sys.stderr.flush()
    print(f"{passed} passed, {failed} failed, {len(result.skipped)} skipped")
    return 1 if failed or not passed else 0


if __name__ == "__main__":
    sys.exit(main())
