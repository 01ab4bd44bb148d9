"""One place: everything that is given at it or above it, and everybody who may do something there."""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.classes.names import names_that_matter
from justlane.engine.decision.explanation import in_words
from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.coverage import CoverStep
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.questions.reach import Grant, Reached, giving
from justlane.model.bindings import Binding, Publication
from justlane.model.patterns import matching
from justlane.model.people import PrincipalKind
from justlane.model.scopes import Scope, contains

if TYPE_CHECKING:
    from justlane.engine.classes.people_by_name import PeopleByName


class Standing(StrEnum):
    """Whether a binding counts on a day, whatever the circumstances."""

    COUNTS = "counts"
    ENDED = "ended"
    NOT_YET = "not yet"
    NOT_PUBLISHED = "not published"


class GivenHere(Struct, frozen=True):
    """A binding that covers the place."""

    binding: Binding
    standing: Standing
    coverage: tuple[CoverStep, ...]
    """How its scope covers the place, from the outside in; empty if it is the place."""
    people: int
    """Enabled people whom its principal stands for."""


class PeopleHere(Struct, frozen=True):
    """People who may do the same at the place, through the same bindings."""

    users: tuple[str, ...]
    actions: dict[str, Reached]


class OnePlace(Struct, frozen=True):
    """All about one place."""

    scope: Scope
    pattern: str | None
    """The actions that were asked about; None for all of them."""
    given: tuple[GivenHere, ...]
    """The nearest scope first."""
    people: tuple[PeopleHere, ...]
    """Those with the most actions first."""
    publications: tuple[Publication, ...]
    """Where publication is needed: which groups count here, and where each was published."""


def one_place(index: EstateIndex, address: str, question: Question, pattern: str | None = None) -> OnePlace:
    """Everything given at a scope or above it, and everybody who may do something there, of all actions or of those
    like a pattern."""
    from justlane.engine.classes.people_by_name import PeopleByName

    prepared = index.platform(address)
    platform = prepared.platform
    actions = matching(pattern, platform.actions) if pattern else list(platform.actions)
    behind = PeopleByName(index, platform.name, question.dated, names_that_matter(prepared, address, question))
    found = _people(index, prepared, address, question, actions, behind)
    people = sorted(found, key=lambda p: (-len(p.actions), p.users))
    publications = [p for p in platform.publications if contains(p.scope, address)]
    given = _given(index, prepared, address, question, set(actions), behind)
    return OnePlace(platform.scopes[address], pattern, tuple(given), tuple(people), tuple(publications))


def _given(
    index: EstateIndex,
    prepared: PlatformIndex,
    address: str,
    question: Question,
    actions: set[str],
    behind: PeopleByName,
) -> Iterator[GivenHere]:
    for binding in prepared.covering_bindings(address):
        if actions.isdisjoint(prepared.roles.holdings(binding.role)):
            continue
        standing = standing_of(index, binding, question)
        if standing is Standing.COUNTS and not prepared.counts(binding, address):
            standing = Standing.NOT_PUBLISHED
        coverage = prepared.coverage.way_down(binding.scope, address)
        yield GivenHere(binding, standing, coverage, behind.count(binding.principal))


def standing_of(index: EstateIndex, binding: Binding, question: Question) -> Standing:
    """Whether a binding is in date, and its group published anywhere at all where that is needed."""
    first, last = binding.condition.first_day, binding.condition.last_day
    if first or last:
        today = on_clock(question.dated, index.estate.time_zone).date()
        if last and last < today:
            return Standing.ENDED
        if first and today < first:
            return Standing.NOT_YET
    prepared = index.platform(binding.scope)
    limited = prepared.platform.habits.publication and binding.principal.kind is PrincipalKind.GROUP
    published = prepared.published.get(binding.principal.name, ()) if limited else ()
    if limited and not any(_meet(scope, binding, prepared) for scope in published):
        return Standing.NOT_PUBLISHED
    return Standing.COUNTS


def _meet(published: str, binding: Binding, prepared: PlatformIndex) -> bool:
    """Whether something that a binding covers is where its group was published."""
    covered = prepared.coverage.covered(binding.scope)
    return any(contains(published, address) and prepared.covers(binding, address) for address in covered)


def _people(
    index: EstateIndex,
    prepared: PlatformIndex,
    address: str,
    question: Question,
    actions: list[str],
    behind: PeopleByName,
) -> Iterator[PeopleHere]:
    """Those who may do the same here, through the same bindings, together."""
    found: dict[object, tuple[list[str], dict[str, Reached]]] = {}
    giving = {b.principal for b in prepared.covering_bindings(address) if b.allows}
    for alike in behind.classes(behind.those_with(giving)):
        judging = Judge(prepared, alike.person, question, index.estate.time_zone)
        allowed = {action: some for action in actions if (some := judging.allowed(action, address))}
        reached = {
            action: Reached(_bindings(judging, action, address, some), in_words(judging, some))
            for action, some in allowed.items()
        }
        key = tuple(
            (action, r.conditions, *((id(g.binding), g.conditions) for g in r.grants)) for action, r in reached.items()
        )
        if reached:
            found.setdefault(key, ([], reached))[0].extend(behind.logins(alike.users))
    yield from (PeopleHere(tuple(sorted(users)), reached) for users, reached in found.values())


def _bindings(judging: Judge, action: str, address: str, some: int) -> tuple[Grant, ...]:
    """The bindings that give it to people who are alike: each comes by them in a way of their own."""
    return tuple(Grant(b, (), in_words(judging, when)) for b, when in giving(judging, action, address, some))
