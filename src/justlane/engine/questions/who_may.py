"""Everybody who may do an action at a place, without looking at everybody: only whom a binding there could give it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from justlane.engine.classes.names import names_that_matter
from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME, Person
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.arrays.lists import Ints
    from justlane.engine.classes.people_by_name import AccessClass, PeopleByName


def who_may(index: EstateIndex, action: str, address: str, question: Question) -> Iterator[tuple[list[Person], Judge]]:
    """Enabled people, and whoever has not signed in, who may in some circumstances; those together whom nothing that
    matters there tells apart, with a judge for the first of them.

    Their principals are those that matter there.
    """
    for behind, alike, judging in kinds_who_may(index, action, address, question):
        logins = behind.in_order(alike.users)
        yield [Person(login, True, alike.names) for login in logins], judging


def kinds_who_may(
    index: EstateIndex, action: str, address: str, question: Question
) -> Iterator[tuple[PeopleByName, AccessClass, Judge]]:
    """The same people, as numbers."""
    from justlane.engine.classes.people_by_name import PeopleByName

    prepared = index.platform(address)
    if not prepared.applies(action, address):
        return
    holding = [b for b in prepared.covering_bindings(address) if b.allows and action in prepared.roles.holdings(b.role)]
    giving = dict.fromkeys(b.principal for b in holding)
    if not giving:
        return
    matters = names_that_matter(prepared, address, question, action)
    behind = PeopleByName(index, prepared.platform.name, question.dated, matters)
    for alike in behind.classes(behind.those_with(giving)):
        judging = Judge(prepared, alike.person, question, index.estate.time_zone)
        if judging.allowed(action, address):
            yield behind, alike, judging


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
        from justlane.engine.classes.people_by_name import PeopleByName

        named = Principal(PrincipalKind.GROUP, group)
        left = ~PeopleByName(self._index, self._platform, self._moment, [named]).any_of([named])[self._users]
        users, kinds = self._users[left], self._kinds[left]
        return Holding(self._index, self._platform, self._moment, self._judges, users, kinds)

    def in_order(self) -> list[tuple[str, Judge]]:
        """Logins in their order, last whoever has not signed in; each with a judge of theirs."""
        numbered = self._index.membership.numbered
        kinds = zip(self._users.tolist(), self._kinds.tolist(), strict=True)
        judges = {user: self._judges[kind] for user, kind in kinds}
        signed_in = self._users[self._users < len(numbered.logins)]
        found = [(numbered.logins[user], judges[user]) for user in numbered.in_order(signed_in).tolist()]
        last = judges.get(len(numbered.logins))
        return [*found, (ANONYMOUS_NAME, last)] if last else found


def holding(index: EstateIndex, action: str, places: Sequence[str], question: Question) -> Holding:
    """Everybody who may do an action at one of some places of a platform."""
    import numpy as np

    found = [
        (alike.users, judging) for at in places for _, alike, judging in kinds_who_may(index, action, at, question)
    ]
    users = np.concatenate([np.zeros(0, np.int32), *(users for users, _ in found)])
    kinds = np.repeat(np.arange(len(found), dtype=np.int32), [len(users) for users, _ in found])
    each, first = np.unique(users, return_index=True)  # somebody may do it at several of the places
    platform = platform_of(places[0]) if places else ""
    return Holding(index, platform, question.dated, [judging for _, judging in found], each, kinds[first])


def unlike(prepared: PlatformIndex, places: Sequence[str]) -> list[str]:
    """One place of each kind among some."""
    from justlane.engine.classes.scope_classes import scope_classes

    numbered = prepared.coverage.numbered
    kinds = scope_classes(prepared, numbered)
    return list({int(kinds[numbered.number[place]]): place for place in reversed(places)}.values())
