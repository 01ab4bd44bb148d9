"""Ctrl-C: the first stops the work at a clean place and cannot get lost, the second ends the program at once."""

from __future__ import annotations

import os
import signal
from types import FrameType

from justlane.model import interruption

STOPPED = 3
"""The exit code of a run that was stopped."""
_seen = False


def heed() -> None:
    """From now on an interruption is noted besides being raised."""
    if signal.getsignal(signal.SIGINT) is signal.default_int_handler:
        signal.signal(signal.SIGINT, _interrupted)


def _interrupted(number: int, frame: FrameType | None) -> None:
    global _seen
    if _seen:
        os.write(2, b"stopped at once\n")
        os._exit(STOPPED)
    _seen = True
    if interruption.note():
        raise KeyboardInterrupt
