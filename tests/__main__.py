"""Run all tests: `python -m tests [NAME …]`. Prints each failure as it comes, and how far it is; ends with a line that counts them, and with 1 if any failed.

They run side by side, in as many processes as there are processors; a class that prepares something together stays
together. With JUSTLANE_NO_SKIPPING set, a skipped test is a failure.
"""

from __future__ import annotations

import io
import os
import resource
import sys
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor, as_completed
from pathlib import Path
from typing import NamedTuple

from tests.patience import processor_time

EVERY = 20
"""Seconds between two lines that say how far it is."""


class Outcome(NamedTuple):
    name: str
    ran: int
    failed: int
    skipped: list[str]
    seconds: float
    """Of processor time, its own and that of all that it started and waited for."""
    said: str


def main() -> int:
    loader = unittest.TestLoader()
    suite = loader.loadTestsFromNames(sys.argv[1:]) if sys.argv[1:] else loader.discover("tests", top_level_dir=".")
    tests: dict[str, list[str]] = {}
    broken = 0
    for test in flat(suite):
        if type(test).__module__ == "unittest.loader":
            broken += 1
            run = unittest.TextTestRunner().run(test)
            assert run.errors
        else:
            together = type(test).setUpClass.__func__ is not unittest.TestCase.setUpClass.__func__  # type: ignore[attr-defined]
            tests.setdefault(test.id().rpartition(".")[0] if together else test.id(), []).append(test.id())
    began = time.monotonic()
    outcomes: list[Outcome] = []
    with ProcessPoolExecutor() as pool:
        told = began
        for future in as_completed([pool.submit(outcome, names) for names in tests.values()]):
            outcomes.append(future.result())
            if outcomes[-1].failed:
                print(outcomes[-1].said, flush=True)
            if time.monotonic() - told > EVERY:
                told = time.monotonic()
                failed = sum(o.failed for o in outcomes)
                print(f"{sum(o.ran for o in outcomes)} of {sum(map(len, tests.values()))} after {told - began:.0f} s, {failed} failed", flush=True)
    print()
    if "JUSTLANE_TEST_TIMES" in os.environ:
        Path(os.environ["JUSTLANE_TEST_TIMES"]).write_text(
            "".join(f"{o.seconds:.1f} {o.ran} {o.name}\n" for o in sorted(outcomes, key=lambda o: -o.seconds))
        )
    for done in sorted(outcomes, key=lambda o: -o.seconds)[:10]:
        print(f"{done.seconds:7.1f} s  {done.name}")
    ran, skipped = sum(o.ran for o in outcomes), [s for o in outcomes for s in o.skipped]
    failed = broken + sum(o.failed for o in outcomes)
    if "JUSTLANE_NO_SKIPPING" in os.environ:
        for said in skipped:
            print(f"skipped, and must not be: {said}")
        failed += len(skipped)
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    print(f"Ran {ran} tests in {time.monotonic() - began:.0f} s, {used.ru_utime + used.ru_stime:.0f} s of processor time")
    left_out = f", {len(skipped)} skipped" if skipped and "JUSTLANE_NO_SKIPPING" not in os.environ else ""
    print(f"{ran + broken - failed - (len(skipped) if left_out else 0)} passed, {failed} failed{left_out}")
    return 1 if failed or not ran else 0


def flat(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for test in suite:
        if isinstance(test, unittest.TestSuite):
            yield from flat(test)
        elif isinstance(test, unittest.TestCase):
            yield test


def outcome(names: list[str]) -> Outcome:
    """Run the tests of one class."""
    began = processor_time()
    said = io.StringIO()
    suite = unittest.TestLoader().loadTestsFromNames(names)
    done = unittest.TextTestRunner(said, warnings="error").run(suite)
    wrong = [test for test, _ in (*done.failures, *done.errors)]
    failed = len({str(getattr(test, "test_case", test)) for test in (*wrong, *done.unexpectedSuccesses)})
    skipped = [f"{test}: {why}" for test, why in done.skipped]
    if not done.testsRun:  # what they prepare together failed, or cannot be had
        failed, skipped = (len(names), []) if failed else (0, [f"{name}: {skipped[0]}" for name in names])
    return Outcome(names[0], len(names), failed, skipped, processor_time() - began, said.getvalue())


if __name__ == "__main__":
    sys.exit(main())
