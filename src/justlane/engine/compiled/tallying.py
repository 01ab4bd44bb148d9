"""How much is allowed on a platform at all, and how few kinds of people and places there are behind it."""

from __future__ import annotations

from collections.abc import Iterator

from msgspec import Struct

from justlane.engine.compiled.flattening import count_cells
from justlane.engine.decision.deciding import Question, ancestors
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, person
from justlane.model.people import AUTHENTICATED


class Tally(Struct, frozen=True):
    """One platform in numbers."""

    platform: str
    users: int
    """Enabled users, and whoever has not signed in."""
    user_classes: int
    """Kinds of users: within one, no binding tells two of them apart."""
    scopes: int
    scope_classes: int
    """Kinds of scopes, likewise."""
    actions: int
    cells: int
    """(user, action, scope) triples that exist: the action applies to the kind of scope."""
    always: int
    """Cells that are allowed in all circumstances."""
    sometimes: int
    """Cells that are allowed in some circumstances only."""


def _kinds_of_places(prepared: PlatformIndex) -> Iterator[tuple[object, ...]]:
    """For each scope, all by which something can tell it from another: its kind, the bindings that count there, and the
    same of the scopes on the way to it."""
    asking = prepared.platform.actions.get(prepared.platform.habits.on_the_way)
    known: dict[str, tuple[object, ...]] = {}
    for address, scope in prepared.platform.scopes.items():
        counting = frozenset((id(b), prepared.counts(b, address)) for b in prepared.covering_bindings(address))
        known[address] = scope.kind, counting
        way = [a for a in ancestors(address) if asking and asking.applies(prepared.platform.scopes[a].kind)]
        yield (*known[address], frozenset(known[above] for above in way))


def tally(index: EstateIndex, platform: str, question: Question) -> Tally:
    """Count exactly, by the compiled form."""
    prepared = index.platform(platform)
    named = prepared.named | {AUTHENTICATED}
    everybody = (*index.estate.directory.users, ANONYMOUS_NAME)
    people = [person(index, login, platform, question.dated) for login in everybody]
    enabled = [somebody.principals & named for somebody in people if somebody.enabled]
    scopes = prepared.platform.scopes.values()
    places = set(_kinds_of_places(prepared))
    cells = sum(a.applies(s.kind) for s in scopes for a in prepared.platform.actions.values())
    count = count_cells(index, platform, question)
    return Tally(
        platform,
        len(enabled),
        len(set(enabled)),
        len(scopes),
        len(places),
        len(prepared.platform.actions),
        cells * len(enabled),
        count.always,
        count.possibly - count.always,
    )
