"""Run all tests: `python -m tests [NAME …]`. Ends with a line that counts them, and with 1 if any failed.

With JUSTLANE_NO_SKIPPING set, a skipped test is a failure.
"""

import os
import sys
import unittest
import warnings


def main() -> int:
    loader = unittest.TestLoader()
    suite = loader.loadTestsFromNames(sys.argv[1:]) if sys.argv[1:] else loader.discover("tests", top_level_dir=".")
    warnings.simplefilter("error")
    outcome = unittest.TextTestRunner(warnings="error").run(suite)
    skipped = len(outcome.skipped)
    failed = len(outcome.failures) + len(outcome.errors) + len(outcome.unexpectedSuccesses)
    if "JUSTLANE_NO_SKIPPING" in os.environ:
        for test, why in outcome.skipped:
            print(f"skipped, and must not be: {test}: {why}")
        failed, skipped = failed + skipped, 0
    print(
        f"{outcome.testsRun - failed - skipped} passed, {failed} failed" + (f", {skipped} skipped" if skipped else "")
    )
    return 1 if failed or not outcome.testsRun else 0


sys.exit(main())
