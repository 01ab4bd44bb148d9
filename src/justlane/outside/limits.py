"""How long an answer from outside may take in all, and how large it may be: whoever sends it cannot stretch that."""

from __future__ import annotations

import time
from collections.abc import Callable

from msgspec import Struct

from justlane.model import interruption
from justlane.model.errors import NonsenseError, TimedOutError
from justlane.model.names import counted

_A_MOMENT = 0.5
"""Seconds after which a Ctrl-C that got lost is noticed."""


class Limits(Struct, frozen=True):
    """What an answer keeps within."""

    seconds: float
    """For one answer in all, from the first byte that we send to the last that arrives."""
    bytes: int = 256 << 20
    """Of one answer."""
    in_all: float = 0
    """Seconds for a whole reading, over all its answers; 0 for no limit."""


class Watch:
    """Keeps the time and counts the bytes of one answer after the other."""

    def __init__(self, limits: Limits, who: str) -> None:
        self._limits, self._who = limits, who
        self._whole = time.monotonic() + limits.in_all if limits.in_all else float("inf")
        self.begin()

    def begin(self) -> None:
        """The next answer begins."""
        interruption.check()
        self._end = time.monotonic() + self._limits.seconds
        self._bytes = 0
        self.heard = False
        """Whether anything of the answer has arrived."""

    def left(self) -> float:
        """Seconds that are left. TimedOutError if there are none."""
        now = time.monotonic()
        if now >= self._end and not self.heard:
            message = (
                f"{self._who} does not answer in time: nothing within {counted(round(self._limits.seconds), 'second')}"
            )
            raise TimedOutError(message, "see whether it hangs, then try again, or wait longer: `wait at most`")
        if now >= self._whole:
            message = f"{self._who}: the reading took more than {counted(round(self._limits.in_all), 'second')} in all"
            raise TimedOutError(message, "see what is wrong with it, or wait longer: `wait at most`")
        if now >= self._end:
            message = f"{self._who}: an answer took more than {counted(round(self._limits.seconds), 'second')} in all"
            raise TimedOutError(message, "see what is wrong with it; it sends, but too slowly")
        return min(self._end, self._whole) - now

    def read(self, once: Callable[[float], bytes], late: type[Exception]) -> bytes:
        """Some bytes, read by a function that is given how many seconds to wait and raises `late` after them.

        It never waits for long without a look at whether somebody wants us to stop.
        """
        while True:
            interruption.check()
            try:
                found = once(min(self.left(), _A_MOMENT))
            except late:
                if self.left() > 0:
                    continue
                raise
            self.heard = self.heard or bool(found)
            return found

    def took(self, count: int) -> None:
        """So many bytes arrived. NonsenseError if that is too much."""
        self._bytes += count
        if self._bytes > self._limits.bytes:
            message = f"{self._who}: an answer has more than {self._limits.bytes:,} bytes"
            raise NonsenseError(message, "no answer of ours is so large: see what is wrong with it")
