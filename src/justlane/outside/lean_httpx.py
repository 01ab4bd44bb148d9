"""HTTPX without what it loads besides where that happens to be installed: a command line of its own, other event loops.

They take longer to load than most questions take to answer, and nobody uses them here.
"""

from __future__ import annotations

import sys

_UNUSED = ("httpx._main", "trio", "anyio")
"""HTTPX and HTTPCore do without each of them if it cannot be imported."""

_missing = [name for name in _UNUSED if name not in sys.modules]
try:
    for _name in _missing:
        sys.modules[_name] = None  # type: ignore[assignment] # Python's way to say that there is none
    import httpcore
    import httpx
finally:
    for _name in _missing:
        del sys.modules[_name]

__all__ = ["httpcore", "httpx"]
