"""An interruption that cannot get lost.

Python raises KeyboardInterrupt wherever the program happens to be, and where that is a destructor or a callback, it is
printed and forgotten. So it is noted here too, and whoever works for long asks now and then. Where it comes between two
steps that belong together (a descriptor closed and its name given to another, a line of a journal half written), it
waits for their end.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from contextlib import contextmanager

_pending = _late = False
_together = 0
"""How many stretches the main thread is in, one inside the other, that are not to be cut in two."""


def note() -> bool:
    """Somebody wants us to stop. Whether that may be at once."""
    global _pending, _late
    _pending, _late = True, _together > 0
    return not _late


@contextmanager
def held() -> Iterator[None]:
    """What is done inside is done to its end before KeyboardInterrupt is raised. For short stretches."""
    global _together, _late
    if threading.current_thread() is not threading.main_thread():  # signals come to the main thread alone
        yield
        return
    _together += 1
    try:
        yield
    finally:
        _together -= 1
    if _late and not _together:
        _late = False
        raise KeyboardInterrupt


def settle() -> None:
    """The work was stopped."""
    global _pending, _late
    _pending = _late = False


def check() -> None:
    """KeyboardInterrupt if somebody wanted us to stop and it got lost."""
    if _pending:
        raise KeyboardInterrupt
