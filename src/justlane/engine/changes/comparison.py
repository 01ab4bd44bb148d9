"""What changes between two estates: every cell that somebody gains or loses, counted exactly."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.decision.circumstances import CircumstanceSpace, OnClock, on_its_clock
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.deciding import NOTHING, Judge, Question
from justlane.engine.decision.explaining import in_words
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, NOBODY, Person, reduced
from justlane.model.circumstances import Condition
from justlane.model.estate import RolesHeld
from justlane.model.people import Principal
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.changes.by_kinds import Found, Together

FEW = 100
"""Up to so many people are compared one by one, where it is known what a change can reach."""


class CellChange(Struct, frozen=True):
    """An action at a scope that is allowed in other circumstances than before."""

    action: str
    scope: str
    sensitive: bool
    gains: bool
    """Allowed in some circumstances in which it was not."""
    loses: bool
    """Not allowed in some circumstances in which it was."""
    before: tuple[Box, ...] | None
    """The circumstances in which it was allowed: empty for all, None for none."""
    after: tuple[Box, ...] | None


class Alike(Struct, frozen=True):
    """People who change alike, and how."""

    users: tuple[str, ...]
    changes: tuple[CellChange, ...]
    """Sensitive actions first."""

    @property
    def gained(self) -> int:
        """Number of (action, scope) pairs that each of them gains."""
        return sum(change.gains for change in self.changes)

    @property
    def lost(self) -> int:
        """Number of (action, scope) pairs that each of them loses."""
        return sum(change.loses for change in self.changes)


class Comparison(Struct, frozen=True):
    """What changes from one estate to another."""

    before: str
    after: str
    groups: tuple[Alike, ...]
    """Those with sensitive changes first, then by the number of cells."""

    @property
    def gained(self) -> int:
        """Number of (user, action, scope) cells gained."""
        return sum(len(g.users) * g.gained for g in self.groups)

    @property
    def lost(self) -> int:
        """Number of (user, action, scope) cells lost."""
        return sum(len(g.users) * g.lost for g in self.groups)

    @property
    def people(self) -> int:
        """Number of people for whom anything changes."""
        return sum(len(g.users) for g in self.groups)


_Words = tuple[Box, ...] | None
_Change = tuple[str, bool, bool, bool, _Words, _Words]
"""A `CellChange` without its place."""
Changes = tuple[_Change, ...]


class Side(Struct, frozen=True):
    """One of the two estates, with a name for people to read."""

    name: str
    index: EstateIndex


def compare(
    before: Side,
    after: Side,
    question: Question,
    users: Collection[str] | None = None,
    within: str | None = None,
    *,
    only_people: bool = False,
    places: Mapping[str, Collection[str] | None] | None = None,
) -> Comparison:
    """Compare all that everybody may do, or some users, or within one scope.

    With `only_people`, the two are one estate with other people, and places that no change of theirs touches are passed
    over. `places`, where it is known, says on which platforms something can change and at which scopes (None for all of
    them). People whom no binding on a platform tells apart, before and after, are judged once.
    """
    sides = (before.index, after.index)
    names = [
        name
        for name in dict.fromkeys(name for side in sides for name in side.estate.platforms)
        if (within is None or platform_of(within) == name) and (places is None or name in places)
    ]
    where = {name: places[name] if places is not None else None for name in names}
    near = places is not None or only_people
    if users is not None and near and len(users) <= FEW:
        groups = of_few(sides, where, question, users, within, only_people)
    else:
        groups = _of_many(sides, where, question, users, within)
    groups.sort(key=lambda g: (not g.changes[0].sensitive, -len(g.users) * len(g.changes), g.users))
    return Comparison(before.name, after.name, tuple(groups))


def _of_many(
    sides: Sequence[EstateIndex],
    where: Mapping[str, Collection[str] | None],
    question: Question,
    users: Collection[str] | None,
    within: str | None,
) -> list[Alike]:
    """By kinds of people and of places."""
    from justlane.engine.changes.by_kinds import ByKinds, Together

    people = Together(sides)
    among = None if users is None else people.among(users)
    found: list[Found] = []
    for name, places in where.items():
        prepared = [side.platform(name) if name in side.estate.platforms else None for side in sides]
        apart = any(side.roles_matter_elsewhere or question.role for side in prepared if side)
        kinds = ByKinds(sides, prepared, people, question.dated, apart)
        if within is not None:
            inside = set(_places(prepared, within, None))
            places = inside if places is None else inside.intersection(places)
        found += kinds.changes(_Judges(sides, prepared, question).changes, among, places)
    return _gathered(found, people)


def _gathered(found: Sequence[Found], people: Together) -> list[Alike]:
    """Those together for whom the same changes."""
    import numpy as np

    from justlane.engine.everybody.lists import alike, random_words, sorted_by

    if not found:
        return []
    changes = np.repeat(np.arange(len(found)), [len(some.users) for some in found])
    of_user = sorted_by(np.concatenate([some.users for some in found]), changes, len(people.logins))
    some = np.flatnonzero(np.diff(of_user.start))
    words = np.stack([np.add.reduceat(w[of_user.items], of_user.start[some]) for w in random_words(len(found))])
    number, first = alike(words)
    same = sorted_by(number, some, len(first))
    cells: dict[int, list[CellChange]] = {}
    groups: list[Alike] = []
    for kind, one in enumerate(some[first].tolist()):
        ordered: list[CellChange] = []
        for n in of_user.items[of_user.start[one] : of_user.start[one + 1]].tolist():
            if n not in cells:
                cells[n] = [_at(place, *c) for place in found[n].places for c in found[n].change]
            ordered += cells[n]
        ordered.sort(key=lambda c: (not c.sensitive, c.action, c.scope))
        users = same.items[same.start[kind] : same.start[kind + 1]].tolist()
        groups.append(Alike(tuple(sorted(people.logins[user] for user in users)), tuple(ordered)))
    return groups


class _Judges:
    """Judges for people as they were and are, on one platform."""

    def __init__(
        self, sides: Sequence[EstateIndex], prepared: Sequence[PlatformIndex | None], question: Question
    ) -> None:
        self._sides, self._prepared, self._question = sides, prepared, question
        self._judges: dict[tuple[Person, Person], list[Judge | None]] = {}
        self._known: dict[tuple[int, int], Changes] = {}
        self._same: dict[Changes, Changes] = {}

    def changes(self, was: Person, now: Person, place: str) -> Changes:
        """What changes at a place; the same object for the same changes."""
        judges = self._judges.get((was, now))
        if judges is None:
            judges = _judges(self._sides, self._prepared, (was, now), self._question)
            self._judges[was, now] = judges
        before, after = (_allowed(j, index, place) for j, index in zip(judges, self._prepared, strict=True))
        key = id(before), id(after)  # shared by all places where the same counts for them
        if key not in self._known:
            judging = next(judging for judging in judges if judging)
            said = tuple(_change(judging, *one) for one in _differing(before, after, self._prepared))
            self._known[key] = self._same.setdefault(said, said)
        return self._known[key]


def of_few(
    sides: Sequence[EstateIndex],
    where: Mapping[str, Collection[str] | None],
    question: Question,
    users: Collection[str],
    within: str | None,
    only_people: bool,
) -> list[Alike]:
    """One by one."""
    changes: dict[str, list[CellChange]] = {}
    for name, places in where.items():
        for logins, found in _on_platform(sides, name, question, users, within, places, only_people):
            for login in logins if found else ():
                changes.setdefault(login, []).extend(found)
    alike: dict[tuple[CellChange, ...], list[str]] = {}
    for login, some in changes.items():
        ordered = sorted(some, key=lambda c: (not c.sensitive, c.action, c.scope))
        alike.setdefault(tuple(ordered), []).append(login)
    return [Alike(tuple(sorted(logins)), cells) for cells, logins in alike.items()]


def _on_platform(
    sides: Sequence[EstateIndex],
    name: str,
    question: Question,
    users: Collection[str] | None,
    within: str | None,
    places: Collection[str] | None,
    only_people: bool,
) -> Iterator[tuple[list[str], list[CellChange]]]:
    """Classes of users with what changes for each."""
    prepared = [side.platform(name) if name in side.estate.platforms else None for side in sides]
    if users is None:
        users = (*dict.fromkeys(u for s in sides for u in s.estate.directory.users), ANONYMOUS_NAME)
    named = frozenset[Principal]().union(*(index.named for index in prepared if index))
    known = [
        reduced(side, index, question.dated, users, named) if index else {}
        for side, index in zip(sides, prepared, strict=True)
    ]
    classes: dict[tuple[object, ...], list[str]] = {}
    people: dict[tuple[object, ...], list[Person]] = {}
    for login in users:
        both = [some.get(login, NOBODY) for some in known]
        key: tuple[object, ...] = tuple((p.enabled, p.principals) for p in both)
        classes.setdefault(key, []).append(login)
        people[key] = both
    for key, alike in classes.items():
        was, now = people[key]
        touched = places
        if only_people and prepared[1]:
            touched = _touched(prepared[1], was, now)
        if touched is None or touched:
            judges = _judges(sides, prepared, people[key], question)
            yield alike, list(_changes(judges, prepared, within, touched))


def _touched(index: PlatformIndex, was: Person, now: Person) -> set[str] | None:
    """Where something can change for somebody whom other principals stand for, on a platform that stays as it is.

    Never too few scopes; None for all of them.
    """
    both = was.enabled and now.enabled
    held = [p.principals for p in (was, now) if p.enabled]
    differing = was.principals ^ now.principals if both else frozenset[Principal]().union(*held)
    if index.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME:
        return None  # another role to act as, or one less, counts wherever something is built in or denied
    everywhere = [p for c in index.platform.ceilings for p in (c.principal, *c.but_not)]
    if index.open_binding is not None:
        everywhere.append(index.open_binding.principal)
    if not differing.isdisjoint(everywhere):
        return None
    return {
        scope
        for principal in differing
        for binding in index.bindings.of(principal)
        for scope in index.coverage.covered(binding.scope)
    }


def _judges(
    sides: Sequence[EstateIndex],
    prepared: Sequence[PlatformIndex | None],
    people: Sequence[Person],
    question: Question,
) -> list[Judge | None]:
    """A judge on each side, each by its own clock, in one space of circumstances."""
    zones = [side.estate.time_zone for side in sides]
    alone = [
        Judge(index, somebody, question, zone) if index else None
        for index, somebody, zone in zip(prepared, people, zones, strict=True)
    ]
    return together(alone, zones)


def together(judges: Sequence[Judge | None], zones: Sequence[str]) -> list[Judge | None]:
    """The same judges in one space of circumstances, so that they can be compared; times are on the last clock."""
    if any(judging and judging.question.situation for judging in judges):
        return list(judges)
    asked = next(judging for judging in judges if judging).question
    known = [
        on_its_clock(c, zone)
        for judging, zone in zip(judges, zones, strict=True)
        if judging
        for c in judging.conditions()
    ]
    space = _space(tuple(dict.fromkeys(known)), asked.dated, zones[-1])
    return [
        judging and judging.in_space(OnClock(space, asked.dated, zone))
        for judging, zone in zip(judges, zones, strict=True)
    ]


@lru_cache(maxsize=8)
def _space(conditions: tuple[Condition, ...], dated: datetime, zone: str) -> CircumstanceSpace:
    """One space for all who are told apart by the same conditions, however often they are compared."""
    return CircumstanceSpace(conditions, dated, zone)


def _changes(
    judges: Sequence[Judge | None],
    prepared: Sequence[PlatformIndex | None],
    within: str | None,
    touched: Collection[str] | None,
) -> Iterator[CellChange]:
    known: dict[tuple[int, int], list[tuple[str, bool, int, int]]] = {}
    for scope in _places(prepared, within, touched):
        before, after = (_allowed(j, index, scope) for j, index in zip(judges, prepared, strict=True))
        key = id(before), id(after)  # shared by all places where the same counts for them
        if key not in known:
            known[key] = list(_differing(before, after, prepared))
        for action, sensitive, was, now in known[key]:
            judging = next(judging for judging in judges if judging)
            yield _at(scope, *_change(judging, action, sensitive, was, now))


def _places(
    prepared: Sequence[PlatformIndex | None], within: str | None, touched: Collection[str] | None
) -> Iterable[str]:
    """The scopes of either side, within one of them, where something can change."""
    there = [index for index in prepared if index and (within is None or within in index.platform.scopes)]
    if touched is None:
        lists = (index.coverage.covered(within) if within else index.platform.scopes for index in there)
        return dict.fromkeys(scope for some in lists for scope in some)
    if within is None:
        return touched
    covered = set[str]().union(*(index.coverage.covered(within) for index in there))
    return [scope for scope in touched if scope in covered]


def _allowed(judging: Judge | None, index: PlatformIndex | None, scope: str) -> Mapping[str, int]:
    return judging.at(scope) if judging and index and scope in index.platform.scopes else NOTHING


def _differing(
    before: Mapping[str, int], after: Mapping[str, int], prepared: Sequence[PlatformIndex | None]
) -> Iterator[tuple[str, bool, int, int]]:
    for action in dict.fromkeys((*before, *after)):
        was, now = before.get(action, 0), after.get(action, 0)
        if was != now:
            declared = [i.platform.actions[action] for i in prepared if i and action in i.platform.actions]
            yield action, any(a.sensitive for a in declared), was, now


def _at(
    place: str, action: str, sensitive: bool, gains: bool, loses: bool, before: _Words, after: _Words
) -> CellChange:
    return CellChange(action, place, sensitive, gains, loses, before, after)


def _change(judging: Judge, action: str, sensitive: bool, was: int, now: int) -> _Change:
    gains, loses = bool(now & ~was), bool(was & ~now)
    return action, sensitive, gains, loses, _said(judging, was), _said(judging, now)


def _said(judging: Judge, some: int) -> tuple[Box, ...] | None:
    return in_words(judging, some) if some else None
