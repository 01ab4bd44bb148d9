"""Users that no binding tells apart.

Only groups that a binding names matter, directly or from above. Groups that bring the same bindings are one, and users
with the same set of such groups are one class: sets are compared by the sums of two random 64-bit numbers for each
element, the first to find equal ones, the second to make sure.
"""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Flat, Ints

Longs = NDArray[np.int64]
Numbers = NDArray[np.integer[Any]]


class Lists(NamedTuple):
    """Several lists of numbers in one array: list i is `items[start[i]:start[i + 1]]`."""

    start: Longs
    items: Ints

    def taken(self, which: Numbers) -> tuple[Ints, Ints]:
        """Some of the lists, end to end: (position in `which`, item) for each item."""
        first, length = self.start[which], self.start[which + 1] - self.start[which]
        total = int(length.sum())
        kind = np.int32 if len(self.items) + total < 1 << 31 else np.int64
        owner = np.repeat(np.arange(len(which), dtype=np.int32), length)
        place = np.repeat((first - (np.cumsum(length) - length)).astype(kind), length)
        place += np.arange(total, dtype=kind)
        return owner, self.items[place]


class Classes(NamedTuple):
    """The access classes of the users who are given anything."""

    bindings: Lists
    """The bindings that each kind of group brings."""
    kinds: Lists
    """The kinds of group that each class is in."""
    people: Longs
    """How many users each class has."""


def lists_of(owner: Numbers, items: Numbers, count: int) -> Lists:
    """Lists from pairs that are sorted by their owner."""
    start = np.zeros(count + 1, np.int64)
    np.cumsum(np.bincount(owner, minlength=count), out=start[1:])
    return Lists(start, items.astype(np.int32, copy=False))


def unique_pairs(owner: Numbers, item: Numbers, items: int) -> tuple[Ints, Ints]:
    """Sorted pairs, each once; `items` is more than the largest item."""
    bits = int(items).bit_length()
    packed = owner.astype(np.int64)
    packed <<= bits
    packed |= item
    packed.sort()
    new = np.empty(len(packed), np.bool_)
    new[:1] = True
    np.not_equal(packed[1:], packed[:-1], out=new[1:])
    packed = packed[new]
    return (packed >> bits).astype(np.int32), (packed & ((1 << bits) - 1)).astype(np.int32)


def classes_of(flat: Flat) -> Classes:
    """Compile the memberships of a platform."""
    brought = _brought(flat)
    kind_of_group, bindings = _same(brought, len(flat.bound_group))
    member_kind = kind_of_group[flat.member_group]
    counts = np.flatnonzero(member_kind >= 0)
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
    bound = np.flatnonzero(np.bincount(flat.bound_group, minlength=flat.groups))
    pairs = fresh = bound * flat.groups + bound
    order = np.argsort(flat.nested_outer, kind="stable")
    inner = lists_of(flat.nested_outer[order], flat.nested_inner[order], flat.groups)
    while len(fresh):
        position, below = inner.taken(fresh // flat.groups)
        more = np.sort(below.astype(np.int64) * flat.groups + (fresh % flat.groups)[position])
        more = more[np.append(True, more[1:] != more[:-1])] if len(more) else more
        known = pairs[np.minimum(np.searchsorted(pairs, more), len(pairs) - 1)] == more
        fresh = more[~known]
        pairs = np.sort(np.append(pairs, fresh))
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
    order = _order(sums[0])
    ordered = sums[0][order]
    new = np.append(True, ordered[1:] != ordered[:-1])
    among = np.empty(len(full), np.int32)
    among[order] = np.cumsum(new, dtype=np.int32) - 1
    if not np.array_equal(sums[1], sums[1][order[new]][among]):
        raise ArithmeticError("two different sets have the same hash; use another seed")
    number[full] = among
    first = full[order[new]]
    position, item = lists.taken(first)
    return number, lists_of(position, item, len(first))


def _order(words: NDArray[np.uint64]) -> Longs:
    """An order in which equal words stand together. Packing each with its index is faster to sort than an argsort."""
    bits = np.uint64(len(words).bit_length())
    packed = (words >> bits << bits) | np.arange(len(words), dtype=np.uint64)
    packed.sort()
    order = (packed & ((np.uint64(1) << bits) - np.uint64(1))).astype(np.int64)
    top = packed >> bits
    ordered = words[order]
    torn = np.flatnonzero((top[1:] == top[:-1]) & (ordered[1:] != ordered[:-1]))
    for place in torn.tolist():  # words alike in their upper bits only: a handful among millions
        start, end = np.searchsorted(top, top[place], "left"), np.searchsorted(top, top[place], "right")
        order[start:end] = order[start:end][np.argsort(words[order[start:end]])]
    return order
