"""How many people a group holds, directly and through nested groups."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from justlane.engine.facts.graphs import walk


class GroupHoldings(Struct, frozen=True):
    """What a group holds directly, by number."""

    users: Sequence[int]
    """One that is named twice counts once."""
    groups: Sequence[int]


class Size(Struct, frozen=True):
    """Numbers of people."""

    direct: int
    nested: int
    """Directly or through nested groups, each counted once."""
    enabled: int
    """Of these, those whose accounts are enabled."""
    groups: int
    """Groups that it holds directly."""


def sizes(
    held: Callable[[int], GroupHoldings], wanted: Sequence[int], is_enabled: Callable[[int], bool]
) -> dict[int, Size]:
    """The sizes of some groups. Membership loops are tolerated."""
    found = {}
    for number in wanted:
        own = held(number)
        direct = set(own.users)
        people = set(direct)
        if own.groups:
            inside = walk(number, lambda n: [(group, None) for group in held(n).groups])
            people.update(*(held(n).users for n in inside))
        found[number] = Size(len(direct), len(people), sum(map(is_enabled, people)), len(set(own.groups)))
    return found
