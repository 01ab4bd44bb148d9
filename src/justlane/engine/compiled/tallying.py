"""How much is allowed on a platform at all, and how few kinds of people and places there are behind it."""

from __future__ import annotations

import numpy as np
from msgspec import Struct
from numpy.typing import NDArray

from justlane.engine.compiled.flattening import count_cells
from justlane.engine.decision.deciding import Question
from justlane.engine.everybody.behind import Behind
from justlane.engine.everybody.lists import alike
from justlane.engine.everywhere.kinds_of_places import kinds_of_places
from justlane.engine.everywhere.terrain import terrain_of
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
    behind = Behind(index, platform, question.dated, prepared.named)
    signed_in = behind.there[: behind.nobody]
    kinds = behind.sums()[:, : behind.nobody][:, signed_in]
    terrain = terrain_of(prepared)
    applying = [sum(a.applies(kind) for a in prepared.platform.actions.values()) for kind in terrain.kinds]
    cells = int(np.array(applying, np.int64)[terrain.kind].sum())
    users = int(signed_in.sum()) + 1
    count = count_cells(index, platform, question, behind)
    return Tally(
        platform,
        users,
        len(alike(kinds)[1]) + 1,  # whoever has not signed in is one of their own
        len(terrain),
        len(np.unique(kinds_of_places(prepared, terrain))),
        len(prepared.platform.actions),
        cells * users,
        count.always,
        count.possibly - count.always,
    )
