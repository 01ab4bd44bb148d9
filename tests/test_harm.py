"""Platforms with things of others on them, drawn by chance: aligned, taken back, and judged by the system's own client."""

import os
import shutil
import unittest

from tests import harm
from tests.postgresql_server import require_postgresql


class HarmTest(unittest.TestCase):
    def draw(self, kind: str, count: int) -> None:
        with harm.trial(kind) as on:
            for seed in range(count):
                on.setUp()
                try:
                    with self.subTest(kind=kind, seed=seed):
                        on.drawn(seed)
                finally:
                    on.doCleanups()

    def test_a_database(self) -> None:
        require_postgresql()
        self.draw("postgresql", 4)

    def test_files_of_rules(self) -> None:
        if shutil.which("svnauthz") is None:
            self.skipTest("Subversion is not installed: apt-get install subversion")
        self.draw("subversion", 8)

    def test_lists_of_folders(self) -> None:
        if os.geteuid() or not all(map(shutil.which, ("useradd", "getfacl", "setfacl"))):
            self.skipTest("needs root, useradd, getfacl and setfacl: apt-get install acl")
        self.draw("folders", 6)

    def test_what_holds_entries(self) -> None:
        for kind in ("shelf", "stand-in", "sheet"):
            self.draw(kind, 4)


if __name__ == "__main__":
    unittest.main()
