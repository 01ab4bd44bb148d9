"""Everybody beside every place, for one action or one role: people or groups down, places across."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from msgspec import Struct

from justlane.engine.decision.deciding import Judge, Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import group
from justlane.engine.facts.people import Person, kinds_of_people, with_local_groups
from justlane.model.circumstances import Outcome
from justlane.model.people import AUTHENTICATED


class GridRow(Struct, frozen=True):
    """People (or groups) who have the same at every place."""

    names: tuple[str, ...]
    outcomes: tuple[Outcome, ...]
    """One for each column."""


class Grid(Struct, frozen=True):
    """Rows that are alike are one row, and so are columns; together they are every field."""

    platform: str
    what: str
    """The action, or the role."""
    of_role: bool
    of_groups: bool
    within: str
    columns: tuple[tuple[str, ...], ...]
    """Places that are alike for everybody, in the order of the tree."""
    rows: tuple[GridRow, ...]
    """Those with the most first; those with nothing anywhere last."""

    @property
    def somebody(self) -> bool:
        """Whether there is anybody anywhere."""
        return any(outcome is not Outcome.NO for row in self.rows for outcome in row.outcomes)


def grid(
    index: EstateIndex, within: str, what: str, question: Question, *, of_role: bool = False, of_groups: bool = False
) -> Grid:
    """Who may do an action, or has a role, at each place within a scope.

    A group stands for somebody who is in that group, and in those that hold it, and in no other. Where an action does
    not apply to a kind of place there is no column.
    """
    prepared = index.platform(within)
    places = [address for address in _in_order(prepared, within) if of_role or prepared.applies(what, address)]
    cell = _role_held if of_role else _allowed
    kinds = _groups(index, prepared, question) if of_groups else _people(index, prepared, question)
    rows = [(names, _row(index, prepared, somebody, question, what, places, cell)) for names, somebody in kinds]
    columns = _alike(places, list(zip(*(row for _, row in rows), strict=True)))
    firsts = [places.index(some[0]) for some in columns]
    merged: dict[tuple[Outcome, ...], list[str]] = {}
    for names, row in rows:
        merged.setdefault(tuple(row[place] for place in firsts), []).extend(names)
    found = [GridRow(tuple(sorted(names)), outcomes) for outcomes, names in merged.items()]
    weight = {Outcome.YES: 2, Outcome.ONLY_IF: 1, Outcome.NO: 0}
    sizes = [len(some) for some in columns]
    found.sort(key=lambda r: (-sum(weight[o] * n for o, n in zip(r.outcomes, sizes, strict=True)), r.names))
    return Grid(prepared.platform.name, what, of_role, of_groups, within, tuple(columns), tuple(found))


def _in_order(prepared: PlatformIndex, within: str) -> list[str]:
    covered = set(prepared.coverage.covered(within))
    return [address for address in prepared.platform.scopes if address in covered]


def _people(index: EstateIndex, prepared: PlatformIndex, question: Question) -> list[tuple[list[str], Person]]:
    kinds = kinds_of_people(index, prepared, question.dated)
    return [([somebody.login for somebody in alike], alike[0]) for alike in kinds]


def _groups(index: EstateIndex, prepared: PlatformIndex, question: Question) -> list[tuple[list[str], Person]]:
    """Groups that something on the platform tells apart, each as somebody who is in it alone."""
    found: dict[frozenset[object], tuple[list[str], Person]] = {}
    for name in index.estate.directory.groups:
        known = {*index.membership.principals_of(group(name)), AUTHENTICATED}
        principals = with_local_groups(index, prepared.platform.name, known, question.dated)
        somebody = Person("", True, principals)
        found.setdefault(frozenset(principals & prepared.named), ([], somebody))[0].append(name)
    return list(found.values())


_Cell = Callable[[Judge, str, str], int]


def _row(
    index: EstateIndex,
    prepared: PlatformIndex,
    somebody: Person,
    question: Question,
    what: str,
    places: Sequence[str],
    cell: _Cell,
) -> tuple[Outcome, ...]:
    judging = Judge(prepared, somebody, question, index.estate.time_zone)
    full = judging.space.full
    found = (cell(judging, what, address) for address in places)
    return tuple(Outcome.NO if not some else Outcome.YES if some == full else Outcome.ONLY_IF for some in found)


def _allowed(judging: Judge, action: str, address: str) -> int:
    return judging.at(address).get(action, 0)


def _role_held(judging: Judge, role: str, address: str) -> int:
    """The circumstances in which a binding gives the role there, denies aside."""
    found = 0
    for active in judging.active_roles():
        for binding in judging.relevant(address, active):
            if binding.allows and binding.role == role:
                found |= judging.space.of(binding.condition)
    return found


def _alike(places: Sequence[str], columns: Sequence[tuple[Outcome, ...]]) -> list[tuple[str, ...]]:
    found: dict[tuple[Outcome, ...], list[str]] = {}
    for place, column in zip(places, columns, strict=True):
        found.setdefault(column, []).append(place)
    return [tuple(some) for some in found.values()]
