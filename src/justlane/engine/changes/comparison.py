"""What changes between two estates: every cell that somebody gains or loses, counted exactly."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from operator import itemgetter
from typing import TYPE_CHECKING, NamedTuple

from msgspec import Struct

from justlane.engine.decision.circumstances import CircumstanceSpace, OnClock, on_its_clock
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import in_words
from justlane.engine.decision.judge import NOTHING, Judge, Question, acting_otherwise
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, NOBODY, Person, person
from justlane.model.circumstances import Condition
from justlane.model.estate import RolesHeld
from justlane.model.people import Principal
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.classes.class_pairs import ChangeFound

FEW = 100
"""For up to so many people, where the scopes are the same, only their own bindings are looked at."""


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
    places: Mapping[str, Collection[str] | None] | None = None,
) -> Comparison:
    """Compare all that everybody may do, or some users, or within one scope.

    `places`, where it is known, says on which platforms something can change and at which scopes (None for all of
    them).
    """
    found = differences((before.index, after.index), question, users, within, places)
    groups = found.groups()
    groups.sort(key=lambda g: (not g.changes[0].sensitive, -len(g.users) * len(g.changes), g.users))
    return Comparison(before.name, after.name, tuple(groups))


class Acting(Struct, frozen=True):
    """People who can act as something they could not act as, or no more, where one role counts at a time; what they may
    do there in some role or other stays the same."""

    platform: str
    role: str
    gains: bool
    """Whether they can now, or in more circumstances, or there is more that it gives."""
    loses: bool
    users: tuple[str, ...]
    """Their logins, in order."""
    places: int
    """At how many places, for one of them or another."""


class Totals(NamedTuple):
    """Numbers of (user, action, scope) cells."""

    gained: int
    lost: int


class Differences(NamedTuple):
    """All that changes, by kinds of people and of places."""

    found: Sequence[ChangeFound]
    """For the same person and place only one of them on a platform."""
    logins: Sequence[str]
    """Those whose numbers `found` has."""
    in_roles: Sequence[ChangeFound] = ()
    """What people can act as: each change is (role, gains, loses)."""

    @property
    def acting(self) -> tuple[Acting, ...]:
        """What people can act as and could not, or no more, role by role; only people to whom nothing else of that sort
        happens on the platform."""
        moved: dict[tuple[str, int], set[int]] = {}
        for one in self.found:
            for way in (2, 3):  # gains, loses
                if any(change[way] for change in one.change):
                    moved.setdefault((platform_of(one.places[0]), way), set()).update(one.users.tolist())
        people: dict[tuple[str, str, bool, bool], set[int]] = {}
        places: dict[tuple[str, str, bool, bool], set[str]] = {}
        for one in self.in_roles:
            for role, gains, loses in one.change:
                platform = platform_of(one.places[0])
                known = [moved.get((platform, way), set()) for way, counts in ((2, gains), (3, loses)) if counts]
                left = set(one.users.tolist()) - set[int].union(*known)
                if left:
                    people.setdefault((platform, role, gains, loses), set()).update(left)
                    places.setdefault((platform, role, gains, loses), set()).update(one.places)
        return tuple(
            Acting(*key, tuple(sorted(self.logins[user] for user in people[key])), len(places[key]))
            for key in sorted(people)
        )

    @property
    def totals(self) -> Totals:
        """How many (user, action, scope) cells are gained and lost, without going through them."""
        gained = lost = 0
        for one in self.found:
            cells = len(one.users) * len(one.places)
            gained += cells * sum(change[2] for change in one.change)
            lost += cells * sum(change[3] for change in one.change)
        return Totals(gained, lost)

    @property
    def people(self) -> list[str]:
        """Logins of those for whom anything changes, in order."""
        return sorted({self.logins[user] for one in self.found for user in one.users})

    @property
    def sensitive(self) -> list[str]:
        """Sensitive actions among what changes, in order."""
        return sorted({change[0] for one in self.found for change in one.change if change[1]})

    def groups(self) -> list[Alike]:
        """Those together for whom the same changes."""
        return _gathered(self.found, self.logins)


def differences(
    sides: Sequence[EstateIndex],
    question: Question,
    users: Collection[str] | None = None,
    within: str | None = None,
    places: Mapping[str, Collection[str] | None] | None = None,
    moved: Mapping[str, str] | None = None,
) -> Differences:
    """The same, not yet cell by cell. `moved` names places that have another address on the second side: what may be
    done there is compared, and said of the new one."""
    names = [
        name
        for name in dict.fromkeys(name for side in sides for name in side.estate.platforms)
        if (within is None or platform_of(within) == name) and (places is None or name in places)
    ]
    where = {name: places[name] if places is not None else None for name in names}
    few = users is not None and len(users) <= FEW and within is None
    if users is not None and few and all(_has_one_tree(sides, name) for name in names):
        return _of_few(sides, where, question, users)
    return _of_many(sides, where, question, users, within, moved or {})


def _has_one_tree(sides: Sequence[EstateIndex], name: str) -> bool:
    """Whether a platform's scopes are the same on both sides, as after an edit."""
    before, after = (side.platform(name) if name in side.estate.platforms else None for side in sides)
    return before is not None and after is not None and before.coverage is after.coverage


def _of_few(
    sides: Sequence[EstateIndex],
    where: Mapping[str, Collection[str] | None],
    question: Question,
    users: Collection[str],
) -> Differences:
    """By their own bindings."""
    from justlane.engine.changes.nearby import changes_nearby

    logins = list(dict.fromkeys(users))
    found: list[ChangeFound] = []
    in_roles: list[ChangeFound] = []
    for name, places in where.items():
        prepared = [side.platform(name) for side in sides]
        named = frozenset[Principal]().union(*(index.named for index in prepared))
        known = [_people(side, name, logins, named, question.dated) for side in sides]
        judges = _Judges(sides, prepared, question)
        people = list(zip(*known, strict=True))
        found += changes_nearby(judges.changes, prepared, people, places, question)
        if any(index.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME for index in prepared):
            in_roles += changes_nearby(judges.acting, prepared, people, places, question)
    return Differences(found, logins, in_roles)


