"""The scopes of a platform in numbers, in the order of a walk through the tree: what is below a scope follows it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Ints
from justlane.engine.facts.coverage import CoverageIndex
from justlane.engine.facts.index import PlatformIndex
from justlane.model.bindings import Binding

Reach = tuple[str, bool]
"""A scope, and whether nothing below it is meant (here-only)."""
Spans = Sequence[tuple[int, int]]
"""Intervals of scopes that do not overlap: the first, and one past the last."""


class Terrain:
    """Where everything is."""

    def __init__(self, coverage: CoverageIndex) -> None:
        self._scopes = coverage.scopes
        self.addresses = _walk(coverage)
        self.number = {address: number for number, address in enumerate(self.addresses)}
        self.parent: Ints = np.array([self.number.get(a.rpartition("/")[0], -1) for a in self.addresses], np.int32)
        """-1 for the root."""
        self.end = subtree_ends(self.parent)
        """One past the last scope of each subtree."""
        known = self._scopes
        self.kinds = list(dict.fromkeys(scope.kind for scope in known.values()))
        numbers = {kind: number for number, kind in enumerate(self.kinds)}
        self.kind: Ints = np.array([numbers[known[a].kind] for a in self.addresses], np.int32)
        self._spans: dict[Reach, Spans] = {}

    def __len__(self) -> int:
        return len(self.addresses)

    @cached_property
    def gathers(self) -> list[tuple[int, int]]:
        """Each resource group with each scope that it gathers."""
        number = self.number
        return [(number[s.address], number[g.address]) for s in self._scopes.values() for g in s.gathers]

    @cached_property
    def _targets(self) -> dict[int, list[int]]:
        found: dict[int, list[int]] = {}
        for group, target in self.gathers:
            found.setdefault(group, []).append(target)
        return found

    @cached_property
    def _groups(self) -> Ints:
        return np.array(sorted(self._targets), np.int32)

    def spans(self, scope: str, here_only: bool = False) -> Spans:
        """What a binding at a scope covers."""
        key = scope, here_only
        if key not in self._spans:
            number = self.number[scope]
            if here_only:
                alone = sorted({number, *self._targets.get(number, ())})
                self._spans[key] = [(some, some + 1) for some in alone]
            else:
                roots = separate_roots(number, self.end, self._groups, self._targets) if self._targets else [number]
                self._spans[key] = [(root, int(self.end[root])) for root in sorted(roots)]
        return self._spans[key]

    def told_apart(self, marks: Iterable[tuple[Spans, int]], most: int = 0) -> NDArray[np.uint64]:
        """For each scope a word that is the same where the same marks lie; each mark has a number of its own, from 0,
        and its intervals do not overlap. Words of two terrains can be compared if `most`, more than any number, is the
        same."""
        spread = np.array([(start, end, n) for spans, n in marks for start, end in spans], np.int64).reshape(-1, 3)
        count = most or int(spread[:, 2].max(initial=0)) + 1
        words = np.random.default_rng(20261127).integers(1, 1 << 63, count, np.uint64)[spread[:, 2]]
        steps = np.zeros(len(self) + 1, np.uint64)
        np.add.at(steps, spread[:, 0], words)
        np.subtract.at(steps, spread[:, 1], words)
        return np.cumsum(steps)[:-1]


def terrain_of(prepared: PlatformIndex) -> Terrain:
    """The terrain of a platform, made once."""
    if prepared.coverage.terrain is None:
        prepared.coverage.terrain = Terrain(prepared.coverage)
    return prepared.coverage.terrain


def reach_of(binding: Binding) -> Reach:
    """How far a binding reaches."""
    return binding.scope, binding.here_only


def _walk(coverage: CoverageIndex) -> list[str]:
    """As the file has them, if that is such a walk already."""
    addresses = list(coverage.scopes)
    if _is_walk(addresses):
        return addresses
    found: list[str] = []
    waiting = [next(a for a in addresses if "/" not in a)]
    while waiting:
        found.append(waiting.pop())
        waiting += reversed(coverage.children(found[-1]))
    return found


def _is_walk(addresses: Sequence[str]) -> bool:
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


def separate_roots(scope: int, end: Ints, groups: Ints, targets: Mapping[int, Sequence[int]]) -> list[int]:
    """The roots of the separate subtrees that a scope covers, through resource groups too."""
    found: list[int] = []
    waiting = [scope]
    while waiting:
        root = waiting.pop()
        if any(r <= root < end[r] for r in found):
            continue
        found = [r for r in found if not root <= r < end[root]] + [root]
        first, last = np.searchsorted(groups, (root, end[root]))
        waiting += [target for group in groups[first:last].tolist() for target in targets[group]]
    return found


def subtree_ends(parent: Ints) -> Ints:
    """Subtree ends in a walk where parents come first and subtrees are contiguous."""
    depth = np.zeros(len(parent), np.int32)
    above = parent
    while (inside := above >= 0).any():
        depth += inside
        above = np.where(inside, parent[above], -1)
    size = np.ones(len(parent), np.int64)
    for level in range(int(depth.max(initial=0)), 0, -1):
        some = np.flatnonzero(depth == level)
        size += np.bincount(parent[some], size[some], len(parent)).astype(np.int64)
    return (np.arange(len(parent)) + size).astype(np.int32)
