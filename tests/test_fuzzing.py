"""A short run of the fuzzing, and proof that it notices what must never be."""

import unittest
from unittest import mock

from tests import fuzzing
from tests.fuzzing import SECRET, Ran, troubles


class FuzzingTest(unittest.TestCase):
    def test_a_short_run_finds_nothing(self) -> None:
        with mock.patch("sys.argv", ["fuzzing", "700", "20261126"]):
            self.assertEqual(fuzzing.main(), 0)

    def test_it_notices_what_must_never_be(self) -> None:
        for ran, kind in (
            (Ran(3, "", "error: this is a mistake in justlane itself: KeyError: 'x'"), "confession"),
            (Ran(0, f"yes {SECRET}", ""), "secret"),
            (Ran(0, "yes \x1b[2J", ""), "control"),
            (Ran(0, "a\u202eb", ""), "control"),
            (Ran(1, "a\rb", ""), "control"),
            (Ran(120, "", ""), "end"),
            (Ran(0, "not sound  x", ""), "end"),
            (Ran(0, "a.yaml:1:1: error: x", ""), "end"),
        ):
            self.assertIn(kind, [trouble.kind for trouble in troubles(ran)], ran)
        self.assertEqual(troubles(Ran(0, "yes  ada — may\n\n", "")), [])
