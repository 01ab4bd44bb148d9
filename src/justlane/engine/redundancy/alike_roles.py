"""Roles that hold just what some others hold together."""

from __future__ import annotations

from justlane.engine.facts.index import PlatformIndex


def made_of(prepared: PlatformIndex) -> dict[str, tuple[str, ...]]:
    """Role -> the fewest smaller roles found that together hold what it holds, where it does not build on them.

    The largest are taken first; each has to add something.
    """
    roles = prepared.platform.roles
    held = {name: frozenset(prepared.roles.holdings(name)) for name in roles}
    found: dict[str, tuple[str, ...]] = {}
    for name, role in roles.items():
        below = {base.text for base in role.builds_on}
        smaller = [other for other in roles if held[other] and held[other] < held[name] and other not in below]
        smaller = [other for other in smaller if roles[other].copied_from != name]
        if below or not held[name] or frozenset[str]().union(*(held[other] for other in smaller)) != held[name]:
            continue
        left, chosen = held[name], []
        while left:
            best = max(smaller, key=lambda other: len(left & held[other]))
            chosen.append(best)
            left -= held[best]
        if len(chosen) > 1:
            found[name] = tuple(sorted(chosen, key=list(roles).index))
    return found
