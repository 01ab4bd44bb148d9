"""Two people side by side: what one has and the other lacks, and through what."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.deciding import Question
from justlane.engine.index import EstateIndex
from justlane.engine.reaching import Grant, ReachedScope, reach


class Surplus(Struct, frozen=True):
    """Actions at scopes that one has and the other lacks, all through the same bindings."""

    actions: tuple[str, ...]
    scopes: tuple[str, ...]
    grants: tuple[Grant, ...]


class SideBySide(Struct, frozen=True):
    """Two people, in some circumstances."""

    person: str
    other: str
    shared: int
    """Number of (action, scope) pairs that both have."""
    person_only: tuple[Surplus, ...]
    other_only: tuple[Surplus, ...]

    @property
    def equal(self) -> bool:
        """Whether neither has what the other lacks."""
        return not self.person_only and not self.other_only


def side_by_side(
    index: EstateIndex, login: str, other: str, question: Question, within: str | None = None
) -> SideBySide:
    """Compare what two people may do in some circumstances, within a scope or everywhere."""
    mine, theirs = (_cells(index, name, question, within) for name in (login, other))
    return SideBySide(
        login,
        other,
        len(mine.keys() & theirs.keys()),
        _surplus(mine, theirs),
        _surplus(theirs, mine),
    )


_Cells = dict[tuple[str, str], tuple[Grant, ...]]


def _cells(index: EstateIndex, login: str, question: Question, within: str | None) -> _Cells:
    found: _Cells = {}

    def visit(scope: ReachedScope) -> None:
        for action, reached in scope.actions.items():
            found[action, scope.address] = reached.grants
        for inner in scope.inside:
            visit(inner)

    for tree in reach(index, login, question, within).platforms:
        visit(tree)
    return found


def _surplus(mine: _Cells, theirs: _Cells) -> tuple[Surplus, ...]:
    """What is only in `mine`: cells with the same grants together, scopes with the same actions together."""
    by_grants: dict[tuple[int, ...], dict[str, list[str]]] = {}
    grants: dict[tuple[int, ...], tuple[Grant, ...]] = {}
    for (action, scope), given in mine.items():
        if (action, scope) not in theirs:
            key = tuple(id(g.binding) for g in given)
            grants[key] = given
            by_grants.setdefault(key, {}).setdefault(scope, []).append(action)
    found: list[Surplus] = []
    for key, scopes in by_grants.items():
        by_actions: dict[tuple[str, ...], list[str]] = {}
        for scope, actions in scopes.items():
            by_actions.setdefault(tuple(actions), []).append(scope)
        found += [Surplus(actions, tuple(some), grants[key]) for actions, some in by_actions.items()]
    return tuple(found)
