"""The people for whom the names on a platform stand, found for everybody at once, and their access classes.

This is the one place where people are told apart by names: whoever counts, compares, offers or proves for everybody
asks here, and judges one person of each class.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

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
from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, Person, local_members
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind

Flags = NDArray[np.bool_]
Sums = NDArray[np.uint64]


class AccessClass(NamedTuple):
    """People whom none of some names tells apart."""

    names: frozenset[Principal]
    """Those of the names that stand for them."""
    users: Ints
    """Their numbers, sorted."""

    @property
    def person(self) -> Person:
        """Anybody of them."""
        return Person("", True, self.names)


class PeopleByName:
    """Some names on a platform, on the day of a moment, and the enabled people for whom they stand.

    Users have the numbers of the numbered directory; whoever has not signed in comes after them.
    """

    def __init__(self, index: EstateIndex, platform: str, moment: datetime, names: Iterable[Principal]) -> None:
        self._index, self._platform, self._moment = index, platform, moment
        self.numbered = index.membership.numbered
        self.names = list(dict.fromkeys(names))
        self.nobody = len(self.numbered.logins)
        """The number of whoever has not signed in."""
        self.there = np.append(self.numbered.active(on_clock(moment, index.estate.time_zone).date()), True)
        """Whether each may do anything at all. Shape (users + 1,)."""
        self._number = {name: number for number, name in enumerate(self.names)}
        self._everyone = self._number.get(AUTHENTICATED, -1)
        """The number of `authenticated`: it stands for nearly everybody, and is never listed person by person."""
        self.user, self.name = self._pairs()
        """Pairs of a user and the number of a name, sorted, each once; without `authenticated`."""

    def number(self, name: Principal) -> int:
        """The number of a name."""
        return self._number[name]

    def login(self, number: int) -> str:
        """The login of a number."""
        return ANONYMOUS_NAME if number == self.nobody else self.numbered.logins[number]

    def logins(self, users: Numbers) -> list[str]:
        """The logins of some numbers."""
        return [self.login(number) for number in users.tolist()]

    def in_order(self, users: Ints) -> list[str]:
        """The logins of some numbers, in their order; last whoever has not signed in."""
        signed_in = users[users != self.nobody]
        last = [ANONYMOUS_NAME] if len(signed_in) < len(users) else []
        return [*self.logins(self.numbered.in_order(signed_in)), *last]

    @cached_property
    def _names_by_user(self) -> Lists:
        return lists_of(self.user, self.name, self.nobody + 1)

    @cached_property
    def _users_by_name(self) -> Lists:
        return sorted_by(self.name, self.user, len(self.names))

    @cached_property
    def _how_many(self) -> Longs:
        """For how many people each name stands, `authenticated` left aside. Shape (names,)."""
        return np.bincount(self.name, minlength=len(self.names))

    def having(self, name: Principal) -> Ints:
        """The numbers of the people for whom a name stands, sorted."""
        if name == AUTHENTICATED:
            return np.flatnonzero(self.there[: self.nobody]).astype(np.int32)
        lists, number = self._users_by_name, self._number[name]
        return lists.items[lists.start[number] : lists.start[number + 1]]

    def names_of(self, users: Numbers) -> tuple[Ints, Ints]:
        """The names that stand for some people: (position in `users`, number of a name), without `authenticated`."""
        return self._names_by_user.taken(users)

    def one(self, user: int, among: Flags | None = None) -> frozenset[Principal]:
        """The names that stand for one of them, perhaps of those that `wanted` marks."""
        lists = self._names_by_user
        mine = lists.items[int(lists.start[user]) : int(lists.start[user + 1])]
        found = [self.names[n] for n in (mine if among is None else mine[among[mine]]).tolist()]
        return frozenset([*found, AUTHENTICATED] if self._stands_for_all(user, among) else found)

    def _stands_for_all(self, user: int, among: Flags | None) -> bool:
        """Whether `authenticated` is one of the names that are asked about, and stands for somebody."""
        asked = self._everyone >= 0 and (among is None or bool(among[self._everyone]))
        return asked and user != self.nobody and bool(self.there[user])

    def marked(self, names: Iterable[Principal]) -> Flags:
        """Which of the names are some. Shape (names,)."""
        found = np.zeros(len(self.names), np.bool_)
        found[[self._number[name] for name in names]] = True
        return found

    def standing_for_somebody(self) -> set[Principal]:
        """The names behind which there is anybody, `authenticated` left aside."""
        return {self.names[number] for number in np.flatnonzero(self._how_many).tolist()}

    def count(self, name: Principal) -> int:
        """How many enabled users a name stands for; `anonymous` for none of them."""
        return int(self.any_of([name])[: self.nobody].sum())

    def counts(self) -> dict[Principal, int]:
        """How many enabled users each name stands for, all at once; `anonymous` for none of them."""
        found = np.bincount(self.name[self.user < self.nobody], minlength=len(self.names))
        counted = dict(zip(self.names, found.tolist(), strict=True))
        if self._everyone >= 0:
            counted[AUTHENTICATED] = int(self.there[: self.nobody].sum())
        return counted

    def any_of(self, names: Iterable[Principal]) -> Flags:
        """Whether one of some names stands for each. Shape (users + 1,)."""
        wanted = self.marked(names)
        found = np.zeros(self.nobody + 1, np.bool_)
        found[self.user[wanted[self.name]]] = True
        if self._everyone >= 0 and wanted[self._everyone]:
            found[: self.nobody] |= self.there[: self.nobody]
        return found

    def those_with(self, names: Iterable[Principal]) -> Ints:
        """The numbers of those for whom one of some names stands, sorted."""
        return np.flatnonzero(self.any_of(names) & self.there).astype(np.int32)

    def classes(self, among: Numbers | None = None, names: Flags | None = None) -> Iterator[AccessClass]:
        """The access classes of all who may do anything, or of some of them by number, as some names (marked) tell
        them apart, or all. Whoever has not signed in is always a class of their own."""
        users = np.flatnonzero(self.there).astype(np.int32) if among is None else among
        number, first = self.class_numbers(users, names)
        same = sorted_by(number, users, len(first))
        for one, standing in enumerate(self._names_of_each(users[first], names)):
            yield AccessClass(standing, same.items[same.start[one] : same.start[one + 1]])

    def class_numbers(self, users: Numbers, names: Flags | None = None) -> tuple[Ints, Longs]:
        """For each of some people the number of their access class; and where each class stands first."""
        sums = self.sums(users, names)
        sums[:, users == self.nobody] += np.uint64(1)  # no sum of words is told from another by so little
        return alike(sums)

    def sums(self, users: Numbers, names: Flags | None = None, seed: int = 0) -> Sums:
        """Two words for each of some people, the same for those for whom the same of some names (marked; None for all)
        stand. Shape (2, users). Words of two objects can be compared if they have the same names and the seed is the
        same."""
        words = random_words(len(self.names) + 1, seed)
        sums = np.zeros((2, len(users)), np.uint64)
        if names is not None and int(self._how_many[names].sum()) < self._pairs_of(users):
            self._add_by_name(sums, users, np.flatnonzero(names), words)
        else:
            self._add_by_user(sums, users, names, words)
        if self._everyone >= 0 and (names is None or names[self._everyone]):
            sums[:, (users != self.nobody) & self.there[users]] += words[:, -1:]
        return sums

    def _pairs_of(self, users: Numbers) -> int:
        start = self._names_by_user.start
        return int((start[users + 1] - start[users]).sum())

    def _add_by_user(self, sums: Sums, users: Numbers, names: Flags | None, words: Sums) -> None:
        """Go through the names of each: cheaper where few people have few names."""
        position, name = self.names_of(users)
        if names is not None:
            some = names[name]
            position, name = position[some], name[some]
        begins = np.flatnonzero(np.diff(position, prepend=-1))
        for total, random in zip(sums, words, strict=True) if len(position) else ():
            total[position[begins]] = np.add.reduceat(random[name], begins)

    def _add_by_name(self, sums: Sums, users: Numbers, names: Longs, words: Sums) -> None:
        """Go through the people of each name: cheaper where few names matter and many people have others besides."""
        position = self._positions
        position[users] = np.arange(len(users), dtype=np.int32)
        lists = self._users_by_name
        for number in names.tolist():
            at = position[lists.items[lists.start[number] : lists.start[number + 1]]]
            sums[:, at[at >= 0]] += words[:, number : number + 1]
        position[users] = -1  # as it was: the array is shared by all calls

    @cached_property
    def _positions(self) -> Ints:
        return np.full(self.nobody + 1, -1, np.int32)

    def _names_of_each(self, users: Numbers, among: Flags | None) -> list[frozenset[Principal]]:
        """The names of each of some people, as `one`."""
        position, name = self.names_of(users)
        if among is not None:
            some = among[name]
            position, name = position[some], name[some]
        found: list[list[Principal]] = [
            [AUTHENTICATED] if self._stands_for_all(user, among) else [] for user in users.tolist()
        ]
        for at, number in zip(position.tolist(), name.tolist(), strict=True):
            found[at].append(self.names[number])
        return [frozenset(some) for some in found]

    def _pairs(self) -> tuple[Ints, Ints]:
        direct = list(self._direct())
        nodes, inner = self._nodes()
        most = len(self.names) + 1
        reached = spread(nodes[:, 0], nodes[:, 1], inner, most)
        position, user = self.numbered.columns.members.taken(reached // most)
        name = (reached % most)[position]
        more = np.array(direct, np.int32).reshape(-1, 2)
        user, name = np.append(user, more[:, 0]), np.append(name, more[:, 1])
        some = self.there[user]
        return unique_pairs(user[some], name[some], most)

    def _direct(self) -> Iterator[tuple[int, int]]:
        """Names that mean a user, or whoever has not signed in, or a local group with a user: the user and the name."""
        meant = [(p.name, n) for p, n in self._number.items() if p.kind is PrincipalKind.USER]
        meant += [(m.name, n) for m, n in self._in_local_groups() if m.kind is PrincipalKind.USER]
        numbers = self.numbered.numbers({login for login, _ in meant})
        yield from ((numbers[login], n) for login, n in meant if login in numbers)
        yield from ((self.numbered.meant[login], n) for login, n in meant if login in self.numbered.meant)
        if ANONYMOUS in self._number:
            yield self.nobody, self._number[ANONYMOUS]

    def _in_local_groups(self) -> Iterator[tuple[Principal, int]]:
        for principal, number in self._number.items():
            if principal.kind is PrincipalKind.LOCAL_GROUP:
                for member in local_members(self._index, principal.name, self._platform, self._moment):
                    yield member.member, number

    def _nodes(self) -> tuple[NDArray[np.int64], Lists]:
        """Groups with the number of a name that means them, and the groups that each group holds."""
        groups, columns = self.numbered.group_numbers, self.numbered.columns
        meant = [(p, n) for p, n in self._number.items() if p.kind is PrincipalKind.GROUP]
        meant += [(m, n) for m, n in self._in_local_groups() if m.kind is PrincipalKind.GROUP]
        nodes = np.array([(groups[p.name], n) for p, n in meant if p.name in groups], np.int64).reshape(-1, 2)
        return nodes, sorted_by(columns.outer, columns.inner, len(groups))
