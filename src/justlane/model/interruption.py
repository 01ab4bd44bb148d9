"""An interruption that cannot get lost.

Python raises KeyboardInterrupt wherever the program happens to be, and where that is a destructor or a callback, it is
printed and forgotten. So it is noted here too, and whoever works for long asks now and then.
"""

from __future__ import annotations

_pending = False


def note() -> None:
    """Somebody wants us to stop."""
    global _pending
    _pending = True


def settle() -> None:
    """The work was stopped."""
    global _pending
    _pending = False


def check() -> None:
    """KeyboardInterrupt if somebody wanted us to stop and it got lost."""
    if _pending:
        raise KeyboardInterrupt
