"""Patterns with `*` for any run of characters, matched in linear time whatever the pattern."""

from __future__ import annotations

from collections.abc import Collection

ANY = "*"


def is_like(pattern: str, name: str) -> bool:
    """Whether a name as a whole is like a pattern.

    The parts between the stars are looked for from left to right, each as early as possible: nothing is tried twice.
    """
    if ANY not in pattern:
        return pattern == name
    first, *middle, last = pattern.split(ANY)
    at, end = len(first), len(name) - len(last)
    if at > end or not name.startswith(first) or not name.endswith(last):
        return False
    for part in middle:
        at = name.find(part, at, end)
        if at < 0:
            return False
        at += len(part)
    return True


def matching(pattern: str, names: Collection[str]) -> list[str]:
    """The names that a pattern matches, in their order."""
    if ANY not in pattern:
        return [pattern] if pattern in names else []
    return [name for name in names if is_like(pattern, name)]
