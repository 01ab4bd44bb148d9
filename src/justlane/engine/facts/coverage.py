"""Which scope covers which: containment, and what resource groups gather."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.arrays.trees import Tree, tree_of
from justlane.engine.facts.graphs import loops, trail, walk
from justlane.engine.facts.sources import gathered_by
from justlane.model.findings import Source
from justlane.model.scopes import Scope

if TYPE_CHECKING:
    from justlane.engine.arrays.scopes import NumberedScopes


class CoverStep(Struct, frozen=True):
    """`outer` covers `inner`: it contains it, or it is a resource group that gathers it."""

    outer: str
    inner: str
    gathers: bool
    source: Source
    kind: str = ""
    """The kind of `inner`, where it is gathered."""


Gathering = Callable[[str], Sequence[tuple[str, Source]]]
"""Answers which resource groups gather a scope, each with the line that says so."""


class CoverageIndex:
    """Answers about one platform's scopes, a directed acyclic graph."""

    def __init__(
        self,
        scopes: Mapping[str, Scope],
        gathering: Gathering | None = None,
        tree: Callable[[], Tree] | None = None,
    ) -> None:
        self.scopes = scopes
        self._kept_tree = tree
        self._kept = gathering
        self._found: dict[str, dict[str, tuple[str, CoverStep] | None]] = {}
        self._covered: dict[str, tuple[str, ...]] = {}
        self._directly: dict[str, list[tuple[str, CoverStep]]] = {}

    def _gathering(self, address: str) -> Sequence[tuple[str, Source]]:
        return self._kept(address) if self._kept else self._listed.get(address, ())

    @cached_property
    def _listed(self) -> dict[str, list[tuple[str, Source]]]:
        return gathered_by(self.scopes.values())

    @cached_property
    def tree(self) -> Tree | None:
        """All scopes in short, where they are kept like that."""
        return self._kept_tree() if self._kept_tree else None

    @cached_property
    def numbered(self) -> NumberedScopes:
        """All scopes in numbers."""
        from justlane.engine.arrays.scopes import NumberedScopes

        return NumberedScopes(self.tree or tree_of(self.scopes), self.scopes)

    @cached_property
    def gathering(self) -> list[str]:
        """The resource groups that gather anything."""
        some = self.scopes.values() if self.tree is None or self.tree.gathers else ()
        return [scope.address for scope in some if scope.gathers]

    @cached_property
    def _children(self) -> dict[str, list[str]]:
        children: dict[str, list[str]] = {}
        for address in self.tree.addresses if self.tree else self.scopes:
            above = address.rpartition("/")[0]
            if above:
                children.setdefault(above, []).append(address)
        return children

    @cached_property
    def _place(self) -> dict[str, int]:
        return {address: place for place, address in enumerate(self.tree.addresses)} if self.tree else {}

    def children(self, address: str) -> list[str]:
        """Addresses that a scope contains directly, in the order of the file."""
        return self._children.get(address, [])

    def _outward(self, address: str) -> list[tuple[str, CoverStep]]:
        if address not in self._directly:
            self._directly[address] = list(self._covered_by(address))
        return self._directly[address]

    def _covered_by(self, address: str) -> Iterator[tuple[str, CoverStep]]:
        parent = self.scopes[address].parent
        if parent is not None:
            yield parent, CoverStep(parent, address, False, self.scopes[address].source)
        for group, source in self._gathering(address):
            yield group, CoverStep(group, address, True, source, self.scopes[address].kind)

    def covering(self, address: str) -> tuple[str, ...]:
        """Every scope that covers this one, itself first, then the nearest."""
        return tuple(self._upward(address))

    def covering_set(self, address: str) -> Collection[str]:
        """The same scopes, for looking one up."""
        return self._upward(address)

    def _upward(self, address: str) -> dict[str, tuple[str, CoverStep] | None]:
        if address not in self._found:
            self._found[address] = walk(address, self._outward)
        return self._found[address]

    def way_down(self, outer: str, inner: str) -> tuple[CoverStep, ...]:
        """The shortest chain that shows how `outer` covers `inner`, from the outside in."""
        return tuple(step for _, _, step in reversed(trail(self._upward(inner), outer)))

    def covered(self, address: str) -> tuple[str, ...]:
        """Every scope that this one covers, itself first, then the nearest; each once."""
        if address not in self._covered:
            quick = self.tree is not None and self.tree.is_walk and not self.tree.gathers
            self._covered[address] = self._below(address) if quick else tuple(walk(address, self._inward))
        return self._covered[address]

    def _below(self, address: str) -> tuple[str, ...]:
        """The same where nothing is gathered, from the order in which scopes are declared."""
        assert self.tree is not None
        order, start, inside = self.tree.addresses, self._place[address], f"{address}/"
        end = next((n for n in range(start + 1, len(order)) if not order[n].startswith(inside)), len(order))
        return tuple(sorted(order[start:end], key=lambda below: below.count("/")))

    def _inward(self, node: str) -> Iterator[tuple[str, None]]:
        yield from ((child, None) for child in self.children(node))
        yield from ((item.address, None) for item in self.scopes[node].gathers)

    def loops(self) -> list[list[str]]:
        """Resource groups that gather each other, directly or through what they gather."""
        return loops(
            self.scopes,
            lambda node: [*self.children(node), *(item.address for item in self.scopes[node].gathers)],
        )
