"""What one person sees: whatever they reach, and the containers on the way to it.

A container lists and counts what they see in it and nothing else: a scope what it contains, a resource group what it
gathers as well. A resource group is seen where they may do something at it, or see something inside it.
"""

from __future__ import annotations

from collections.abc import Collection

from msgspec import Struct

from justlane.engine.decision.judge import Question, cells_of, judge
from justlane.engine.facts.coverage import CoverageIndex
from justlane.engine.facts.index import EstateIndex
from justlane.model.scopes import platform_of, with_containing


class Seen(Struct, frozen=True):
    """One scope that a person sees."""

    address: str
    kind: str
    on_the_way: bool
    """Whether it is seen only because the way leads through it."""
    holds: tuple[str, ...]
    """What they see of the scopes that it contains directly."""
    gathers: tuple[str, ...]
    """What they see of the scopes that it gathers."""
    inside: int | None
    """How many of the scopes inside, at any depth, they see; None above the scope that was asked about, where it is not
    known."""


class Sight(Struct, frozen=True):
    """What one person sees."""

    user: str
    enabled: bool
    within: str | None
    """The scope that was asked about; None for all platforms."""
    scopes: dict[str, Seen]
    """In the order of the trees."""

    @property
    def counted(self) -> int:
        """How many scopes they see at or below the scope that was asked about."""
        return sum(seen.inside is not None for seen in self.scopes.values())


def sight(index: EstateIndex, login: str, question: Question, within: str | None = None) -> Sight:
    """What the user sees at a scope and all it covers, or everywhere, in some circumstances."""
    found: dict[str, Seen] = {}
    enabled = True
    for name in [platform_of(within)] if within else list(index.estate.platforms):
        judging = judge(index, login, name, question)
        enabled = judging.person.enabled
        found |= seen(judging.platform.coverage, cells_of(judging, within or name), within or name)
    return Sight(login, enabled, within, found)


def seen(coverage: CoverageIndex, reached: Collection[str], within: str) -> dict[str, Seen]:
    """What somebody sees who reaches some scopes, of those that `within` covers."""
    shown = {above for address in reached for above in with_containing(address)}
    inside = dict.fromkeys(shown, 0)
    for address in shown:
        for above in with_containing(address)[:-1]:
            inside[above] += 1
    wider = {above for address in coverage.gathering for above in with_containing(address)}
    for address in wider & shown:
        inside[address] = sum(covered in shown for covered in coverage.covered(address)) - 1
    known = set(coverage.covered(within))
    found = {}
    for address in _in_order(coverage, shown, within):
        scope = coverage.scopes[address]
        found[address] = Seen(
            address,
            scope.kind,
            address not in reached,
            tuple(child for child in coverage.children(address) if child in shown),
            tuple(item.address for item in scope.gathers if item.address in shown),
            inside[address] if address in known else None,
        )
    return found


def _in_order(coverage: CoverageIndex, shown: Collection[str], within: str) -> list[str]:
    """Each scope before what it contains."""
    waiting, found = [platform_of(within)], []
    while waiting:
        address = waiting.pop()
        if address in shown:
            found.append(address)
            waiting += reversed(coverage.children(address))
    return found
