"""The scopes of a platform in numbers, in the order of a walk through the tree: what is below a scope follows it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Ints
from justlane.engine.arrays.trees import Tree
from justlane.model.bindings import Binding
from justlane.model.scopes import Scope

Reach = tuple[str, bool]
"""A scope, and whether nothing below it is meant (here-only)."""
Spans = Sequence[tuple[int, int]]
"""Intervals of scopes that do not overlap: the first, and one past the last."""


class NumberedScopes:
    """All scopes of a platform, numbered."""

    def __init__(self, tree: Tree, scopes: Mapping[str, Scope]) -> None:
        self._scopes = scopes
        self.kinds = tree.kinds
        self.addresses, order = _walk(tree)
        self.number = {address: number for number, address in enumerate(self.addresses)}
        self._gathers = tree.gathers
        parents, kind = (np.frombuffer(some, "<i4") for some in (tree.parents, tree.kind))
        back = np.empty(len(order) + 1, np.int32)
        back[order], back[-1] = np.arange(len(order)), -1
        self.parent: Ints = back[parents[order]]
        """-1 for the root."""
        self.kind: Ints = kind[order]
        self.end = subtree_ends(self.parent)
        """One past the last scope of each subtree."""
        self._spans: dict[Reach, Spans] = {}

    def __len__(self) -> int:
        return len(self.addresses)

    @cached_property
    def gathers(self) -> list[tuple[int, int]]:
        """Each resource group with each scope that it gathers."""
        number = self.number
        scopes = self._scopes.values() if self._gathers else ()
        return [(number[s.address], number[g.address]) for s in scopes for g in s.gathers]

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

    def under(self, some: Iterable[Spans]) -> NDArray[np.bool_]:
        """Whether each scope lies in one of some intervals. Shape (scopes,)."""
        steps = np.zeros(len(self) + 1, np.int64)
        for spans in some:
            for start, end in spans:
                steps[start] += 1
                steps[end] -= 1
        return np.cumsum(steps)[:-1] > 0

    def told_apart(self, marks: Iterable[tuple[Spans, int]], most: int = 0) -> NDArray[np.uint64]:
        """For each scope a word that is the same where the same marks lie; each mark has a number of its own, from 0,
        and its intervals do not overlap. Words of two numbered can be compared if `most`, more than any number, is the
        same."""
        spread = np.array([(start, end, n) for spans, n in marks for start, end in spans], np.int64).reshape(-1, 3)
        count = most or int(spread[:, 2].max(initial=0)) + 1
        words = np.random.default_rng(20261127).integers(1, 1 << 63, count, np.uint64)[spread[:, 2]]
        steps = np.zeros(len(self) + 1, np.uint64)
        np.add.at(steps, spread[:, 0], words)
        np.subtract.at(steps, spread[:, 1], words)
        return np.cumsum(steps)[:-1]


def reach_of(binding: Binding) -> Reach:
    """How far a binding reaches."""
    return binding.scope, binding.here_only


def _walk(tree: Tree) -> tuple[list[str], NDArray[np.int64]]:
    """The scopes in the order of a walk, and the number that each has in the tree."""
    count = len(tree.addresses)
    if tree.is_walk:
        return tree.addresses, np.arange(count)
    below: list[list[int]] = [[] for _ in range(count)]
    waiting: list[int] = []
    for number, above in enumerate(np.frombuffer(tree.parents, "<i4").tolist()):
        (below[above] if above >= 0 else waiting).append(number)
    order: list[int] = []
    while waiting:
        order.append(waiting.pop())
        waiting += reversed(below[order[-1]])  # the last one that is put down is taken up first
    return [tree.addresses[number] for number in order], np.array(order)


def separate_roots(scope: int, end: Ints, groups: Ints, targets: Mapping[int, Sequence[int]]) -> list[int]:
    """The roots of the separate subtrees that a scope covers, through resource groups too."""
    found: list[int] = []
    waiting = [scope]
    while waiting:
        root = waiting.pop()
        # inside what is found already: counting it again would count its cells twice
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
