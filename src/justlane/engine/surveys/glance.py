"""Everybody beside everything: for each person and each place, with all in it, whether they may do nothing there,
something, or everything."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from justlane.engine.chart_numbers.likeness import in_order
from justlane.engine.classes.class_pairs import ClassPairs
from justlane.engine.classes.judges import Judges
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import NO_LOGIN, GroupsAsPeople
from justlane.engine.facts.people import Person
from justlane.model.scopes import platform_of


class Much(StrEnum):
    """How much of what can be done at a place somebody may do."""

    NONE = "none"
    SOME = "some"
    FULL = "full"


class Field(Struct, frozen=True):
    """Some people at one place with all in it."""

    much: Much
    """Full: all of it, in all circumstances."""
    cells: int
    """(action, scope) pairs that are allowed in some circumstances."""


class GlanceRow(Struct, frozen=True):
    """People, or groups, with the same in each field."""

    names: tuple[str, ...]
    fields: tuple[Field, ...]


class Glance(Struct, frozen=True):
    """Everybody beside everything."""

    of_groups: bool
    columns: tuple[str, ...]
    """Platforms, or the places inside one; those that are like each other stand together."""
    cells: tuple[int, ...]
    """How many (action, scope) pairs there are in each."""
    rows: tuple[GlanceRow, ...]
    """Likewise; those with nothing anywhere last."""


def glance(index: EstateIndex, columns: Sequence[str], question: Question, *, of_groups: bool = False) -> Glance:
    """How much everybody may do at some places, each with all that it covers.

    A group stands for somebody who is in that group, and in those that hold it, and in no other.
    """
    people = index.changed({}, GroupsAsPeople(index.membership)) if of_groups else index
    by_platform: dict[str, list[int]] = {}
    for number, column in enumerate(columns):
        by_platform.setdefault(platform_of(column), []).append(number)
    total = [0] * len(columns)
    some: NDArray[np.int64] | None = None
    logins: list[str] = []
    there = np.zeros(0, np.bool_)
    for name, numbers in by_platform.items():
        prepared = index.platform(name)
        kinds = ClassPairs.of_one(people, prepared, question)
        if some is None:
            logins = [login.lstrip(NO_LOGIN) for login in kinds.logins[: len(kinds.logins) - of_groups]]
            some = np.zeros((2, len(kinds.logins), len(columns)), np.int64)
            there = np.zeros(len(kinds.logins), np.bool_)
        there[kinds.there()] = True
        _count(index, prepared, kinds, [(n, columns[n]) for n in numbers], question, some, total)
    assert some is not None
    return _laid_out(columns, total, some[:, : len(logins)], logins, there[: len(logins)], of_groups)


def _count(
    index: EstateIndex,
    prepared: PlatformIndex,
    kinds: ClassPairs,
    columns: Sequence[tuple[int, str]],
    question: Question,
    some: NDArray[np.int64],
    total: list[int],
) -> None:
    """Add up what is allowed, sometimes and always, for everybody in each column of one platform."""
    inside: dict[str, list[int]] = {}
    for number, column in columns:
        for address in prepared.coverage.covered(column):
            inside.setdefault(address, []).append(number)
            kind = prepared.platform.scopes[address].kind
            total[number] += sum(action.applies(kind) for action in prepared.platform.actions.values())
    counted = _Counted(index, prepared, question)
    for found in kinds.changes(counted.at, None, set(inside)):
        possibly, always = found.change
        times = np.zeros(some.shape[2], np.int64)
        for address in found.places:
            np.add.at(times, inside[address], 1)
        some[0, found.users] += times * possibly
        some[1, found.users] += times * always


class _Counted:
    """How many actions people may do at a place, in some circumstances and in all."""

    def __init__(self, index: EstateIndex, prepared: PlatformIndex, question: Question) -> None:
        self._judges = Judges(prepared, question, index.estate.time_zone)
        self._same: dict[tuple[int, int], tuple[int, int]] = {}

    def at(self, was: Person, now: Person, address: str) -> tuple[int, ...]:
        judging = self._judges.of(now)
        allowed = judging.at(address)
        if not allowed:
            return ()
        said = len(allowed), sum(held == judging.space.full for held in allowed.values())
        return self._same.setdefault(said, said)


def _laid_out(
    columns: Sequence[str],
    total: Sequence[int],
    some: NDArray[np.int64],
    logins: Sequence[str],
    there: NDArray[np.bool_],
    of_groups: bool,
) -> Glance:
    users = np.flatnonzero(there)
    both = np.concatenate([some[0, users], some[1, users]], axis=1)
    kinds, number = np.unique(both, axis=0, return_inverse=True)
    named: list[list[str]] = [[] for _ in range(len(kinds))]
    for user, kind in zip(users.tolist(), number.reshape(-1).tolist(), strict=True):
        named[kind].append(logins[user])
    width = len(columns)
    rows = [
        GlanceRow(
            tuple(sorted(named[n])),
            tuple(_field(int(kind[c]), int(kind[c + width]), total[c]) for c in range(width)),
        )
        for n, kind in enumerate(kinds)
    ]
    having = [row for row in rows if any(field.cells for field in row.fields)]
    shares = [[f.cells / max(total[c], 1) for c, f in enumerate(row.fields)] for row in having]
    order = in_order(shares, [len(row.names) for row in having])
    across = in_order([list(column) for column in zip(*shares, strict=True)], list(total)) if shares else range(width)
    laid = [having[n] for n in order] + [row for row in rows if not any(field.cells for field in row.fields)]
    return Glance(
        of_groups,
        tuple(columns[c] for c in across),
        tuple(total[c] for c in across),
        tuple(GlanceRow(row.names, tuple(row.fields[c] for c in across)) for row in laid),
    )


def _field(possibly: int, always: int, total: int) -> Field:
    if not possibly:
        return Field(Much.NONE, 0)
    return Field(Much.FULL if always == total else Much.SOME, possibly)
