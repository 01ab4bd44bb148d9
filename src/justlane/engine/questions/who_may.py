"""Everybody who may do an action at a place, without looking at everybody: only whom a binding there could give it."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.engine.decision.deciding import Judge, Question, gates_to
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, Person, people_behind, reduced
from justlane.model.estate import RolesHeld
from justlane.model.people import ANONYMOUS, Principal


def who_may(index: EstateIndex, action: str, address: str, question: Question) -> Iterator[tuple[list[Person], Judge]]:
    """Enabled people, and whoever has not signed in, who may in some circumstances; those together whom nothing that
    matters there tells apart, with a judge for the first of them.

    Their principals are those that matter there.
    """
    prepared = index.platform(address)
    if not prepared.applies(action, address):
        return
    giving = [b for b in prepared.covering_bindings(address) if b.allows and action in prepared.roles.holdings(b.role)]
    logins: dict[str, None] = {}
    for principal in dict.fromkeys(b.principal for b in giving):
        logins |= dict.fromkeys(_behind(index, prepared, principal, question))
    for alike in _kinds(index, prepared, address, list(logins), question):
        judging = Judge(prepared, alike[0], question, index.estate.time_zone)
        if judging.allowed(action, address):
            yield alike, judging


def _behind(index: EstateIndex, prepared: PlatformIndex, principal: Principal, question: Question) -> list[str]:
    if principal == ANONYMOUS:
        return [ANONYMOUS_NAME]
    return people_behind(index, principal, prepared.platform.name, question.dated)


def _kinds(
    index: EstateIndex, prepared: PlatformIndex, address: str, logins: list[str], question: Question
) -> list[list[Person]]:
    """People by what matters at a place: their bindings there and on the way to it, and the ceilings."""
    one_role = prepared.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME
    matters = prepared.named if one_role else _matters(prepared, address)
    found: dict[frozenset[Principal], list[Person]] = {}
    for somebody in reduced(index, prepared, question.dated, logins, matters).values():
        if somebody.enabled:
            found.setdefault(somebody.principals, []).append(somebody)
    return list(found.values())


def _matters(prepared: PlatformIndex, address: str) -> frozenset[Principal]:
    places = dict.fromkeys([address, *(gate.scope for gate in gates_to(prepared, address))])
    bound = [b.principal for place in places for b in prepared.covering_bindings(place)]
    ceilings = [p for c in prepared.platform.ceilings for p in (c.principal, *c.but_not)]
    return frozenset((*bound, *ceilings))
