"""What changes between two estates: every cell that somebody gains or loses, counted exactly."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import lru_cache

from msgspec import Struct

from justlane.engine.changes.narrowing import Narrowing
from justlane.engine.decision.circumstances import CircumstanceSpace, OnClock, on_its_clock
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.deciding import NOTHING, Judge, Question
from justlane.engine.decision.explaining import in_words
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, Person, reduced
from justlane.model.circumstances import Condition
from justlane.model.estate import RolesHeld
from justlane.model.people import Principal
from justlane.model.scopes import platform_of

NOBODY = Person("", False, frozenset())


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
    changes: dict[str, list[CellChange]] = {}
    sides = (before.index, after.index)
    names = dict.fromkeys(name for side in sides for name in side.estate.platforms)
    for name in names:
        if (within is None or platform_of(within) == name) and (places is None or name in places):
            where = places[name] if places is not None else None
            for logins, found in _on_platform(sides, name, question, users, within, where, only_people):
                for login in logins if found else ():
                    changes.setdefault(login, []).extend(found)
    alike: dict[tuple[CellChange, ...], list[str]] = {}
    for login, some in changes.items():
        ordered = sorted(some, key=lambda c: (not c.sensitive, c.action, c.scope))
        alike.setdefault(tuple(ordered), []).append(login)
    groups = [Alike(tuple(sorted(users)), cells) for cells, users in alike.items()]
    groups.sort(key=lambda g: (not g.changes[0].sensitive, -len(g.users) * len(g.changes), g.users))
    return Comparison(before.name, after.name, tuple(groups))


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
    narrowing = Narrowing(prepared[0], prepared[1], sides[0].estate.time_zone == sides[1].estate.time_zone)
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
        elif places is None and was == now:
            touched = narrowing.touched(was.principals)
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
            yield CellChange(
                action,
                scope,
                sensitive,
                bool(now & ~was),
                bool(was & ~now),
                _said(judging, was),
                _said(judging, now),
            )


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


def _said(judging: Judge, some: int) -> tuple[Box, ...] | None:
    return in_words(judging, some) if some else None
