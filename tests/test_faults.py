"""A dozen of the drawn fault plans of `python -m tests.faults`, which runs as many as one likes."""

import unittest

from tests import faults


class FaultsTest(unittest.TestCase):
    def test_after_the_last_run_all_is_held_and_every_step_happened_once(self) -> None:
        met = runs = 0
        with faults.trial() as on:
            for seed in range(4711, 4723):
                said, some, times = on.tried(seed)
                self.assertEqual(said, "", f"python -m tests.faults: plan {seed}")
                met, runs = met + some, runs + times
        self.assertGreater(met, 30)
        self.assertGreater(runs, 15)


if __name__ == "__main__":
    unittest.main()
