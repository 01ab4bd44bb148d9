"""Patterns with `*` for any run of characters, matched without trying anything twice."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

ANY = "*"
LEVELS = "**"


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


def address_like(pattern: str) -> Callable[[str], bool]:
    """Whether an address as a whole is like a pattern.

    `*` stands for any run of characters within one name, a name `**` for any number of levels, none included. As
    above, the runs of names between the `**` are looked for from left to right, each as early as possible.
    """
    runs: list[list[str]] = [[]]
    for name in pattern.split("/"):
        if name == LEVELS:
            runs.append([])
        else:
            runs[-1].append(name)
    first, last = runs[0], runs[-1]
    shortest = sum(map(len, runs))

    def is_so(address: str) -> bool:
        levels = address.split("/")
        at, end = len(first), len(levels) - len(last)
        if len(levels) < shortest or not _starts(levels[end:], last) or not _starts(levels, first):
            return False
        if len(runs) == 1:
            return not end
        for run in runs[1:-1]:
            while at + len(run) <= end and not _starts(levels[at : at + len(run)], run):
                at += 1
            at += len(run)
            if at > end:
                return False
        return True

    return is_so


def _starts(levels: Sequence[str], run: Sequence[str]) -> bool:
    return len(levels) >= len(run) and all(map(is_like, run, levels))
