"""Everybody who may do an action at a place, without looking at everybody: only whom a binding there could give it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from justlane.engine.decision.deciding import Judge, Question, gates_to, is_apart
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, Person
from justlane.model.estate import Decides
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.everybody.behind import Behind, Kind
    from justlane.engine.everybody.lists import Ints


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
    matters = names_that_matter(prepared, address, question, action)
    behind = Behind(index, prepared.platform.name, question.dated, matters)
    for kind in behind.kinds(behind.any_of(giving)):
        judging = Judge(prepared, behind.person(kind), question, index.estate.time_zone)
        if judging.allowed(action, address):
            yield behind, kind, judging


class Holding:
    """Everybody who may do an action at one of some places, in some circumstances."""

    def __init__(
        self, index: EstateIndex, platform: str, moment: datetime, judges: Sequence[Judge], users: Ints, kinds: Ints
    ) -> None:
        self._index, self._platform, self._moment, self._judges = index, platform, moment, judges
        self._users, self._kinds = users, kinds

    def __len__(self) -> int:
        return len(self._users)

    def without(self, group: str) -> Holding:
        """Those who are not in a group of the directory."""
        from justlane.engine.everybody.behind import Behind

        named = Principal(PrincipalKind.GROUP, group)
        left = ~Behind(self._index, self._platform, self._moment, [named]).any_of([named])[self._users]
        users, kinds = self._users[left], self._kinds[left]
        return Holding(self._index, self._platform, self._moment, self._judges, users, kinds)

    def in_order(self) -> list[tuple[str, Judge]]:
        """Logins in their order, last whoever has not signed in; each with a judge of theirs."""
        roll = self._index.membership.roll
        kinds = zip(self._users.tolist(), self._kinds.tolist(), strict=True)
        judges = {user: self._judges[kind] for user, kind in kinds}
        signed_in = self._users[self._users < len(roll.logins)]
        found = [(roll.logins[user], judges[user]) for user in roll.in_order(signed_in).tolist()]
        last = judges.get(len(roll.logins))
        return [*found, (ANONYMOUS_NAME, last)] if last else found


def holding(index: EstateIndex, action: str, places: Sequence[str], question: Question) -> Holding:
    """Everybody who may do an action at one of some places of a platform."""
    import numpy as np

    found = [(kind.users, judging) for at in places for _, kind, judging in kinds_who_may(index, action, at, question)]
    users = np.concatenate([np.zeros(0, np.int32), *(users for users, _ in found)])
    kinds = np.repeat(np.arange(len(found), dtype=np.int32), [len(users) for users, _ in found])
    each, first = np.unique(users, return_index=True)  # somebody may do it at several of the places
    platform = platform_of(places[0]) if places else ""
    return Holding(index, platform, question.dated, [judging for _, judging in found], each, kinds[first])


def names_that_matter(
    prepared: PlatformIndex, address: str, question: Question, action: str | None = None
) -> frozenset[Principal]:
    """What tells people apart at a place, for all actions or for one: their bindings there and on the way to it, and
    the ceilings. Where what they act as elsewhere matters too, that is everything."""
    if is_apart(prepared, question):
        return prepared.named
    nearest = prepared.platform.habits.decides is Decides.NEAREST
    asked = [(address, action), *((gate.scope, gate.action) for gate in gates_to(prepared, address))]
    bound = [
        binding.principal
        for place, what in dict.fromkeys(asked)
        for binding in prepared.covering_bindings(place)
        if nearest or what is None or what in prepared.roles.holdings(binding.role)
    ]
    return frozenset((*bound, *prepared.platform.capped))


def unlike(prepared: PlatformIndex, places: Sequence[str]) -> list[str]:
    """One place of each kind among some."""
    from justlane.engine.everywhere.kinds_of_places import kinds_of_places
    from justlane.engine.everywhere.terrain import terrain_of

    terrain = terrain_of(prepared)
    kinds = kinds_of_places(prepared, terrain)
    return list({int(kinds[terrain.number[place]]): place for place in reversed(places)}.values())
