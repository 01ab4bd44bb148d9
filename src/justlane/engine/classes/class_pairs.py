"""What changes on one platform for everybody: kinds of places times the kinds of people whom a change there reaches."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Ints, alike, random_words, sorted_by
from justlane.engine.classes.changed_scopes import ChangedScopes
from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.decision.judge import Question, is_apart
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, NOBODY, Person
from justlane.model.bindings import Binding
from justlane.model.people import Principal

Flags = NDArray[np.bool_]
Judged = Callable[[Person, Person, str], tuple[Any, ...]]
"""What changes at a place for people who were one way and are another; the same object for the same changes."""

_FEW = 200
"""So many people are sorted into kinds one by one as fast as all at once."""


class ChangeFound(NamedTuple):
    """What changes for some people."""

    users: Ints
    """Their numbers."""
    places: Sequence[str]
    change: tuple[Any, ...]
    """The same at each of the places."""


Kind = tuple[Person, Person, Ints]
"""People whom nothing that matters tells apart, as they were and as they are; and their numbers."""


def kinds_of(people: Iterable[tuple[int, Person, Person]], names: frozenset[Principal]) -> Iterator[Kind]:
    """People, each with their number, by those of their names that are among some."""
    kinds: dict[tuple[Person, Person], list[int]] = {}
    for number, was, now in people:
        kinds.setdefault((was.among(names), now.among(names)), []).append(number)
    yield from ((was, now, np.array(some, np.int32)) for (was, now), some in kinds.items())


def by_change(judged: Judged, kinds: Iterable[Kind], at: Sequence[str]) -> Iterator[ChangeFound]:
    """What changes for people at places that are alike, those with the same change together."""
    found: dict[int, tuple[tuple[Any, ...], list[Ints]]] = {}
    for was, now, some in kinds:
        change = judged(was, now, at[0])
        if change:
            found.setdefault(id(change), (change, []))[1].append(some)
    yield from (ChangeFound(np.concatenate(parts), at, change) for change, parts in found.values())


def alike_in(found: Sequence[ChangeFound], count: int) -> Iterator[tuple[list[int], list[int]]]:
    """Those together for whom the same was found: their numbers, which are before `count`, and the numbers of what."""
    if not found:
        return
    which = np.repeat(np.arange(len(found)), [len(some.users) for some in found])
    of_user = sorted_by(np.concatenate([some.users for some in found]), which, count)
    some = np.flatnonzero(np.diff(of_user.start))
    words = np.stack([np.add.reduceat(w[of_user.items], of_user.start[some]) for w in random_words(len(found))])
    number, first = alike(words)
    same = sorted_by(number, some, len(first))
    for kind, one in enumerate(some[first].tolist()):
        users = same.items[same.start[kind] : same.start[kind + 1]]
        yield users.tolist(), of_user.items[of_user.start[one] : of_user.start[one + 1]].tolist()


class Together:
    """The people of two estates under common numbers: those of the first, those who are new, and last whoever has not
    signed in."""

    def __init__(self, sides: Sequence[EstateIndex]) -> None:
        both_numbered = [side.membership.numbered for side in sides]
        self._same = both_numbered[0] is both_numbered[1] or both_numbered[0].logins == both_numbered[1].logins
        every = (
            both_numbered[0].logins
            if self._same
            else dict.fromkeys([*both_numbered[0].logins, *both_numbered[1].logins])
        )
        self.logins = [*every, ANONYMOUS_NAME]
        self.numbers = [self._numbers(numbered.logins) for numbered in both_numbered]
        """For each side the number there of each of these; one more than the last one's for those it does not have."""

    def _numbers(self, logins: Sequence[str]) -> NDArray[np.int64]:
        count = len(logins)
        if self._same:
            return np.arange(count + 1)
        known = {login: number for number, login in enumerate(logins)}
        return np.array([*(known.get(login, count + 1) for login in self.logins[:-1]), count], np.int64)

    def among(self, logins: Collection[str]) -> Flags:
        """Which of these are some logins."""
        wanted = set(logins)
        return np.array([login in wanted for login in self.logins], np.bool_)


class _Side:
    """Everybody on one side, with the names on either that stand for them."""

    def __init__(self, behind: PeopleByName, numbers: NDArray[np.int64]) -> None:
        self.behind, self.numbers = behind, numbers
        self._people: dict[int, Person] = {}
        self.there = np.append(behind.there, False)[numbers]
        """Whether each of the people of both may do anything at all here."""

    @cached_property
    def _common(self) -> Ints:
        """The common number of each number here."""
        common = np.full(self.behind.nobody + 2, -1, np.int32)
        common[self.numbers] = np.arange(len(self.numbers), dtype=np.int32)
        return common

    def having(self, name: Principal) -> Ints:
        """The people for whom a name stands, in common numbers."""
        return self._common[self.behind.having(name)]

    def sums(self, users: Ints, names: Flags | None = None, seed: int = 0) -> NDArray[np.uint64]:
        """Two words for each of some people, the same for those for whom the same of some names stand here; 0 for
        whoever is not here."""
        sums = np.zeros((2, len(users)), np.uint64)
        here = self.there[users]
        sums[:, here] = self.behind.sums(self.numbers[users[here]], names, seed) + np.uint64(1)
        return sums

    def person(self, user: int) -> Person:
        """Somebody, with all names that stand for them."""
        if user not in self._people:
            there = bool(self.there[user])
            self._people[user] = Person("", True, self.behind.one(int(self.numbers[user]))) if there else NOBODY
        return self._people[user]


