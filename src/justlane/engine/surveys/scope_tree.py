"""The tree of places, with what is given and denied at each."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.sources import gathered_by
from justlane.model.bindings import Binding
from justlane.model.scopes import Scope, contains


class Branch(Struct, frozen=True):
    """One place in the tree."""

    scope: Scope
    depth: int
    """Levels below the top, which is 0."""
    bindings: tuple[Binding, ...]
    """What is given or denied at this place itself."""
    gathered_by: tuple[str, ...]
    """The resource groups that gather it."""
    open: bool
    """Whether it is open to everybody who signed in, since nobody is given anything there."""


class ScopeTree(Struct, frozen=True):
    """Some places, in the order of a walk."""

    branches: tuple[Branch, ...]
    left_out: int
    """How many lie deeper than was asked."""


def tree_of_places(index: EstateIndex, tops: Sequence[str], depth: int | None) -> ScopeTree:
    """Everything from some places down, or so many levels of it."""
    found: list[Branch] = []
    left = 0
    for top in tops:
        prepared = index.platform(top)
        level = top.count("/")
        gathering = gathered_by(prepared.platform.scopes.values())
        for address, scope in prepared.platform.scopes.items():
            if not contains(top, address):
                continue
            below = address.count("/") - level
            if depth is not None and below > depth:
                left += 1
                continue
            by = tuple(outer for outer, _ in gathering.get(address, ()))
            opened = prepared.open_binding is not None and prepared.is_open(address)
            found.append(Branch(scope, below, tuple(prepared.bindings.at(address)), by, opened))
    return ScopeTree(tuple(found), left)
