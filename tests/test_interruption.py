"""Ctrl-C at any moment of what touches a disk: it is raised, never turned into another error, and no line is half."""

from __future__ import annotations

import random
import signal
import tempfile
import unittest
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType

from justlane.files.disk.beneath import read
from justlane.files.disk.durable import append_durably, lines_of, make_once, replacing, write_atomically
from justlane.model import interruption

TIMES = 400
DEEP = "/".join("abcdefghijkl")
"""A way of many steps: between closing one folder and naming the next is where an interruption did harm."""
LONGEST_SECONDS = 0.0006
"""About as long as the slowest of them takes where nothing waits for a disk."""


@contextmanager
def interrupted_by_a_clock() -> Iterator[None]:
    def stop(number: int, frame: FrameType | None) -> None:
        if interruption.note():
            raise KeyboardInterrupt

    before = signal.signal(signal.SIGALRM, stop)
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", ResourceWarning)  # a descriptor that was just opened is left to the end
            yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
        interruption.settle()


class InterruptionTest(unittest.TestCase):
    def test_at_any_moment(self) -> None:
        with tempfile.TemporaryDirectory() as name, interrupted_by_a_clock():
            top, draws = Path(name), random.Random(7)
            (top / DEEP).mkdir(parents=True)
            (top / DEEP / "old").write_bytes(b"was\n")
            (top / "a" / "b" / "old").write_bytes(b"was\n")

            def replaced() -> None:
                with replacing(top, {"a/b/old": b"is\n"}) as let_it_stand:
                    let_it_stand()

            works: dict[str, Callable[[], object]] = {
                "append": lambda: append_durably(top, "a/b/lines", b"x" * 80),
                "write": lambda: write_atomically(top, "a/b/file", b"y" * 80),
                "once": lambda: make_once(top, "once", b"z"),
                "read": lambda: [read(top, f"{DEEP}/old") for _ in range(4)],
                "replace": replaced,
            }
            for what, work in works.items():
                late = 0
                if what == "replace":  # what it leaves is swept away by the next who writes there
                    self.assertEqual([path.name for path in top.rglob(".*")], [], "something unfinished was left")
                with self.subTest(what):
                    for _ in range(TIMES):
                        try:
                            signal.setitimer(signal.ITIMER_REAL, draws.uniform(0.000005, LONGEST_SECONDS))
                            work()
                            signal.setitimer(signal.ITIMER_REAL, 0)
                        except KeyboardInterrupt:
                            late += 1
                            interruption.settle()
                    self.assertGreater(late, 0, "none came in between")
            self.assertEqual({line for line in lines_of(top, "a/b/lines") if line}, {b"x" * 80})
            self.assertEqual((top / "a/b/file").read_bytes(), b"y" * 80)

    def test_together_is_done_to_its_end(self) -> None:
        done = []
        with interrupted_by_a_clock():
            with self.assertRaises(KeyboardInterrupt), interruption.held():
                with interruption.held():
                    signal.raise_signal(signal.SIGALRM)
                    done.append("inside")
                done.append("outside")
            interruption.settle()
            with interruption.held():
                done.append("after")
        self.assertEqual(done, ["inside", "outside", "after"])
