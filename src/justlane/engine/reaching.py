"""All that one person may do, as a tree that shows only what they can reach."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct

from justlane.engine.deciding import cells_of
from justlane.engine.index import EstateIndex
from justlane.engine.membership import MemberStep
from justlane.model.bindings import Binding
from justlane.model.scopes import contains, platform_of


class Grant(Struct, frozen=True):
    """A binding through which somebody reaches something, and how they come by it."""

    binding: Binding
    memberships: tuple[MemberStep, ...]


class ReachedScope(Struct, frozen=True):
    """One scope in the tree."""

    address: str
    kind: str
    actions: dict[str, tuple[Grant, ...]]
    """What they may do here, with every grant behind it; empty for a scope that is only on the way."""
    inside: tuple[ReachedScope, ...]

    @property
    def grants(self) -> tuple[Grant, ...]:
        """Every grant that counts here, each once."""
        return tuple({g.binding.key: g for grants in self.actions.values() for g in grants}.values())


class Reach(Struct, frozen=True):
    """What one person reaches."""

    user: str
    enabled: bool
    within: str | None
    """The scope that was asked about; None for all platforms."""
    platforms: tuple[ReachedScope, ...]
    """The scopes at the top of each tree."""
    scopes: int
    """Number of scopes where at least one action is allowed."""
    cells: int
    """Number of allowed (action, scope) pairs."""


def reach(index: EstateIndex, login: str, within: str | None = None) -> Reach:
    """What the user may do at a scope and all it covers, or everywhere."""
    names = [platform_of(within)] if within else list(index.estate.platforms)
    trees: list[ReachedScope] = []
    scopes = cells = 0
    for name in names:
        allowed = cells_of(index, login, within or name)
        scopes += len(allowed)
        cells += sum(len(actions) for actions in allowed.values())
        if allowed:
            trees.append(_tree(index, login, name, allowed))
    return Reach(login, index.is_enabled(login), within, tuple(trees), scopes, cells)


def _tree(
    index: EstateIndex, login: str, address: str, allowed: Mapping[str, Mapping[str, list[Binding]]]
) -> ReachedScope:
    platform = index.platform(address)
    inside = [
        _tree(index, login, child, allowed)
        for child in platform.coverage.children(address)
        if any(contains(child, reached) for reached in allowed)
    ]
    actions = {
        action: tuple(Grant(b, index.membership.way_into(login, b.principal)) for b in bindings)
        for action, bindings in sorted(allowed.get(address, {}).items())
    }
    return ReachedScope(address, platform.platform.scopes[address].kind, actions, tuple(inside))
