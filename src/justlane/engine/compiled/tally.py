"""How much is allowed on a platform at all, and how few kinds of people and places there are behind it."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.classes.scope_classes import scope_classes
from justlane.engine.compiled.flat_platform import count_cells
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex

Words = NDArray[np.uint64]


class Tally(Struct, frozen=True):
    """One platform in numbers."""

    platform: str
    users: int
    """Enabled users, and whoever has not signed in."""
    user_classes: int
    """Kinds of users: within one, no binding tells two of them apart."""
    scopes: int
    scope_classes: int
    """Kinds of scopes, likewise."""
    actions: int
    cells: int
    """(user, action, scope) triples that exist: the action applies to the kind of scope."""
    always: int
    """Cells that are allowed in all circumstances."""
    sometimes: int
    """Cells that are allowed in some circumstances only."""


def tally(index: EstateIndex, platform: str, question: Question) -> Tally:
    """Count exactly, by the compiled form."""
    prepared = index.platform(platform)
    behind = PeopleByName(index, platform, question.dated, prepared.named)
    people = np.flatnonzero(behind.there)
    numbered = prepared.coverage.numbered
    applying = [sum(a.applies(kind) for a in prepared.platform.actions.values()) for kind in numbered.kinds]
    cells = int(np.array(applying, np.int64)[numbered.kind].sum())
    users = len(people)
    count = count_cells(index, platform, question, behind)
    return Tally(
        platform,
        users,
        len(behind.class_numbers(people)[1]),
        len(numbered),
        len(np.unique(scope_classes(prepared, numbered))),
        len(prepared.platform.actions),
        cells * users,
        count.always,
        count.possibly - count.always,
    )
