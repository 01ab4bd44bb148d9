"""Where the engine looks things up, so that an estate can be kept in a form that is read only where it is asked."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING, Protocol

from justlane.model.bindings import Binding
from justlane.model.findings import Source
from justlane.model.people import Directory, Principal, PrincipalKind
from justlane.model.scopes import Scope

if TYPE_CHECKING:
    from justlane.engine.arrays.trees import Tree


class Bindings(Protocol):
    """The bindings of one platform, in their order."""

    def __iter__(self) -> Iterator[Binding]:
        """All of them."""

    def at(self, scope: str) -> Sequence[Binding]:
        """Those at a scope."""

    def of(self, principal: Principal) -> Sequence[Binding]:
        """Those to a principal."""

    def principals(self) -> Collection[Principal]:
        """Everything that one of them names."""

    def place(self, binding: Binding) -> int:
        """Where one stands in the order; after all others if it is none of them."""


class KeptFacts(Protocol):
    """A kept estate that answers what would otherwise take a look at all of it."""

    def bindings_on(self, platform: str) -> Bindings:
        """The bindings of a platform."""

    def gathering(self, address: str) -> Sequence[tuple[str, Source]]:
        """The resource groups that gather a scope, each with the line that says so."""

    def tree(self, platform: str) -> Tree:
        """All scopes of a platform, in short."""


class ListedBindings:
    """Bindings in a list."""

    def __init__(self, bindings: Sequence[Binding]) -> None:
        self._all = bindings

    def __iter__(self) -> Iterator[Binding]:
        return iter(self._all)

    def at(self, scope: str) -> Sequence[Binding]:
        """Those at a scope."""
        return self._by_scope.get(scope, ())

    def of(self, principal: Principal) -> Sequence[Binding]:
        """Those to a principal."""
        return self._by_principal.get(principal, ())

    def principals(self) -> Collection[Principal]:
        """Everything that one of them names."""
        return self._by_principal.keys()

    def place(self, binding: Binding) -> int:
        """Where one stands in the order."""
        return self._places.get(id(binding), len(self._all))

    @cached_property
    def _by_scope(self) -> dict[str, list[Binding]]:
        found: dict[str, list[Binding]] = {}
        for binding in self._all:
            found.setdefault(binding.scope, []).append(binding)
        return found

    @cached_property
    def _by_principal(self) -> dict[Principal, list[Binding]]:
        found: dict[Principal, list[Binding]] = {}
        for binding in self._all:
            found.setdefault(binding.principal, []).append(binding)
        return found

    @cached_property
    def _places(self) -> dict[int, int]:
        return {id(binding): place for place, binding in enumerate(self._all)}


class OverlaidBindings:
    """Bindings with some more, which stand last, or some fewer."""

    def __init__(self, before: Bindings, more: Sequence[Binding], fewer: Sequence[Binding]) -> None:
        self._before = before
        self._more = ListedBindings(more)
        self._fewer = {id(binding) for binding in fewer}
        self._count = len(more)

    def __iter__(self) -> Iterator[Binding]:
        yield from self._left(tuple(self._before))
        yield from self._more

    def _left(self, bindings: Sequence[Binding]) -> list[Binding]:
        return [binding for binding in bindings if id(binding) not in self._fewer]

    def at(self, scope: str) -> Sequence[Binding]:
        """Those at a scope."""
        return [*self._left(self._before.at(scope)), *self._more.at(scope)]

    def of(self, principal: Principal) -> Sequence[Binding]:
        """Those to a principal."""
        return [*self._left(self._before.of(principal)), *self._more.of(principal)]

    def principals(self) -> Collection[Principal]:
        """Everything that one of them names, or named before some were gone."""
        return {*self._before.principals(), *self._more.principals()}

    def place(self, binding: Binding) -> int:
        """Where one stands in the order."""
        place = self._more.place(binding)
        return _AFTER_ALL + place if place < self._count else self._before.place(binding)


_AFTER_ALL = 1 << 60


def held_directly(directory: Directory) -> dict[Principal, list[tuple[Principal, Source]]]:
    """Member -> the groups that hold it, each with the line that says so."""
    edges: dict[Principal, list[tuple[Principal, Source]]] = {}
    for name, entry in directory.groups.items():
        for member in entry.members:
            edges.setdefault(member.member, []).append((Principal(PrincipalKind.GROUP, name), member.source))
    return edges


def gathered_by(scopes: Collection[Scope]) -> dict[str, list[tuple[str, Source]]]:
    """Address -> the resource groups that gather it, each with the line that says so."""
    found: dict[str, list[tuple[str, Source]]] = {}
    for scope in scopes:
        for item in scope.gathers:
            found.setdefault(item.address, []).append((scope.address, item.source))
    return found
