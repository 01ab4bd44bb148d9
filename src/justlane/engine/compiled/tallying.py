"""How much is allowed on a platform at all, and how few kinds of people and places there are behind it."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.compiled.flattening import count_cells
from justlane.engine.deciding import Question
from justlane.engine.index import EstateIndex
from justlane.engine.people import ANONYMOUS_NAME, person
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


def tally(index: EstateIndex, platform: str, question: Question) -> Tally:
    """Count exactly, by the compiled form."""
    prepared = index.platform(platform)
    named = prepared.named | {AUTHENTICATED}
    people = [person(index, login, platform) for login in (*index.estate.directory.users, ANONYMOUS_NAME)]
    enabled = [somebody.principals & named for somebody in people if somebody.enabled]
    scopes = prepared.platform.scopes.values()
    places = {(s.kind, tuple(map(id, prepared.covering_bindings(s.address)))) for s in scopes}
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
