"""Everybody beside every place, for one action or one role: people or groups down, places across."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.decision.deciding import Judge, Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import NO_LOGIN, GroupsAsPeople
from justlane.engine.facts.people import Person
from justlane.model.circumstances import Outcome


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
    from justlane.engine.changes.by_kinds import ByKinds, Together

    prepared = index.platform(within)
    places = [address for address in _in_order(prepared, within) if of_role or prepared.applies(what, address)]
    people = index.changed({}, GroupsAsPeople(index.membership)) if of_groups else index
    sides = people, people
    together = Together(sides)
    apart = prepared.roles_matter_elsewhere or bool(question.role)
    kinds = ByKinds(sides, (None, prepared), together, question.dated, apart)
    asking = _Asking(index, prepared, question, what, of_role)
    wanted = set(places)
    rows: dict[int, dict[int, Outcome]] = {}
    column_of: dict[int, Sequence[str]] = {}
    for found in kinds.changes(asking.outcome, None, wanted):
        (outcome,) = found.change
        column_of[id(found.places)] = found.places
        for user in found.users.tolist():
            rows.setdefault(user, {})[id(found.places)] = outcome
    everybody = kinds.there().tolist()
    last = len(together.logins) - 1
    merged: dict[frozenset[tuple[int, Outcome]], list[str]] = {}
    for user in everybody:
        if not (of_groups and user == last):
            merged.setdefault(frozenset(rows.get(user, {}).items()), []).append(together.logins[user].lstrip(NO_LOGIN))
    return _laid_out(Grid(prepared.platform.name, what, of_role, of_groups, within, (), ()), places, column_of, merged)


def _laid_out(
    empty: Grid,
    places: Sequence[str],
    column_of: Mapping[int, Sequence[str]],
    merged: Mapping[frozenset[tuple[int, Outcome]], list[str]],
) -> Grid:
    """Rows and columns in their order, columns that are alike as one."""
    alike: dict[int, set[tuple[int, Outcome]]] = {column: set() for column in column_of}
    for number, row in enumerate(merged):
        for column, outcome in row:
            alike[column].add((number, outcome))
    number_of = {address: number for number, address in enumerate(places)}
    columns: dict[frozenset[tuple[int, Outcome]], list[int]] = {}
    left = dict.fromkeys(range(len(places)))
    for column, fields in alike.items():
        numbers = [number_of[address] for address in column_of[column]]
        columns.setdefault(frozenset(fields), []).extend(numbers)
        for number in numbers:
            del left[number]
    if left:
        columns.setdefault(frozenset(), []).extend(left)
    ordered = [(sorted(numbers), dict(fields)) for fields, numbers in columns.items()]
    ordered.sort(key=lambda column: column[0])
    rows = [
        GridRow(tuple(sorted(names)), tuple(row.get(number, Outcome.NO) for _, row in ordered))
        for number, names in enumerate(merged.values())
    ]
    weight = {Outcome.YES: 2, Outcome.ONLY_IF: 1, Outcome.NO: 0}
    sizes = [len(numbers) for numbers, _ in ordered]
    rows.sort(key=lambda r: (-sum(weight[o] * n for o, n in zip(r.outcomes, sizes, strict=True)), r.names))
    found = tuple(tuple(places[number] for number in numbers) for numbers, _ in ordered)
    return replace(empty, columns=found, rows=tuple(rows))


def _in_order(prepared: PlatformIndex, within: str) -> list[str]:
    covered = set(prepared.coverage.covered(within))
    return [address for address in prepared.platform.scopes if address in covered]


_NOTHING: tuple[Outcome, ...] = ()
_OUTCOMES = {outcome: (outcome,) for outcome in Outcome}


class _Asking:
    """What people may do at a place, or what they have there."""

    def __init__(
        self, index: EstateIndex, prepared: PlatformIndex, question: Question, what: str, of_role: bool
    ) -> None:
        self._index, self._prepared, self._question = index, prepared, question
        self._what, self._cell = what, _role_held if of_role else _allowed
        self._judges: dict[Person, Judge] = {}

    def outcome(self, was: Person, now: Person, address: str) -> tuple[Outcome, ...]:
        """The outcome; nothing for a no."""
        if now not in self._judges:
            self._judges[now] = Judge(self._prepared, now, self._question, self._index.estate.time_zone)
        judging = self._judges[now]
        some = self._cell(judging, self._what, address)
        if not some:
            return _NOTHING
        return _OUTCOMES[Outcome.YES if some == judging.space.full else Outcome.ONLY_IF]


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
