"""Which scope covers which: containment, and what resource groups gather."""

from __future__ import annotations

import struct
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.facts.graphs import loops, trail, walk
from justlane.engine.facts.sources import gathered_by
from justlane.model.findings import Source
from justlane.model.scopes import Scope

if TYPE_CHECKING:
    from justlane.engine.everywhere.terrain import Terrain


class CoverStep(Struct, frozen=True):
    """`outer` covers `inner`: it contains it, or it is a resource group that gathers it."""

    outer: str
    inner: str
    gathers: bool
    source: Source
    kind: str = ""
    """The kind of `inner`, where it is gathered."""


class Tree(Struct, frozen=True):
    """All scopes of a platform, as a kept estate has them: without what nothing but explanations needs."""

    addresses: list[str]
    """In the order in which they are declared."""
    parents: bytes
    """The number of each one's parent, -1 for none; 32 bits, little-endian."""
    kinds: list[str]
    kind: bytes
    """The number of each one's kind, likewise."""
    is_walk: bool
    """Whether what lies below a scope follows it without a gap."""
    gathers: bool
    """Whether there is a resource group that gathers anything."""


def tree_of(scopes: Mapping[str, Scope]) -> Tree:
    """The same in short."""
    place = {address: number for number, address in enumerate(scopes)}
    kinds = {kind: number for number, kind in enumerate(dict.fromkeys(s.kind for s in scopes.values()))}
    parents = _numbers(place.get(address.rpartition("/")[0], -1) for address in scopes)
    kind = _numbers(kinds[scope.kind] for scope in scopes.values())
    gathers = any(scope.gathers for scope in scopes.values())
    return Tree(list(scopes), parents, list(kinds), kind, is_walk(list(scopes)), gathers)


def _numbers(some: Iterable[int]) -> bytes:
    known = list(some)
    return struct.pack(f"<{len(known)}i", *known)


def is_walk(addresses: Sequence[str]) -> bool:
    """Whether each scope stands right below one of those that the scope before it is in."""
    way: list[str] = []
    for address in addresses:
        above = address.rpartition("/")[0]
        while way and way[-1] != above:
            way.pop()
        if bool(way) == (not above):
            return False
        way.append(address)
    return True


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
        self.terrain: Terrain | None = None
        """The same scopes in numbers, once somebody has asked for them."""
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
