"""Everybody beside every place, for one action or one role: people or groups down, places across."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Literal

import numpy as np
from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.classes.class_pairs import ChangeFound
from justlane.engine.classes.judges import Judges
from justlane.engine.decision.judge import Judge, Question, is_apart
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import NO_LOGIN, GroupsAsPeople
from justlane.engine.facts.people import Person
from justlane.model.bindings import Binding
from justlane.model.circumstances import Outcome
from justlane.model.estate import Decides

if TYPE_CHECKING:
    from justlane.engine.arrays.lists import Ints


MOST_FIELDS = 4_000_000
"""So many fields there are at most; of a larger grid the rows with the most are shown."""
_FEWEST_ROWS = 200


class GridRow(Struct, frozen=True):
    """People (or groups) who have the same at every place."""

    names: tuple[str, ...]
    outcomes: tuple[Outcome, ...]
    """One for each column."""


class Grid(Struct, frozen=True):
    """Rows that are alike are one row, and so are columns; together they are every field."""

    platform: str
    what: str
    """The action, the role, or the place."""
    of: Literal["action", "role", "place"]
    """Which of these: `action`, `role` or `place`. At a place the columns are actions."""
    of_groups: bool
    within: str
    columns: tuple[tuple[str, ...], ...]
    """Places, or actions, that are alike for everybody; those that are like each other stand together."""
    rows: tuple[GridRow, ...]
    """Those that are like each other stand together; those with nothing anywhere last."""
    left_rows: int = 0
    """How many rows more there are than fit; then those with the most are here."""
    left_people: int = 0
    """How many people (or groups) stand in them."""

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
    from justlane.engine.classes.class_pairs import ClassPairs

    prepared = index.platform(within)
    places = [address for address in _in_order(prepared, within) if of_role or prepared.applies(what, address)]
    people = index.changed({}, GroupsAsPeople(index.membership)) if of_groups else index
    asking = _Asking(index, prepared, question, what, of_role)
    kinds = ClassPairs.of_one(people, prepared, question, asking.counting())
    logins = [login.lstrip(NO_LOGIN) for login in kinds.logins[: len(kinds.logins) - of_groups]]
    changes = kinds.changes(asking.outcome, None, set(places))
    shown = (some._replace(users=some.users[some.users < len(logins)]) for some in changes)
    found = [some for some in shown if len(some.users)]  # whoever has not signed in is no group
    there = kinds.there()
    rows = _rows(found, logins, there[there < len(logins)].tolist())
    empty = Grid(prepared.platform.name, what, "role" if of_role else "action", of_groups, within, (), ())
    return together(_laid_out(empty, places, found, rows))


def grid_at(index: EstateIndex, place: str, question: Question, *, of_groups: bool = False) -> Grid:
    """Who may do which action at one place."""
    from justlane.engine.classes.class_pairs import ClassPairs

    prepared = index.platform(place)
    actions = [action for action in prepared.platform.actions if prepared.applies(action, place)]
    people = index.changed({}, GroupsAsPeople(index.membership)) if of_groups else index
    kinds = ClassPairs.of_one(people, prepared, question)
    logins = [login.lstrip(NO_LOGIN) for login in kinds.logins[: len(kinds.logins) - of_groups]]
    asking = _AllAt(index, prepared, question)
    found = [
        ChangeFound(some.users[some.users < len(logins)], [action], (outcome,))
        for some in kinds.changes(asking.outcomes, None, {place})
        for action, outcome in some.change
    ]
    shown = _merged(found, actions)
    there = kinds.there()
    rows = _rows(shown, logins, there[there < len(logins)].tolist())
    return together(
        _laid_out(Grid(prepared.platform.name, place, "place", of_groups, place, (), ()), actions, shown, rows)
    )


def _merged(found: Sequence[ChangeFound], actions: Sequence[str]) -> list[ChangeFound]:
    """Those together who may do the same action in the same way; each action with one list of its own."""
    places = {action: [action] for action in actions}
    same: dict[tuple[str, Outcome], list[Ints]] = {}
    for some in found:
        if len(some.users):
            same.setdefault((some.places[0], some.change[0]), []).append(some.users)
    return [ChangeFound(np.concatenate(parts), places[action], (outcome,)) for (action, outcome), parts in same.items()]


def together(grid: Grid) -> Grid:
    """The same grid, rows beside rows and columns beside columns that they are like."""
    from justlane.engine.chart_numbers.likeness import in_order

    having = [n for n, row in enumerate(grid.rows) if any(outcome is not Outcome.NO for outcome in row.outcomes)]
    if not having:
        return grid
    weights = [[_WEIGHT[outcome] for outcome in grid.rows[n].outcomes] for n in having]
    across = [n for n in range(len(grid.columns)) if any(row[n] for row in weights)]
    down = in_order(weights, [len(grid.rows[n].names) for n in having])
    aside = in_order([[row[n] for row in weights] for n in across], [len(grid.columns[n]) for n in across])
    columns = [across[n] for n in aside]
    columns += [n for n in range(len(grid.columns)) if n not in set(across)]
    rows = [grid.rows[having[n]] for n in down] + [row for n, row in enumerate(grid.rows) if n not in set(having)]
    laid = tuple(GridRow(row.names, tuple(row.outcomes[n] for n in columns)) for row in rows)
    return replace(grid, columns=tuple(grid.columns[n] for n in columns), rows=laid)


def _rows(
    found: Sequence[ChangeFound], logins: Sequence[str], everybody: Sequence[int]
) -> list[tuple[list[str], list[int]]]:
    """Those together who have the same everywhere, with what that is; last those who have nothing."""
    from justlane.engine.classes.class_pairs import alike_in

    rows = [([logins[user] for user in users], which) for users, which in alike_in(found, len(logins))]
    having = {user for some in found for user in some.users.tolist()}
    nobody = [logins[user] for user in everybody if user not in having]
    return [*rows, (nobody, [])] if nobody else rows


def _laid_out(
    empty: Grid, places: Sequence[str], found: Sequence[ChangeFound], people: Sequence[tuple[list[str], list[int]]]
) -> Grid:
    """Rows and columns in their order, columns that are alike as one."""
    column_of = {id(some.places): some.places for some in found}
    alike: dict[int, set[tuple[int, Outcome]]] = {column: set() for column in column_of}
    for number, (_, having) in enumerate(people):
        for one in having:
            alike[id(found[one].places)].add((number, found[one].change[0]))
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
    ordered = sorted(sorted(numbers) for numbers in columns.values())
    sizes = [len(numbers) for numbers in ordered]
    at = {number: place for place, numbers in enumerate(ordered) for number in numbers}
    place_of = [at[number_of[some.places[0]]] for some in found]
    shown, left_rows, left_people = _heaviest(people, found, len(ordered))
    weighed: list[tuple[int, GridRow]] = []
    for names, having in shown:
        held: dict[int, Outcome] = {place_of[one]: found[one].change[0] for one in having}
        outcomes = [Outcome.NO] * len(ordered)
        for place, outcome in held.items():
            outcomes[place] = outcome
        weight = sum(_WEIGHT[outcome] * sizes[place] for place, outcome in held.items())
        weighed.append((weight, GridRow(tuple(sorted(names)), tuple(outcomes))))
    weighed.sort(key=lambda item: (-item[0], item[1].names))
    laid = tuple(tuple(places[number] for number in numbers) for numbers in ordered)
    rows = tuple(row for _, row in weighed)
    return replace(empty, columns=laid, rows=rows, left_rows=left_rows, left_people=left_people)


def _heaviest(
    people: Sequence[tuple[list[str], list[int]]], found: Sequence[ChangeFound], columns: int
) -> tuple[Sequence[tuple[list[str], list[int]]], int, int]:
    """As many rows as fit, those with the most first; how many rows and people are left out."""
    most = max(_FEWEST_ROWS, MOST_FIELDS // max(columns, 1))
    if len(people) <= most:
        return people, 0, 0
    order = sorted(people, key=lambda row: -sum(len(found[one].places) for one in row[1]))
    return order[:most], len(people) - most, sum(len(names) for names, _ in order[most:])


_WEIGHT = {Outcome.YES: 2, Outcome.ONLY_IF: 1, Outcome.NO: 0}


def _in_order(prepared: PlatformIndex, within: str) -> list[str]:
    covered = set(prepared.coverage.covered(within))
    return [address for address in prepared.platform.scopes if address in covered]


_NOTHING: tuple[Outcome, ...] = ()
_OUTCOMES = {outcome: (outcome,) for outcome in Outcome}


class _AllAt:
    """What people may do at one place."""

    def __init__(self, index: EstateIndex, prepared: PlatformIndex, question: Question) -> None:
        self._judges = Judges(prepared, question, index.estate.time_zone)
        self._same: dict[tuple[tuple[str, Outcome], ...], tuple[tuple[str, Outcome], ...]] = {}

    def outcomes(self, was: Person, now: Person, address: str) -> tuple[tuple[str, Outcome], ...]:
        """Each action that they may do in some circumstances, with the outcome."""
        judging = self._judges.of(now)
        said = tuple(
            (action, Outcome.YES if some == judging.space.full else Outcome.ONLY_IF)
            for action, some in judging.at(address).items()
        )
        return self._same.setdefault(said, said)


class _Asking:
    """What people may do at a place, or what they have there."""

    def __init__(
        self, index: EstateIndex, prepared: PlatformIndex, question: Question, what: str, of_role: bool
    ) -> None:
        self._prepared, self._question = prepared, question
        self._what, self._cell = what, _role_held if of_role else _allowed
        self._judges = Judges(prepared, question, index.estate.time_zone)

    def counting(self) -> Callable[[Binding], bool] | None:
        """Which bindings can make a difference; None for all of them."""
        habits, roles = self._prepared.platform.habits, self._prepared.roles
        if is_apart(self._prepared, self._question):
            return None
        if self._cell is _role_held:
            return lambda binding: binding.role == self._what
        if habits.decides is Decides.NEAREST:
            return None
        asked = {self._what, habits.sign_in, habits.on_the_way}
        return lambda binding: not asked.isdisjoint(roles.holdings(binding.role))

    def outcome(self, was: Person, now: Person, address: str) -> tuple[Outcome, ...]:
        """The outcome; nothing for a no."""
        judging = self._judges.of(now)
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
