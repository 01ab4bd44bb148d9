"""Users that no binding tells apart.

Only groups that a binding names matter, directly or from above. Groups that bring the same bindings are one, and users
with the same set of such groups are one class: sets are compared by the sums of two random 64-bit numbers for each
element, the first to find equal ones, the second to make sure.
"""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from typing import NamedTuple

import numpy as np

from justlane.engine.arrays.lists import (
    Ints,
    Lists,
    Longs,
    Numbers,
    alike,
    lists_of,
    random_words,
    sorted_by,
    spread,
    unique_pairs,
)
from justlane.engine.compiled.flat import Flat

THREADS = 2
"""NumPy lets go of the interpreter for long operations: two threads gain about a third, more gain little."""

USERS_AT_ONCE = 1 << 15
"""As many as keep the arrays of a block near the processor."""


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


def classes_of(flat: Flat) -> Classes:
    """Compile the memberships of a platform."""
    brought = _brought(flat)
    kind_of_group, bindings = _same(brought, len(flat.bound_group))
    groups = lists_of(flat.member_user, flat.member_group, flat.users)
    words = np.zeros((2, len(kind_of_group)), np.uint64)
    bringing = kind_of_group >= 0
    # two groups that bring the same lines get the same word: who is in the one is as who is in the other
    words[:, bringing] = random_words(len(bindings.start))[:, kind_of_group[bringing]]
    sums = np.zeros((2, flat.users), np.uint64)

    def add_up(first: int) -> None:
        bounds = groups.start[first : first + USERS_AT_ONCE + 1]
        held = groups.items[bounds[0] : bounds[-1]]
        user = np.flatnonzero(np.diff(bounds))
        if len(user):
            for total, random in zip(sums, words, strict=True):
                total[first + user] = np.add.reduceat(random[held], bounds[user] - bounds[0])

    with ThreadPoolExecutor(THREADS) as pool:
        list(pool.map(add_up, range(0, flat.users, USERS_AT_ONCE)))
    # a sum of 0 is somebody whom no line reaches: random words are never 0
    given = np.flatnonzero(sums[0])
    number, first = alike(sums[:, given])
    people = np.bincount(number).astype(np.int64)
    return Classes(bindings, groups, kind_of_group, given[first], people)


def _brought(flat: Flat) -> Lists:
    """The bindings that each group brings: its own and those of all groups that hold it. Loops are harmless."""
    bound = np.flatnonzero(np.bincount(flat.bound_group, minlength=flat.groups))
    pairs = spread(bound, bound, sorted_by(flat.nested_outer, flat.nested_inner, flat.groups), flat.groups)
    by_group = sorted_by(flat.bound_group, np.arange(len(flat.bound_group)), flat.groups)
    position, binding = by_group.taken(pairs % flat.groups)
    owner, item = unique_pairs((pairs // flat.groups)[position], binding, len(flat.bound_group))
    return lists_of(owner, item, flat.groups)


def _same(lists: Lists, items: int) -> tuple[Ints, Lists]:
    """Number equal lists alike (-1 for empty ones); returns the number of each list, and the distinct lists."""
    number = np.full(len(lists.start) - 1, -1, np.int32)
    full = np.flatnonzero(np.diff(lists.start))
    if not len(full):
        return number, Lists(np.zeros(1, np.int64), lists.items[:0])
    sums = np.stack([np.add.reduceat(words[lists.items], lists.start[full]) for words in random_words(items)])
    number[full], first = alike(sums)
    position, item = lists.taken(full[first])
    return number, lists_of(position, item, len(first))
