"""Which scope covers which: containment, and what resource groups gather."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.facts.graphs import loops, trail, walk
from justlane.engine.facts.sources import gathered_by
from justlane.model.findings import Source
from justlane.model.scopes import Scope

if TYPE_CHECKING:
    from justlane.engine.compiled.terrain import Terrain


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

    def __init__(self, scopes: Mapping[str, Scope], gathering: Gathering | None = None) -> None:
        self.scopes = scopes
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
    def _children(self) -> dict[str, list[str]]:
        children: dict[str, list[str]] = {}
        for scope in self.scopes.values():
            if scope.parent is not None:
                children.setdefault(scope.parent, []).append(scope.address)
        return children

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
        """Every scope that this one covers, itself first; each once."""

        if address not in self._covered:
            self._covered[address] = tuple(walk(address, self._inward))
        return self._covered[address]

    def _inward(self, node: str) -> Iterator[tuple[str, None]]:
        yield from ((child, None) for child in self.children(node))
        yield from ((item.address, None) for item in self.scopes[node].gathers)

    def loops(self) -> list[list[str]]:
        """Resource groups that gather each other, directly or through what they gather."""
        return loops(
            self.scopes,
            lambda node: [*self.children(node), *(item.address for item in self.scopes[node].gathers)],
        )
