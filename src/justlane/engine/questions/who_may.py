"""Everybody who may do an action at a place, without looking at everybody: only whom a binding there could give it."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from justlane.engine.decision.deciding import Judge, Question, gates_to
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import Person
from justlane.model.estate import RolesHeld
from justlane.model.people import Principal

if TYPE_CHECKING:
    from justlane.engine.everybody.behind import Behind, Kind


def who_may(index: EstateIndex, action: str, address: str, question: Question) -> Iterator[tuple[list[Person], Judge]]:
    """Enabled people, and whoever has not signed in, who may in some circumstances; those together whom nothing that
    matters there tells apart, with a judge for the first of them.

    Their principals are those that matter there.
    """
    for behind, kind, judging in kinds_who_may(index, action, address, question):
        logins = behind.in_order(kind.users)
        yield [Person(login, True, kind.principals) for login in logins], judging


def kinds_who_may(
    index: EstateIndex, action: str, address: str, question: Question
) -> Iterator[tuple[Behind, Kind, Judge]]:
    """The same people, as numbers."""
    from justlane.engine.everybody.behind import Behind

    prepared = index.platform(address)
    if not prepared.applies(action, address):
        return
    holding = [b for b in prepared.covering_bindings(address) if b.allows and action in prepared.roles.holdings(b.role)]
    giving = dict.fromkeys(b.principal for b in holding)
    if not giving:
        return
    one_role = prepared.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME
    matters = prepared.named if one_role else _matters(prepared, address)
    behind = Behind(index, prepared.platform.name, question.dated, matters)
    for kind in behind.kinds(behind.any_of(giving)):
        judging = Judge(prepared, behind.person(kind), question, index.estate.time_zone)
        if judging.allowed(action, address):
            yield behind, kind, judging


def _matters(prepared: PlatformIndex, address: str) -> frozenset[Principal]:
    """What tells people apart at a place: their bindings there and on the way to it, and the ceilings."""
    places = dict.fromkeys([address, *(gate.scope for gate in gates_to(prepared, address))])
    bound = [b.principal for place in places for b in prepared.covering_bindings(place)]
    ceilings = [p for c in prepared.platform.ceilings for p in (c.principal, *c.but_not)]
    return frozenset((*bound, *ceilings))
