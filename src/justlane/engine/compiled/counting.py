"""Walking the touched scopes of each access class: how many cells are allowed, exactly.

For a class, the scopes that a binding of theirs touches cut the tree into regions with one mask of actions each. A region's
mask comes from that of the region around it and the bindings at its own scope, by the platform's habit. Cells are then
counted by differences: the subtree of each touched scope times what its mask has more, or less, than the one around it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.classes import Classes, Lists, classes_of, lists_of, unique_pairs
from justlane.engine.compiled.flat import Flat, Ints, Masks
from justlane.engine.compiled.places import Places

CLASSES_AT_ONCE = 1 << 15
"""As many as keep the arrays of a chunk in the processor's cache, or near it."""


class Pieces(NamedTuple):
    """What bindings come down to: an interval of scopes each, sorted by where it starts, the wider first."""

    start: Ints
    end: Ints
    here: NDArray[np.bool_]
    """Whether it is a single scope, with nothing below."""
    role: Ints
    deny: NDArray[np.bool_]
    rank: Ints
    """Its place in the order of the bindings (last-match), or the depth of the bound scope (nearest)."""


class Regions(NamedTuple):
    """The touched scopes of a chunk of classes, each class in the order of the walk."""

    owner: Ints
    """Number of the class, within the chunk."""
    piece: Ints
    """A piece that touches the scope; those of one region are `first` to the next one's."""
    first: NDArray[np.int64]
    parent: Ints
    """The region around this one, -1 for none."""
    levels: list[Ints]
    """The regions by how many regions are around them."""


class Compiled:
    """One platform, compiled."""

    def __init__(self, flat: Flat) -> None:
        self.flat = flat
        self.places = Places(flat)
        self.classes: Classes = classes_of(flat)
        self.pieces, self._by_binding = _pieces(flat, self.places)

    def count(self) -> int:
        """The number of allowed (user, action, scope) cells."""
        return sum(self._counted(chunk) for chunk in self._chunks())

    def _chunks(self) -> Iterator[NDArray[np.int64]]:
        total = len(self.classes.people)
        for start in range(0, total, CLASSES_AT_ONCE):
            yield np.arange(start, min(start + CLASSES_AT_ONCE, total))

    def _counted(self, chunk: NDArray[np.int64]) -> int:
        people = self.classes.people[chunk]
        owner, piece = self._reached(chunk)
        regions = _regions(owner, piece, self.pieces)
        masks = _DECIDES[self.flat.decides](self, regions, owner, piece)
        raise NotImplementedError

    def _reached(self, chunk: NDArray[np.int64]) -> tuple[Ints, Ints]:
        """The pieces that each class of a chunk reaches, sorted, each once."""
        owner, kind = self.classes.kinds.taken(chunk)
        position, binding = self.classes.bindings.taken(kind)
        owner = owner[position]
        position, piece = self._by_binding.taken(binding)
        return unique_pairs(owner[position], piece, len(self.pieces.start))
