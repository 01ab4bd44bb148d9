"""What an edit changes for a few people: only their own bindings tell places apart."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Sequence

from justlane.engine.classes.class_pairs import ChangeFound, Judged, by_change, kinds_of
from justlane.engine.classes.names import weighed_at
from justlane.engine.classes.scope_classes import scope_classes
from justlane.engine.decision.judge import Question, asked_at, is_apart
from justlane.engine.facts.index import PlatformIndex
from justlane.engine.facts.people import Person
from justlane.model.people import Principal

_FEW = 300
"""So many scopes are told apart one by one as fast as all at once."""

Both = tuple[Person, Person]
"""Somebody as they were, and as they are."""


def changes_nearby(
    judged: Judged,
    prepared: Sequence[PlatformIndex],
    people: Sequence[Both],
    places: Collection[str] | None,
    question: Question,
) -> Iterator[ChangeFound]:
    """Everything that changes for some people, who have the numbers of their places here, on a platform whose scopes
    stay as they are; perhaps only at some places."""
    names = frozenset[Principal]().union(*(person.principals for both in people for person in both))
    apart = any(is_apart(side, question) for side in prepared)
    by_hand = places is not None and len(places) <= _FEW
    for at in _alike_by_hand(prepared, names, places or ()) if by_hand else _alike(prepared, names, places):
        matters = names if apart else names & _named_at(prepared, at[0])
        numbered = ((number, was, now) for number, (was, now) in enumerate(people))
        yield from by_change(judged, kinds_of(numbered, matters), at)


def _alike(
    prepared: Sequence[PlatformIndex], names: Collection[Principal], places: Collection[str] | None
) -> Iterator[list[str]]:
    """Scopes that no binding to one of some names tells apart, together."""
    numbered = prepared[0].coverage.numbered
    kinds = [scope_classes(side, numbered, [b for name in names for b in side.bindings.of(name)]) for side in prepared]
    at = range(len(numbered)) if places is None else sorted(numbered.number[place] for place in places)
    both = [some[list(at)].tolist() for some in kinds]
    found: dict[tuple[int, int], list[str]] = {}
    for number, was, now in zip(at, *both, strict=True):
        found.setdefault((was, now), []).append(numbered.addresses[number])
    yield from found.values()


def _alike_by_hand(
    prepared: Sequence[PlatformIndex], names: frozenset[Principal], places: Collection[str]
) -> Iterator[list[str]]:
    """The same of a few scopes, without a look at all others."""
    found: dict[tuple[object, ...], list[str]] = {}
    for address in places:
        key: list[object] = [prepared[0].platform.scopes[address].kind]
        for side in prepared:
            for place in asked_at(side, address):
                counting = ((id(b), side.counts(b, place)) for b in side.covering_to(place, names))
                key.append(tuple(counting))
        found.setdefault(tuple(key), []).append(address)
    yield from found.values()


def _named_at(prepared: Sequence[PlatformIndex], address: str) -> set[Principal]:
    """All names that matter at a place, on either side."""
    found: set[Principal] = set()
    for side in prepared:
        found |= set(side.platform.capped)
        found |= {binding.principal for _, binding in weighed_at(side, address)}
    return found
