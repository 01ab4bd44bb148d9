"""Waiting for others without looking at the clock alone: a machine may be slow, or busy with other work.

What is waited for may take its time as long as somebody works on it. It counts as hanging once nothing that these tests
started has used the processor for a while, or once it has used it for far longer than any of it takes.
"""

import os
import resource
import subprocess
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

IDLE = 60.0
"""So many seconds without any work, and nobody is going to do it any more."""
WORK = 300.0
"""So many seconds of processor time, and it is going round in circles."""
_TICK = os.sysconf("SC_CLK_TCK")


def processor_time() -> float:
    """Seconds of processor time that this process, and those of its own that have ended, have used."""
    both = (resource.getrusage(whose) for whose in (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN))
    return sum(used.ru_utime + used.ru_stime for used in both)


def work_of_all() -> float:
    """The same with all that were started from here and have not ended."""
    parents: dict[int, int] = {}
    used: dict[int, float] = {}
    for place in Path("/proc").glob("[0-9]*/stat"):
        try:
            words = place.read_text().rpartition(")")[2].split()
        except OSError:  # it has just ended
            continue
        own = int(place.parent.name)
        parents[own], used[own] = int(words[1]), sum(map(int, words[11:15])) / _TICK
    ours = {os.getpid()}
    while more := {own for own, parent in parents.items() if parent in ours} - ours:
        ours |= more
    return sum(used.get(own, 0) for own in ours)


class Patience:
    """How long there is still reason to wait."""

    def __init__(self) -> None:
        self._first = self._work = work_of_all()
        self._moved = time.monotonic()

    def is_over(self) -> bool:
        """Whether nobody works on it any more, or for too long already."""
        work, now = work_of_all(), time.monotonic()
        if work > self._work + 0.02:  # what looking costs is no progress
            self._work, self._moved = work, now
        return now - self._moved > IDLE or work - self._first > WORK


def until(happened: Callable[[], Any], told: Callable[[], object] = lambda: "", pause: float = 0.02) -> None:
    """Wait until something has happened. AssertionError, with what is told, once there is no reason to wait longer."""
    patience, looked = Patience(), time.monotonic()
    while not happened():
        if time.monotonic() - looked > 1:
            looked = time.monotonic()
            if patience.is_over():
                raise AssertionError(f"it did not happen: {told()}")
        time.sleep(pause)


def finished(process: "subprocess.Popen[Any]", content: Any = None) -> tuple[Any, Any]:
    """What a process says until it ends. One that hangs is killed, and an AssertionError."""
    patience = Patience()
    while True:
        try:
            return process.communicate(content, timeout=1)
        except subprocess.TimeoutExpired:
            content = None  # it has been handed over
            if patience.is_over():
                process.kill()
                out, err = process.communicate()
                raise AssertionError(f"{process.args!r} hangs: {out!r} {err!r}") from None
