"""Who is at the prompt."""

from __future__ import annotations

import getpass
import os


def who() -> str:
    """The person at the prompt, by the name that the system knows them by; by number where it knows none."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):
        return f"user {os.getuid()}"
