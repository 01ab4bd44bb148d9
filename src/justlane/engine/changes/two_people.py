"""Two people side by side: what one has and the other lacks, in which circumstances, and through what."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.changes.comparison import together
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import in_words
from justlane.engine.decision.judge import Judge, Question, judge
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.reach import Grant, grants_of
from justlane.model.scopes import platform_of


class Surplus(Struct, frozen=True):
    """Actions at scopes that one has and the other lacks, all through the same bindings, in the same circumstances."""

    actions: tuple[str, ...]
    scopes: tuple[str, ...]
    grants: tuple[Grant, ...]
    conditions: tuple[Box, ...] = ()
    """In which circumstances; empty for all."""


class SideBySide(Struct, frozen=True):
    """Two people, in some circumstances."""

    person: str
    other: str
    shared: int
    """Number of (action, scope) pairs that both have in some circumstances at once."""
    person_only: tuple[Surplus, ...]
    other_only: tuple[Surplus, ...]

    @property
    def equal(self) -> bool:
        """Whether neither has what the other lacks."""
        return not self.person_only and not self.other_only


def side_by_side(
    index: EstateIndex, login: str, other: str, question: Question, within: str | None = None
) -> SideBySide:
    """Compare what two people may do, within a scope or everywhere; only-ifs that differ are a difference."""
    surplus = _Sorted(index), _Sorted(index)
    shared = 0
    zone = index.estate.time_zone
    for name in [platform_of(within)] if within else index.estate.platforms:
        alone = [judge(index, who, name, question) for who in (login, other)]
        mine, theirs = (judging for judging in together(alone, [zone, zone]) if judging)
        covered = set(mine.platform.coverage.covered(within or name))
        for address in filter(covered.__contains__, mine.platform.platform.scopes):
            for action in mine.platform.platform.actions:
                ours, others = mine.allowed(action, address), theirs.allowed(action, address)
                shared += bool(ours & others)
                surplus[0].add(mine, action, address, ours & ~others)
                surplus[1].add(theirs, action, address, others & ~ours)
    return SideBySide(login, other, shared, *(some.found() for some in surplus))


class _Sorted:
    """Cells with the same grants and circumstances together, scopes with the same actions together."""

    def __init__(self, index: EstateIndex) -> None:
        self._index = index
        self._alike: dict[tuple[object, ...], dict[str, list[str]]] = {}
        self._told: dict[tuple[object, ...], tuple[tuple[Grant, ...], tuple[Box, ...]]] = {}

    def add(self, judging: Judge, action: str, address: str, some: int) -> None:
        """Take in what one has in some circumstances, and the other lacks."""
        if some:
            grants = grants_of(self._index, judging, action, address, some)
            conditions = in_words(judging, some)
            ways = ((id(grant.binding), grant.conditions) for grant in grants)
            key = (judging.platform.platform.name, *ways, conditions)
            self._told[key] = grants, conditions
            self._alike.setdefault(key, {}).setdefault(address, []).append(action)

    def found(self) -> tuple[Surplus, ...]:
        """All of it."""
        surplus: list[Surplus] = []
        for key, scopes in self._alike.items():
            by_actions: dict[tuple[str, ...], list[str]] = {}
            for scope, actions in scopes.items():
                by_actions.setdefault(tuple(actions), []).append(scope)
            surplus += [Surplus(actions, tuple(where), *self._told[key]) for actions, where in by_actions.items()]
        return tuple(surplus)
