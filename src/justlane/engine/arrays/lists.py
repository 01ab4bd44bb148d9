"""Lists of numbers, end to end in one array, and sets that are compared by sums of random words."""

from __future__ import annotations

from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

Ints = NDArray[np.int32]
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


def lists_of(owner: Numbers, items: Numbers, count: int) -> Lists:
    """Lists from pairs that are sorted by their owner."""
    start = np.zeros(count + 1, np.int64)
    np.cumsum(np.bincount(owner, minlength=count), out=start[1:])
    return Lists(start, items.astype(np.int32, copy=False))


def sorted_by(owner: Numbers, items: Numbers, count: int) -> Lists:
    """Lists from pairs in any order; each list keeps the order of its items."""
    order = np.argsort(owner, kind="stable")
    return lists_of(owner[order], items[order], count)


def spread(tops: Numbers, items: Numbers, inner: Lists, count: int) -> Longs:
    """What each of some nodes brings, brought to all that they hold, directly or nested; loops are harmless.

    `inner` lists what each node holds, `count` is more than the largest item. Gives sorted pairs, each once, packed as
    node * count + item.
    """
    pairs = fresh = np.unique(tops.astype(np.int64) * count + items)
    # breadth first, all at once; what is known already is not followed again, so that a loop ends
    while len(fresh):
        position, below = inner.taken(fresh // count)
        more = np.unique(below.astype(np.int64) * count + (fresh % count)[position])
        known = pairs[np.minimum(np.searchsorted(pairs, more), len(pairs) - 1)] == more
        fresh = more[~known]
        pairs = np.sort(np.append(pairs, fresh))
    return pairs


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


def random_words(count: int, seed: int = 0) -> NDArray[np.uint64]:
    """Two random words for each element of a set, never 0."""
    return np.random.default_rng(20261125 + seed).integers(1, 1 << 56, (2, count), np.uint64)


def alike(sums: NDArray[np.uint64]) -> tuple[Ints, Longs]:
    """Number equal sums alike; returns the number of each, and where each number stands first. Shape (2, count).
    ArithmeticError if two different sets have one sum, which has never been seen."""
    if not sums.shape[1]:
        return np.zeros(0, np.int32), np.zeros(0, np.int64)
    order = _order(sums[0])
    ordered = sums[0][order]
    new = np.append(True, ordered[1:] != ordered[:-1])
    number = np.empty(len(order), np.int32)
    number[order] = np.cumsum(new, dtype=np.int32) - 1
    first = order[new]
    # the second word makes sure: that two sets collide in both is less likely than a broken machine
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
    # the lowest bits gave way to the index: words that differ only there may stand in any order
    torn = np.flatnonzero((top[1:] == top[:-1]) & (ordered[1:] != ordered[:-1]))
    for place in torn.tolist():  # words alike in their upper bits only: a handful among millions
        start, end = np.searchsorted(top, top[place], "left"), np.searchsorted(top, top[place], "right")
        order[start:end] = order[start:end][np.argsort(words[order[start:end]])]
    return order
