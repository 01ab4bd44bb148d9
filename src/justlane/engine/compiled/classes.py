"""Users that no binding tells apart.

Only groups that a binding names matter, directly or from above. Groups that bring the same bindings are one, and users
with the same set of such groups are one class: sets are compared by the sums of two random 64-bit numbers for each
element, the first to find equal ones, the second to make sure.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Flat, Ints

THREADS = 2
"""NumPy lets go of the interpreter for long operations: two threads gain about a third, more gain little."""

USERS_AT_ONCE = 1 << 15
"""As many as keep the arrays of a block near the processor."""

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
    groups: Lists
    """The groups of each user."""
    kind_of_group: Ints
    """-1 for a group that brings nothing."""
    one: Longs
    """One user of each class."""
    people: Longs
    """How many users each class has."""

    def kinds_of(self, which: Numbers) -> tuple[Ints, Ints]:
        """The kinds of group that some classes are in: (position in `which`, kind), perhaps several times."""
        position, group = self.groups.taken(self.one[which])
        kind = self.kind_of_group[group]
        counts = np.flatnonzero(kind >= 0)
        return position[counts], kind[counts]


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
    groups = lists_of(flat.member_user, flat.member_group, flat.users)
    words = _random_words(len(bindings.start))
    sums = np.zeros((2, flat.users), np.uint64)

    def add_up(first: int) -> None:
        start, end = groups.start[first], groups.start[min(first + USERS_AT_ONCE, flat.users)]
        kind = kind_of_group[flat.member_group[start:end]]
        counts = np.flatnonzero(kind >= 0)
        user, kind = unique_pairs(flat.member_user[start:end][counts], kind[counts], len(bindings.start))
        if len(user):
            begins = np.flatnonzero(np.diff(user, prepend=-1))
            for total, random in zip(sums, words, strict=True):
                total[user[begins]] = np.add.reduceat(random[kind], begins)

    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(add_up, range(0, flat.users, USERS_AT_ONCE)))
    given = np.flatnonzero(sums[0])
    number, first = _alike(sums[:, given])
    people = np.bincount(number).astype(np.int64)
    return Classes(bindings, groups, kind_of_group, given[first], people)


def _random_words(count: int) -> NDArray[np.uint64]:
    """Two random words for each element of a set, never 0."""
    return np.random.default_rng(20261125).integers(1, 1 << 56, (2, count), np.uint64)


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
    number = np.full(len(lists.start) - 1, -1, np.int32)
    full = np.flatnonzero(np.diff(lists.start))
    if not len(full):
        return number, Lists(np.zeros(1, np.int64), lists.items[:0])
    sums = np.stack([np.add.reduceat(words[lists.items], lists.start[full]) for words in _random_words(items)])
    number[full], first = _alike(sums)
    position, item = lists.taken(full[first])
    return number, lists_of(position, item, len(first))


def _alike(sums: NDArray[np.uint64]) -> tuple[Ints, Longs]:
    """Number equal sums alike; returns the number of each, and where each number stands first. Shape (2, count)."""
    if not sums.shape[1]:
        return np.zeros(0, np.int32), np.zeros(0, np.int64)
    order = _order(sums[0])
    ordered = sums[0][order]
    new = np.append(True, ordered[1:] != ordered[:-1])
    number = np.empty(len(order), np.int32)
    number[order] = np.cumsum(new, dtype=np.int32) - 1
    first = order[new]
    if not np.array_equal(sums[1], sums[1][first][number]):
        raise ArithmeticError("two different sets have the same hash; use another seed")
    return number, first


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
