"""The scopes of a platform, numbered in the order of a walk, so that "here and below" is an interval."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Flat, Ints, Masks


class Places:
    """Intervals and weights of all scopes."""

    def __init__(self, flat: Flat) -> None:
        count = len(flat.scope_parent)
        self.count = count
        self.end = _ends(flat.scope_parent)
        """One past the last scope of each subtree. Shape (scopes,)."""
        self.kind_masks = flat.kind_masks
        self._before = np.zeros((len(flat.kind_masks), count + 1), np.int32)
        for kind in range(len(flat.kind_masks)):
            np.cumsum(flat.scope_kind == kind, out=self._before[kind, 1:])
        self.depth = _depths(flat.scope_parent)

    def weight(self, start: Ints, end: Ints, masks: Masks) -> int:
        """The number of cells in some intervals, if each has the actions of its mask: what does not apply is not counted."""
        total = 0
        for kind, applies in enumerate(self.kind_masks):
            before = self._before[kind]
            scopes = before[end] - before[start]
            bits = np.bitwise_count(masks & applies).sum(axis=1, dtype=np.int32)
            total += int(np.dot(scopes.astype(np.int64), bits.astype(np.int64)))
        return total


def _ends(parent: Ints) -> Ints:
    """Subtree ends in a walk where parents come first and subtrees are contiguous."""
    size = np.ones(len(parent), np.int32)
    for scope in range(len(parent) - 1, 0, -1):
        size[parent[scope]] += size[scope]
    return (np.arange(len(parent), dtype=np.int32) + size).astype(np.int32)


def _depths(parent: Ints) -> NDArray[np.int16]:
    depth = np.zeros(len(parent), np.int16)
    for scope in range(1, len(parent)):
        depth[scope] = depth[parent[scope]] + 1
    return depth
