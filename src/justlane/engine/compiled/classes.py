"""Users that no binding tells apart.

Only groups that a binding names matter, directly or from above. Groups that bring the same bindings are one, and users
with the same set of such groups are one class: sets are compared by the sum of two random 64-bit numbers for each element,
the first to find equal ones, the second to make sure.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Flat, Ints

Longs = NDArray[np.int64]


class Lists(NamedTuple):
    """Several lists of numbers in one array: list i is `items[start[i]:start[i + 1]]`."""

    start: Longs
    items: Ints

    def taken(self, which: NDArray[np.integer]) -> tuple[Ints, Ints]:
        """Some of the lists, end to end: (position in `which`, item) for each item."""
        first, length = self.start[which], self.start[which + 1] - self.start[which]
        total = int(length.sum())
        owner = np.repeat(np.arange(len(which), dtype=np.int32), length)
        shift = np.repeat(first - (np.cumsum(length) - length), length)
        return owner, self.items[np.arange(total, dtype=np.int64) + shift]


class Classes(NamedTuple):
    """The access classes of the users who are given anything."""

    bindings: Lists
    """The bindings that each kind of group brings."""
    kinds: Lists
    """The kinds of group that each class is in."""
    people: Longs
    """How many users each class has."""


def lists_of(owner: NDArray[np.integer], items: Ints, count: int) -> Lists:
    """Lists from pairs that are sorted by their owner."""
    start = np.zeros(count + 1, np.int64)
    np.cumsum(np.bincount(owner, minlength=count), out=start[1:])
    return Lists(start, items)


def unique_pairs(owner: NDArray[np.integer], item: NDArray[np.integer], items: int) -> tuple[Ints, Ints]:
    """Sorted pairs, each once."""
    packed = owner.astype(np.int64) * items + item
    packed.sort()
    packed = packed[np.flatnonzero(np.diff(packed, prepend=-1))]
    first = packed // items
    return first.astype(np.int32), (packed - first * items).astype(np.int32)


def classes_of(flat: Flat) -> Classes:
    """Compile the memberships of a platform."""
    brought = _brought(flat)
    kind_of_group, bindings = _same(brought, len(flat.bound_group))
    member_kind = kind_of_group[flat.member_group]
    counts = member_kind >= 0
    user, kind = unique_pairs(flat.member_user[counts], member_kind[counts], len(bindings.start))
    reached, user = _renumbered(user)
    kind_of_user, kinds = _same(lists_of(user, kind, reached), len(bindings.start))
    people = np.bincount(kind_of_user, minlength=len(kinds.start) - 1).astype(np.int64)
    return Classes(bindings, kinds, people)


def _renumbered(owner: Ints) -> tuple[int, Ints]:
    """Sorted owners numbered without gaps."""
    new = np.diff(owner, prepend=-1) != 0
    return int(new.sum()), (np.cumsum(new) - 1).astype(np.int32)


def _brought(flat: Flat) -> Lists:
    """The bindings that each group brings: its own and those of all groups that hold it. Loops are harmless."""
    bound = np.unique(flat.bound_group)
    group, above = bound, bound
    pairs = group.astype(np.int64) * flat.groups + above
    fresh = pairs
    order = np.argsort(flat.nested_outer, kind="stable")
    inner = lists_of(flat.nested_outer[order], flat.nested_inner[order], flat.groups)
    while len(fresh):
        position, below = inner.taken(fresh // flat.groups)
        more = np.unique(below.astype(np.int64) * flat.groups + (fresh % flat.groups)[position])
        fresh = np.setdiff1d(more, pairs, assume_unique=True)
        pairs = np.union1d(pairs, fresh)
    order = np.argsort(flat.bound_group, kind="stable").astype(np.int32)
    by_group = lists_of(flat.bound_group[order], order, flat.groups)
    position, binding = by_group.taken(pairs % flat.groups)
    owner, item = unique_pairs((pairs // flat.groups)[position], binding, len(flat.bound_group))
    return lists_of(owner, item, flat.groups)


def _same(lists: Lists, items: int) -> tuple[Ints, Lists]:
    """Number equal lists alike (-1 for empty ones); returns the number of each list, and the distinct lists."""
    count = len(lists.start) - 1
    length = np.diff(lists.start)
    full = np.flatnonzero(length)
    number = np.full(count, -1, np.int32)
    if not len(full):
        return number, Lists(np.zeros(1, np.int64), lists.items[:0])
    random = np.random.default_rng(20261125).integers(0, 1 << 63, (2, items), np.uint64)
    sums = [np.add.reduceat(words[lists.items], lists.start[full]) for words in random]
    order = np.argsort(sums[0], kind="stable")
    new = np.diff(sums[0][order], prepend=sums[0][order[0]] + np.uint64(1)) != 0
    number[full[order]] = np.cumsum(new) - 1
    first = full[order[new]]
    if not np.array_equal(sums[1], sums[1][np.searchsorted(full, first)][number[full]]):
        raise ArithmeticError("two different sets have the same hash; use another seed")
    position, item = lists.taken(first)
    return number, lists_of(position, item, len(first))
