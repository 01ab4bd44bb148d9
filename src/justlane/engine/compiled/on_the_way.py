"""Where an action must be held on every scope above a place.

A region falls into three parts: its own scope, which counts if the way to it is open; what lies below with no scope in
between that asks for the action, which counts if the own scope lets through besides; and the rest, which counts if the
region holds the action besides. The parts are the same whatever the circumstances and the active role, so that masks of
parts can be joined.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Flat, Ints, Masks
from justlane.engine.compiled.places import ScopeIntervals
from justlane.engine.compiled.regions import Pieces, Regions

Flags = NDArray[np.bool_]


class Ways:
    """What the scopes of a platform ask of those who pass."""

    def __init__(self, flat: Flat, places: ScopeIntervals) -> None:
        self._places = places
        self._word, self._bit = divmod(flat.on_the_way, 64)
        parent = flat.scope_parent.tolist()
        kind_asks = (flat.kind_masks[:, self._word] >> np.uint64(self._bit)) & np.uint64(1) != 0
        self.asks: Flags = kind_asks[flat.scope_kind]
        """Whether the action applies to a scope, so that it stands in the way of what is below."""
        asks = self.asks.tolist()
        above = [0] * len(parent)
        free = np.zeros((len(flat.kind_masks), len(parent)), np.int32)
        for scope in range(1, len(parent)):
            above[scope] = above[parent[scope]] + asks[parent[scope]]
        for scope in range(len(parent) - 1, 0, -1):
            free[flat.scope_kind[scope], parent[scope]] += 1
            if not asks[scope]:
                free[:, parent[scope]] += free[:, scope]
        self._above = np.array(above, np.int32)
        self._free = free

    def masks(self, regions: Regions, pieces: Pieces, masks: Masks) -> Masks:
        """The actions of each part of each region. Shape (3, regions, words)."""
        lead = regions.lead
        scope, single = pieces.start[lead], pieces.here[lead]
        at = _mask_at(regions, single, scope)
        holds = (masks[:, self._word] >> np.uint64(self._bit)) & np.uint64(1) != 0
        through = ~self.asks[scope] | holds[at]
        open_way = self._open(regions, single, scope, through, holds)
        found = np.stack([masks[at], masks, masks])
        for part, counts in enumerate((open_way, open_way & through, open_way & through & holds)):
            found[part][~(counts & ~single)] = 0
        return found

    def cells(self, regions: Regions, pieces: Pieces, masks: Masks) -> NDArray[np.int64]:
        """The cells of all parts of each region, for one person."""
        places, lead = self._places, regions.lead
        scope, single = pieces.start[lead], pieces.here[lead]
        inner = np.flatnonzero((regions.parent >= 0) & ~single)
        around = regions.parent[inner]
        clear = self._clear(scope[around], scope[inner])
        parts: tuple[list[Ints], list[Ints], list[Ints]] = ([], [], [])
        for kind in range(len(places.kind_masks)):
            own = places.inside(kind, scope, scope + 1)
            whole = places.inside(kind, scope, places.end[scope])
            free, below = self._free[kind][scope].copy(), whole - own
            np.subtract.at(below, around, whole[inner])
            beyond = np.where(self.asks[scope[inner]], 0, self._free[kind][scope[inner]])
            np.subtract.at(free, around, np.where(clear, own[inner] + beyond, 0))
            for part, scopes in zip(parts, (own, free, below - free), strict=True):
                part.append(scopes)
        counts = (places.cells(scopes, some) for scopes, some in zip(parts, masks, strict=True))
        found: NDArray[np.int64] = np.add.reduce(list(counts))
        return found

    def _clear(self, outer: Ints, inner: Ints) -> Flags:
        """Whether no scope strictly between two, one below the other, asks for the action."""
        between: Ints = self._above[inner] - self._above[outer] - self.asks[outer]
        return np.equal(between, 0)

    def _open(self, regions: Regions, single: Flags, scope: Ints, through: Flags, holds: Flags) -> Flags:
        """Whether the action is held on all scopes above each region's own."""
        open_way: Flags = self._above[scope] == 0
        for level in regions.levels[1:]:
            around = regions.parent[level]
            same = single[level] & (scope[level] == scope[around])
            passes = through[around] & (holds[around] | self._clear(scope[around], scope[level]))
            open_way[level] = open_way[around] & (same | passes)
        return open_way


def _mask_at(regions: Regions, single: Flags, scope: Ints) -> NDArray[np.int64]:
    """The region that says what holds at each region's scope itself: the single scope inside it, if there is one."""
    at = np.arange(len(scope))
    own = np.flatnonzero(single)
    around = regions.parent[own]
    same = (around >= 0) & (scope[own] == scope[around])
    at[around[same]] = own[same]
    return at
