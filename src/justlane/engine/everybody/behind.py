"""Whom the names on a platform stand for, found for everybody at once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.everybody.lists import (
    Ints,
    Lists,
    Numbers,
    alike,
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


class Kind(NamedTuple):
    """People whom none of some names tells apart."""

    principals: frozenset[Principal]
    """The names that stand for them."""
    users: Ints
    """Their numbers."""


class Behind:
    """Some names on a platform, on the day of a moment, and the enabled people whom they stand for.

    Users have the numbers of the roll; whoever has not signed in comes after them.
    """

    def __init__(self, index: EstateIndex, platform: str, moment: datetime, names: Iterable[Principal]) -> None:
        self._index, self._platform, self._moment = index, platform, moment
        self.roll = index.membership.roll
        self.names = list(dict.fromkeys(names))
        self.nobody = len(self.roll.logins)
        """The number of whoever has not signed in."""
        self.there = np.append(self.roll.active(on_clock(moment, index.estate.time_zone).date()), True)
        """Whether each may do anything at all. Shape (users + 1,)."""
        self._number = {name: number for number, name in enumerate(self.names)}
        self.everyone = AUTHENTICATED in self._number
        self.user, self.name = self._pairs()
        """Pairs of a user and the number of a name, sorted, each once; without `authenticated`."""

    def number(self, name: Principal) -> int:
        """The number of a name."""
        return self._number[name]

    def login(self, number: int) -> str:
        """The login of a number."""
        return ANONYMOUS_NAME if number == self.nobody else self.roll.logins[number]

    def logins(self, users: Numbers) -> list[str]:
        """The logins of some numbers."""
        return [self.login(number) for number in users.tolist()]

    def in_order(self, users: Ints) -> list[str]:
        """The logins of some numbers, in their order; last whoever has not signed in."""
        signed_in = users[users != self.nobody]
        last = [ANONYMOUS_NAME] if len(signed_in) < len(users) else []
        return [*self.logins(self.roll.in_order(signed_in)), *last]

    def one(self, user: int) -> frozenset[Principal]:
        """The names that stand for one of them."""
        first, last = np.searchsorted(self.user, np.array((user, user + 1), np.int32))
        found = [self.names[n] for n in self.name[first:last].tolist()]
        return frozenset([*found, AUTHENTICATED] if self.everyone and user != self.nobody else found)

    def standing_for_somebody(self) -> set[Principal]:
        """The names behind which there is anybody, `authenticated` left aside."""
        return {self.names[number] for number in np.unique(self.name).tolist()}

    def count(self, name: Principal) -> int:
        """How many enabled users a name stands for; `anonymous` for none of them."""
        return int(self.any_of([name])[: self.nobody].sum())

    def counts(self) -> dict[Principal, int]:
        """How many enabled users each name stands for, all at once; `anonymous` for none of them."""
        found = np.bincount(self.name[self.user < self.nobody], minlength=len(self.names))
        counted = dict(zip(self.names, found.tolist(), strict=True))
        if self.everyone:
            counted[AUTHENTICATED] = int(self.there[: self.nobody].sum())
        return counted

    def any_of(self, names: Iterable[Principal]) -> Flags:
        """Whether one of some names stands for each. Shape (users + 1,)."""
        wanted = np.zeros(len(self.names) + 1, np.bool_)
        wanted[[self._number[name] for name in names]] = True
        found = np.zeros(self.nobody + 1, np.bool_)
        found[self.user[wanted[self.name]]] = True
        if self.everyone and wanted[self._number[AUTHENTICATED]]:
            found[: self.nobody] |= self.there[: self.nobody]
        return found

    def kinds(self, among: Flags | None = None) -> Iterator[Kind]:
        """All who may do anything, or some of them, by kind."""
        users = np.flatnonzero(self.there if among is None else among & self.there).astype(np.int32)
        number, first = alike(self._sums_of(users))
        same = sorted_by(number, users, len(first))
        for kind, one in enumerate(users[first].tolist()):
            yield Kind(self.one(one), same.items[same.start[kind] : same.start[kind + 1]])

    def sums(self) -> NDArray[np.uint64]:
        """Two words for each that are the same for those for whom the same names stand. Shape (2, users + 1)."""
        return self._sums_of(np.arange(self.nobody + 1, dtype=np.int32))

    def _sums_of(self, users: Ints) -> NDArray[np.uint64]:
        """The same for some users, in order."""
        words = random_words(len(self.names) + 1)
        sums = np.zeros((2, len(users)), np.uint64)
        if len(users) and len(self.user):
            place = np.minimum(np.searchsorted(users, self.user), len(users) - 1)
            some = np.flatnonzero(users[place] == self.user)
            begins = np.flatnonzero(np.diff(place[some], prepend=-1))
            for total, random in zip(sums, words, strict=True) if len(some) else ():
                total[place[some][begins]] = np.add.reduceat(random[self.name[some]], begins)
        if self.everyone:
            sums[:, users != self.nobody] += words[:, -1:]
        return sums

    def person(self, kind: Kind) -> Person:
        """One of a kind."""
        return Person(self.login(int(kind.users[0])), True, kind.principals)

    def _pairs(self) -> tuple[Ints, Ints]:
        direct = list(self._direct())
        nodes, inner = self._nodes()
        most = len(self.names) + 1
        reached = spread(nodes[:, 0], nodes[:, 1], inner, most)
        position, user = self.roll.arrays.members.taken(reached // most)
        name = (reached % most)[position]
        more = np.array(direct, np.int32).reshape(-1, 2)
        user, name = np.append(user, more[:, 0]), np.append(name, more[:, 1])
        some = self.there[user]
        return unique_pairs(user[some], name[some], most)

    def _direct(self) -> Iterator[tuple[int, int]]:
        """Names that mean a user, or whoever has not signed in, or a local group with a user: the user and the name."""
        meant = [(p.name, n) for p, n in self._number.items() if p.kind is PrincipalKind.USER]
        meant += [(m.name, n) for m, n in self._in_local_groups() if m.kind is PrincipalKind.USER]
        numbers = self.roll.numbers({login for login, _ in meant})
        yield from ((numbers[login], n) for login, n in meant if login in numbers)
        yield from ((self.roll.meant[login], n) for login, n in meant if login in self.roll.meant)
        if ANONYMOUS in self._number:
            yield self.nobody, self._number[ANONYMOUS]

    def _in_local_groups(self) -> Iterator[tuple[Principal, int]]:
        for principal, number in self._number.items():
            if principal.kind is PrincipalKind.LOCAL_GROUP:
                for member in local_members(self._index, principal.name, self._platform, self._moment):
                    yield member.member, number

    def _nodes(self) -> tuple[NDArray[np.int64], Lists]:
        """Groups with the number of a name that means them, and the groups that each group holds."""
        groups, arrays = self.roll.group_numbers, self.roll.arrays
        meant = [(p, n) for p, n in self._number.items() if p.kind is PrincipalKind.GROUP]
        meant += [(m, n) for m, n in self._in_local_groups() if m.kind is PrincipalKind.GROUP]
        nodes = np.array([(groups[p.name], n) for p, n in meant if p.name in groups], np.int64).reshape(-1, 2)
        return nodes, sorted_by(arrays.outer, arrays.inner, len(groups))
