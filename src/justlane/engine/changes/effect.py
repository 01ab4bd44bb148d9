"""What an edit gives to whom, and what it takes away: every cell, counted exactly, in all circumstances."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping
from datetime import datetime
from typing import Any

from msgspec import Struct

from justlane.engine.changes.comparison import Differences, differences
from justlane.engine.decision.judge import Question
from justlane.engine.facts.edited import with_edit
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, people_behind
from justlane.model.bindings import Binding
from justlane.model.edits import (
    AllowInRole,
    DropRole,
    Edit,
    Enable,
    Give,
    Join,
    KeepInRole,
    Leave,
    LeaveOutOfRole,
    Publish,
    Unpublish,
    Withdraw,
)
from justlane.model.estate import RolesHeld
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of

MOST_NAMED = 100
_Counts = Callable[[tuple[Any, ...]], bool]


class Who(Struct, frozen=True):
    """Some people."""

    people: int
    named: tuple[str, ...]
    """Their logins, at most `MOST_NAMED` of them."""


class Moved(Struct, frozen=True):
    """One action that people gain, or lose."""

    action: str
    sensitive: bool
    people: int
    """How many."""
    cells: int
    """(user, scope) pairs, in some circumstances."""


class Effect(Struct, frozen=True):
    """What an edit would change."""

    people: int
    """For how many."""
    gaining: Who
    """Those who gain something."""
    losing: Who
    gains: tuple[Moved, ...]
    """Sensitive actions first, then by the number of cells."""
    losses: tuple[Moved, ...]

    @property
    def gained(self) -> int:
        """Number of (user, action, scope) cells gained."""
        return sum(moved.cells for moved in self.gains)

    @property
    def lost(self) -> int:
        """Number of cells lost."""
        return sum(moved.cells for moved in self.losses)


class Touching(Struct, frozen=True):
    """Whom an edit can change something for, and where: never too few."""

    users: Collection[str] | None
    """Logins; None for everybody."""
    places: dict[str, Collection[str] | None] | None
    """Platform -> scopes, None for all of them; None for all platforms."""


def changes_by(index: EstateIndex, edit: Edit, question: Question, after: EstateIndex | None = None) -> Differences:
    """All cells that an edit would change, in all circumstances; dates are judged on the day of the question.

    `after` is the estate with the edit carried out, where somebody has it already.
    """
    index.make_ready()
    after, asked = after or with_edit(index, edit), Question(question.moment, day=question.dated)
    touching = _TOUCHES[type(edit)](index, edit, asked.dated)
    return differences((index, after), asked, touching.users, None, touching.places)


def effect(index: EstateIndex, edit: Edit, question: Question) -> Effect:
    """What the edit would change; dates are judged on the day of the question."""
    return effect_of(changes_by(index, edit, question))


def effect_of(differences: Differences) -> Effect:
    """What changes, by action."""
    gains, losses = (lambda change: bool(change[2])), (lambda change: bool(change[3]))
    everybody = {user for some in differences.found for user in some.users.tolist()}
    who = _who(differences, gains), _who(differences, losses)
    return Effect(len(everybody), *who, _moved(differences, gains), _moved(differences, losses))


def _who(differences: Differences, counts: _Counts) -> Who:
    found = {user for some in differences.found if any(map(counts, some.change)) for user in some.users.tolist()}
    logins = sorted(differences.logins[user] for user in found)
    return Who(len(logins), tuple(logins[:MOST_NAMED]))


def _moved(differences: Differences, counts: _Counts) -> tuple[Moved, ...]:
    people: dict[tuple[str, bool], set[int]] = {}
    cells: Counter[tuple[str, bool]] = Counter()
    for some in differences.found:
        users = some.users.tolist()
        for change in filter(counts, some.change):
            action, sensitive, *_ = change
            people.setdefault((action, sensitive), set()).update(users)
            cells[action, sensitive] += len(users) * len(some.places)
    moved = [Moved(*key, len(users), cells[key]) for key, users in people.items()]
    return tuple(sorted(moved, key=lambda m: (not m.sensitive, -m.cells, m.action)))


def _by_bindings(index: EstateIndex, edit: Give | Withdraw, moment: datetime) -> Touching:
    return _bound(index, edit.bindings, moment)


def _bound(index: EstateIndex, bindings: Iterable[Binding], moment: datetime, *, closing: bool = True) -> Touching:
    """Whom bindings reach, and where; everybody, where one that is new or gone closes what was open."""
    users: set[str] | None = set()
    places: dict[str, set[str] | None] = {}
    for (platform, principal), some in _by_principal(bindings).items():
        prepared = index.platform(platform)
        opens = closing and prepared.open_binding is not None and any(map(prepared.closes, some))
        users = None if opens or users is None else users | _behind(index, principal, platform, moment)
        covered = {scope for at in {b.scope for b in some} for scope in prepared.coverage.covered(at)}
        known = places.get(platform, set())
        anywhere = prepared.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME or known is None
        places[platform] = None if anywhere or known is None else known | covered
    return Touching(users, {**places})


def _by_principal(bindings: Iterable[Binding]) -> dict[tuple[str, Principal], list[Binding]]:
    found: dict[tuple[str, Principal], list[Binding]] = {}
    for binding in bindings:
        found.setdefault((platform_of(binding.scope), binding.principal), []).append(binding)
    return found


def _behind(index: EstateIndex, principal: Principal, platform: str, moment: datetime) -> set[str]:
    if principal.kind is PrincipalKind.ANONYMOUS:
        return {ANONYMOUS_NAME}
    return set(people_behind(index, principal, platform, moment))


def _by_role(index: EstateIndex, edit: AllowInRole | KeepInRole | LeaveOutOfRole, moment: datetime) -> Touching:
    prepared = index.platform(edit.platform)
    if prepared.platform.habits.open_role in prepared.roles.built_on(edit.role):
        return Touching(None, {edit.platform: None})
    return _bound(index, prepared.giving(edit.role), moment, closing=False)


def _by_publication(index: EstateIndex, edit: Publish | Unpublish, moment: datetime) -> Touching:
    name = platform_of(edit.scope)
    prepared = index.platform(name)
    group = Principal(PrincipalKind.GROUP, edit.group)
    return Touching(_behind(index, group, name, moment), {name: prepared.coverage.covered(edit.scope)})


def _by_nobody(index: EstateIndex, edit: DropRole, moment: datetime) -> Touching:
    return Touching([], {})


def _by_person(index: EstateIndex, edit: Join | Leave | Enable, moment: datetime) -> Touching:
    return Touching([edit.login], None)


_TOUCHES: Mapping[type, Callable[[EstateIndex, Any, datetime], Touching]] = {
    Give: _by_bindings,
    Withdraw: _by_bindings,
    AllowInRole: _by_role,
    KeepInRole: _by_role,
    LeaveOutOfRole: _by_role,
    Publish: _by_publication,
    Unpublish: _by_publication,
    DropRole: _by_nobody,
    Join: _by_person,
    Leave: _by_person,
    Enable: _by_person,
}


class EditExtent(Struct, frozen=True):
    """How far an edit can reach at most."""

    people: int
    places: int

    @property
    def size(self) -> int:
        """The most (person, place) pairs for which something can change."""
        return self.people * self.places


def extent(index: EstateIndex, edit: Edit, question: Question) -> EditExtent:
    """How many people and places an edit can change something for, without judging any of them."""
    match edit:
        case Give() | Withdraw():
            return _extent_of(index, edit.bindings, question)
        case AllowInRole() | KeepInRole() | LeaveOutOfRole():
            return _extent_of(index, index.platform(edit.platform).giving(edit.role), question)
        case Publish() | Unpublish():
            prepared = index.platform(edit.scope)
            group = Principal(PrincipalKind.GROUP, edit.group)
            people = _count_behind(index, group, prepared.platform.name, question)
            return EditExtent(people, len(prepared.coverage.covered(edit.scope)))
        case DropRole():
            return EditExtent(0, 0)
        case Join() | Leave():
            names = [edit.platform] if edit.group.kind is PrincipalKind.LOCAL_GROUP else list(index.estate.platforms)
            given = [b for name in names for b in index.platform(name).bindings.of(edit.group)]
            return EditExtent(1, sum(len(index.platform(b.scope).coverage.covered(b.scope)) for b in given))
        case Enable():
            return EditExtent(1, sum(len(platform.scopes) for platform in index.estate.platforms.values()))


def _extent_of(index: EstateIndex, bindings: Iterable[Binding], question: Question) -> EditExtent:
    people = places = 0
    for (platform, principal), some in _by_principal(bindings).items():
        people += _count_behind(index, principal, platform, question)
        coverage = index.platform(platform).coverage
        places += sum(len(coverage.covered(scope)) for scope in {b.scope for b in some})
    return EditExtent(people, places)


def _count_behind(index: EstateIndex, principal: Principal, platform: str, question: Question) -> int:
    if principal.kind is PrincipalKind.AUTHENTICATED:
        return len(index.estate.directory.users)
    return len(_behind(index, principal, platform, question.dated))
