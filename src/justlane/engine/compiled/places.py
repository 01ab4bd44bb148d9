"""The scopes of a platform, numbered in the order of a walk, so that "here and below" is an interval."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.scopes import subtree_ends
from justlane.engine.compiled.flat import Flat, Ints, Masks


class ScopeIntervals:
    """Intervals and weights of all scopes."""

    def __init__(self, flat: Flat) -> None:
        count = len(flat.scope_parent)
        self.count = count
        self.end = subtree_ends(flat.scope_parent)
        """One past the last scope of each subtree. Shape (scopes,)."""
        self.kind_masks = flat.kind_masks
        self._before = np.zeros((len(flat.kind_masks), count + 1), np.int32)
        for kind in range(len(flat.kind_masks)):
            np.cumsum(flat.scope_kind == kind, out=self._before[kind, 1:])

    def inside(self, kind: int, start: Ints, end: Ints) -> Ints:
        """How many scopes of a kind some intervals hold."""
        before: Ints = self._before[kind]
        scopes: Ints = before[end] - before[start]
        return scopes

    def cells(self, scopes: Sequence[Ints], masks: Masks) -> NDArray[np.int64]:
        """The number of cells for one person, if so many scopes of each kind have the actions of each mask: what does
        not apply is not counted. Shape (masks,)."""
        found = np.zeros(len(masks), np.int64)
        for some, applies in zip(scopes, self.kind_masks, strict=True):
            found += some * bits_in(masks, applies)
        return found


def bits_in(masks: Masks, applies: Masks) -> NDArray[np.int64]:
    """Number of actions in each mask that apply."""
    found = np.zeros(len(masks), np.int64)
    for word, some in enumerate(applies):
        found += np.bitwise_count(masks[:, word] & some)
    return found
