"""Kinds of circumstances: the combinations of conditions that really occur."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import ConditionSets

MOST_WORLDS = 64
"""So many are gone through at once."""


def truths(known: ConditionSets, which: Sequence[int], most: int | None = None) -> NDArray[np.bool_] | None:
    """Which of some conditions hold in each kind of circumstances that they tell apart; None if these are more than the
    most. Shape (kinds, conditions of the platform): of conditions that are not asked about none holds."""
    parts: list[tuple[int, tuple[int, ...]]] = [(known.full, ())]
    for number in which:
        some = known.conditions[number]
        split = [(part & some, (*truth, number)) for part, truth in parts]
        split += [(part & ~some, truth) for part, truth in parts]
        parts = [(part, truth) for part, truth in split if part]
        if most is not None and len(parts) > most:
            return None
    found = np.zeros((len(parts), len(known.conditions)), np.bool_)
    for kind, (_, truth) in enumerate(parts):
        found[kind, list(truth)] = True
    return found