class ClassPairs:
    """Two states of one platform with their people."""

    def __init__(
        self,
        sides: Sequence[EstateIndex],
        prepared: Sequence[PlatformIndex | None],
        together: Together,
        question: Question,
        counts: Callable[[Binding], bool] | None = None,
    ) -> None:
        """`counts` says which bindings can make a difference at all, where that is known."""
        self.logins = together.logins
        """Those whose numbers are meant."""
        zones = {side.estate.time_zone for side in sides}
        self._differing = ChangedScopes(prepared, len(zones) == 1, counts)
        self._apart = any(is_apart(side, question) for side in prepared if side)
        self._names = list(dict.fromkeys(p for side in prepared if side for p in sorted(side.named)))
        self._known = frozenset(self._names)
        platform = next(side.platform.name for side in prepared if side)
        before = _Side(PeopleByName(sides[0], platform, question.dated, self._names), together.numbers[0])
        after = before
        if sides[1] is not sides[0]:
            after = _Side(PeopleByName(sides[1], platform, question.dated, self._names), together.numbers[1])
        self._sides = before, after
        self._moved = self._who_moved() if before is not after else {}

    @classmethod
    def of_one(
        cls,
        index: EstateIndex,
        prepared: PlatformIndex,
        question: Question,
        counts: Callable[[Binding], bool] | None = None,
    ) -> ClassPairs:
        """A platform beside nothing at all: everything that is allowed is a change."""
        sides = index, index
        return cls(sides, (None, prepared), Together(sides), question, counts)

    def there(self) -> Ints:
        """All who may do anything at all on the second side."""
        return np.flatnonzero(self._sides[1].there).astype(np.int32)

    def _who_moved(self) -> dict[Principal, list[int]]:
        """Names that stand on one side only for somebody -> for whom."""
        before, after = self._sides
        moved = before.there != after.there
        everybody = np.arange(len(moved), dtype=np.int32)
        moved |= (before.sums(everybody) != after.sums(everybody)).any(axis=0)
        found: dict[Principal, list[int]] = {}
        # only those whose sums differ: going through everybody name by name would cost more than the
        # comparison
        for user in np.flatnonzero(moved).tolist():
            for name in before.person(user).principals ^ after.person(user).principals:
                found.setdefault(name, []).append(user)
        return found

    def changes(self, judged: Judged, among: Flags | None, places: Collection[str] | None) -> Iterator[ChangeFound]:
        """Everything that changes for some people (None for all) at some places; each of them at each place once."""
        where = self._differing.places | self._differing.covered_by(self._moved)
        everywhere = np.ones(len(where), np.bool_)
        reached: Ints | None = None
        # what somebody acts as elsewhere can turn an answer here: then a change anywhere is looked for
        # everywhere
        if self._apart and where.any():
            reached = self._reached(where)
            where = everywhere
        if places is not None:
            wanted = set(places)
            where = where & np.array([address in wanted for address in self._differing.addresses], np.bool_)
        for at in self._differing.alike(where):
            matters, differing = self._differing.names_at(at[0])
            users = self._behind(matters, differing) if reached is None else reached
            if among is not None:
                users = users[among[users]]
            if reached is not None:
                matters = set(self._names)
            yield from self._at(judged, at, users, sorted(matters & self._known))

    def moved(self, judged: Judged, pairs: Mapping[str, str], among: Flags | None) -> Iterator[ChangeFound]:
        """What changes at places that have another address on the second side, said of the new ones."""
        for old, new in pairs.items():
            matters = set(self._names)
            if not self._apart:
                matters = self._differing.names_at(old)[0] | self._differing.names_at(new)[0]
            users = self._behind(matters, matters)
            if among is not None:
                users = users[among[users]]
            yield from self._at(judged, [new], users, sorted(matters & self._known))

    def _reached(self, where: Flags) -> Ints:
        """All whom a change anywhere reaches."""
        some = [self._behind(*self._differing.names_at(at[0])) for at in self._differing.alike(where)]
        return np.unique(np.concatenate([np.zeros(0, np.int32), *some]))

    def _behind(self, matters: set[Principal], differing: set[Principal]) -> Ints:
        """The people for whom one of the differing names stands, and those for whom one of those that matter stands on
        one side only."""
        users = [np.array(self._moved.get(name, ()), np.int32) for name in matters]
        for side in self._sides:
            users += [side.having(name) for name in differing]
        return np.unique(np.concatenate([np.zeros(0, np.int32), *users]))

    def _at(
        self, judged: Judged, at: Sequence[str], users: Ints, matters: Sequence[Principal]
    ) -> Iterator[ChangeFound]:
        """The changes at places that are alike."""
        if not len(users):
            return
        # few are told apart quicker by their names than by sums over arrays
        if len(users) > _FEW:
            kinds = self._kinds_of_many(users, matters)
        else:
            before, after = self._sides
            people = ((user, before.person(user), after.person(user)) for user in users.tolist())
            kinds = kinds_of(people, frozenset(matters))
        yield from by_change(judged, kinds, at)

    def _kinds_of_many(self, users: Ints, matters: Sequence[Principal]) -> Iterator[Kind]:
        """People by what matters of them on either side, found by words."""
        names = frozenset(matters)
        number, first = alike(self._words(users, matters))
        kinds = sorted_by(number, users, len(first))
        for kind, one in enumerate(users[first].tolist()):
            was, now = (side.person(one).among(names) for side in self._sides)
            yield was, now, kinds.items[kinds.start[kind] : kinds.start[kind + 1]]

    def _words(self, users: Ints, matters: Sequence[Principal]) -> NDArray[np.uint64]:
        """Two words for each of some people, the same for those whom none of some names tells apart on either side."""
        before, after = self._sides
        words = before.sums(users, before.behind.marked(matters))
        if after is not before:
            words += after.sums(users, after.behind.marked(matters), seed=1)
        return words