def _people(
    index: EstateIndex, platform: str, logins: Sequence[str], named: frozenset[Principal], moment: datetime
) -> list[Person]:
    users = index.estate.directory.users
    there = (person(index, u, platform, moment) if u in users or u == ANONYMOUS_NAME else NOBODY for u in logins)
    return [somebody.among(named) for somebody in there]


def _of_many(
    sides: Sequence[EstateIndex],
    where: Mapping[str, Collection[str] | None],
    question: Question,
    users: Collection[str] | None,
    within: str | None,
    moved: Mapping[str, str],
) -> Differences:
    """By kinds of people and of places."""
    from justlane.engine.classes.class_pairs import ClassPairs, Together

    people = Together(sides)
    among = None if users is None else people.among(users)
    found: list[ChangeFound] = []
    in_roles: list[ChangeFound] = []
    for name, places in where.items():
        prepared = [side.platform(name) if name in side.estate.platforms else None for side in sides]
        kinds = ClassPairs(sides, prepared, people, question)
        if within is not None:
            inside = _inside(prepared, within)
            places = inside if places is None else inside.intersection(places)
        judges = _Judges(sides, prepared, question, {new: old for old, new in moved.items()})
        judged = judges.changes
        own = {old: new for old, new in moved.items() if platform_of(old) == name}
        if own:
            everywhere = set[str]().union(*(index.platform.scopes for index in prepared if index))
            places = (everywhere if places is None else set(places)) - own.keys() - set(own.values())
            found += kinds.moved(judged, own, among)
        found += kinds.changes(judged, among, places)
        if any(side.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME for side in prepared if side):
            in_roles += kinds.changes(judges.acting, among, places)
    return Differences(found, people.logins, in_roles)


def _inside(prepared: Sequence[PlatformIndex | None], within: str) -> set[str]:
    """What a scope covers on either side."""
    there = [index for index in prepared if index and within in index.platform.scopes]
    return set[str]().union(*(index.coverage.covered(within) for index in there))


def _gathered(found: Sequence[ChangeFound], logins: Sequence[str]) -> list[Alike]:
    """Those together for whom the same changes."""
    from justlane.engine.classes.class_pairs import alike_in

    cells: dict[int, list[tuple[tuple[bool, str, str], CellChange]]] = {}
    groups: list[Alike] = []
    for users, which in alike_in(found, len(logins)):
        ordered: list[tuple[tuple[bool, str, str], CellChange]] = []
        for n in which:
            if n not in cells:
                here = (_at(place, *c) for place in found[n].places for c in found[n].change)
                cells[n] = [((not c.sensitive, c.action, c.scope), c) for c in here]
            ordered += cells[n]
        ordered.sort(key=itemgetter(0))
        groups.append(Alike(tuple(sorted(logins[user] for user in users)), tuple(change for _, change in ordered)))
    return groups


class _Judges:
    """Judges for people as they were and are, on one platform."""

    def __init__(
        self,
        sides: Sequence[EstateIndex],
        prepared: Sequence[PlatformIndex | None],
        question: Question,
        was_at: Mapping[str, str] | None = None,
    ) -> None:
        self._sides, self._prepared, self._question = sides, prepared, question
        self._was_at = was_at or {}
        """Address of a place that moved -> the one that it had before."""
        self._judges: dict[tuple[Person, Person], list[Judge | None]] = {}
        self._known: dict[tuple[int, int], Changes] = {}
        self._same: dict[Changes, Changes] = {}
        self._acting: dict[tuple[tuple[str, bool, bool], ...], tuple[tuple[str, bool, bool], ...]] = {}

    def changes(self, was: Person, now: Person, place: str) -> Changes:
        """What changes at a place; the same object for the same changes."""
        judges = self._of(was, now)
        at = (self._was_at.get(place, place), place)
        before, after = (_allowed(j, i, one) for j, i, one in zip(judges, self._prepared, at, strict=True))
        key = id(before), id(after)  # shared by all places where the same counts for them
        if key not in self._known:
            judging = next(judging for judging in judges if judging)
            said = tuple(_change(judging, *one) for one in _differing(before, after, self._prepared))
            self._known[key] = self._same.setdefault(said, said)
        return self._known[key]

    def acting(self, was: Person, now: Person, place: str) -> tuple[tuple[str, bool, bool], ...]:
        """The roles as which they may do otherwise at a place, though in some role or other they may do the same."""
        at = (self._was_at.get(place, place), place)
        there = [
            judging if judging and index and scope in index.platform.scopes else None
            for judging, index, scope in zip(self._of(was, now), self._prepared, at, strict=True)
        ]
        plain = [_allowed(*side) for side in zip(there, self._prepared, at, strict=True)]
        found: dict[str, tuple[bool, bool]] = {}
        for role, action, one, other in acting_otherwise(there[0], there[1], *at):
            if plain[0].get(action, 0) == plain[1].get(action, 0):
                gains, loses = found.get(role, (False, False))
                found[role] = gains or bool(other & ~one), loses or bool(one & ~other)
        said = tuple((role, *found[role]) for role in sorted(found))
        return self._acting.setdefault(said, said)

    def _of(self, was: Person, now: Person) -> list[Judge | None]:
        judges = self._judges.get((was, now))
        if judges is None:
            judges = _judges(self._sides, self._prepared, (was, now), self._question)
            self._judges[was, now] = judges
        return judges


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
