"""Walking the touched scopes of each access class: how many cells are allowed, exactly.

For a class, the scopes that a binding of theirs touches cut the tree into regions with one mask of actions each. A
region's mask comes from that of the region around it and the bindings at its own scope, by the platform's habit. Cells
are then counted by differences: the subtree of each touched scope times what its mask has more, or less, than the one
around it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cached_property
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Lists, lists_of, unique_pairs
from justlane.engine.compiled.circumstances import MOST_WORLDS, truths
from justlane.engine.compiled.classes import THREADS, classes_of
from justlane.engine.compiled.flat import CEILING, GIVEN, Flat, Ints, Masks
from justlane.engine.compiled.masks import DECIDES
from justlane.engine.compiled.on_the_way import Ways
from justlane.engine.compiled.places import ScopeIntervals, bits_in
from justlane.engine.compiled.regions import Pieces, Regions, lone_pieces, pieces_of, regions_of

T = TypeVar("T")

CLASSES_AT_ONCE = 1 << 13
"""As many as keep the arrays of a chunk near the processor."""


class Count(NamedTuple):
    """Numbers of (user, action, scope) cells."""

    always: int
    """Allowed in all circumstances."""
    possibly: int
    """Allowed in some."""


class HolderCount(NamedTuple):
    """Who holds one action in some circumstances."""

    people: int
    """How many hold it somewhere."""
    cells: int
    """(user, scope) pairs."""


class Compiled:
    """One platform, compiled."""

    def __init__(self, flat: Flat) -> None:
        self.flat = flat
        self.places = ScopeIntervals(flat)
        self.classes = classes_of(flat)
        self.pieces, self._by_binding = pieces_of(flat, self.places)
        self._ways = Ways(flat, self.places) if flat.on_the_way >= 0 else None
        self.kind_pieces = self._pieces_of_kinds()

    def _pieces_of_kinds(self) -> Lists:
        """The pieces that each kind of group brings."""
        bindings = self.classes.bindings
        count = len(bindings.start) - 1
        owner, binding = bindings.taken(np.arange(count))
        position, piece = self._by_binding.taken(binding)
        return lists_of(*unique_pairs(owner[position], piece, len(self.pieces.start)), count)

    def count(self) -> Count:
        """How many cells are allowed always, and in some circumstances."""
        counts = self._in_chunks(self._counted)
        return Count(sum(c.always for c in counts), sum(c.possibly for c in counts))

    def _in_chunks(self, work: Callable[[NDArray[np.int64]], T]) -> list[T]:
        with ThreadPoolExecutor(THREADS) as pool:
            return list(pool.map(work, self._chunks()))

    def _reached(self, chunk: NDArray[np.int64]) -> tuple[Ints, Ints]:
        """The pieces that each class of a chunk reaches, sorted, each once."""
        owner, kind = self.classes.kinds_of(chunk)
        position, piece = self.kind_pieces.taken(kind)
        return unique_pairs(owner[position], piece, len(self.pieces.start))

    def _chunks(self) -> Iterator[NDArray[np.int64]]:
        total = len(self.classes.people)
        for start in range(0, total, CLASSES_AT_ONCE):
            yield np.arange(start, min(start + CLASSES_AT_ONCE, total))

    def _counted(self, chunk: NDArray[np.int64]) -> Count:
        owner, piece = self._reached(chunk)
        people = self.classes.people[chunk]
        alone = 0
        # most people are given few things that do not touch: those are a look into a table, and never become
        # regions
        if self._plain:
            single = lone_pieces(owner, piece, self.pieces, self.places.count)
            alone = int(np.dot(people[owner[single]], self._worth[piece[single]]))
            owner, piece = owner[~single], piece[~single]
        if not len(owner):
            return Count(alone, alone)
        found = self._in_regions(owner, piece, people)
        return Count(found.always + alone, found.possibly + alone)

    @property
    def _plain(self) -> bool:
        """Whether a region with one piece, and nothing around or inside it, simply has that piece's actions."""
        flat = self.flat
        special = flat.on_the_way >= 0 or flat.sign_in >= 0 or flat.one_role
        return not special and not bool((flat.bound_kind == CEILING).any())

    @cached_property
    def _worth(self) -> NDArray[np.int64]:
        """The cells that each piece gives to one person, if nothing else touches its scopes."""
        pieces, places = self.pieces, self.places
        worth = np.zeros(len(pieces.start), np.int64)
        for kind, applies in enumerate(places.kind_masks):
            worth += places.inside(kind, pieces.start, pieces.end) * bits_in(pieces.masks, applies)
        worth[pieces.deny] = 0
        return worth

    def _in_regions(self, owner: Ints, piece: Ints, everyone: NDArray[np.int64]) -> Count:
        worlds = self._worlds_of(owner, piece)
        # fewer classes meet fewer conditions: halves, until what they meet can be gone through
        if worlds is None:
            middle = int(np.searchsorted(owner, owner[len(owner) // 2]))
            middle = middle or int(np.searchsorted(owner, owner[0], "right"))
            halves = [self._in_regions(owner[some], piece[some], everyone) for some in _cut(middle)]
            return Count(sum(half.always for half in halves), sum(half.possibly for half in halves))
        regions = regions_of(owner, piece, self.pieces, self.places.count)
        return self._in_worlds(regions, worlds, everyone)

    def _worlds_of(self, owner: Ints, piece: Ints) -> NDArray[np.bool_] | None:
        """The kinds of circumstances that some classes meet. None if they are too many to be gone through for several
        classes at once: fewer of them meet fewer."""
        if len(self.flat.worlds):
            return self.flat.worlds
        met = np.unique(self.pieces.condition[piece])
        most = None if owner[0] == owner[-1] else MOST_WORLDS
        return truths(self.flat.circumstances, met[met >= 0].tolist(), most)

    def _in_worlds(self, regions: Regions, worlds: NDArray[np.bool_], everyone: NDArray[np.int64]) -> Count:
        always = possibly = self._masks(regions, worlds[0])
        for world in worlds[1:]:
            masks = self._masks(regions, world)
            always, possibly = always & masks, possibly | masks
        people = everyone[regions.owner]
        some = self._weighed(regions, possibly, people)
        return Count(self._weighed(regions, always, people) if len(worlds) > 1 else some, some)

    def _masks(self, regions: Regions, world: NDArray[np.bool_]) -> Masks:
        """The actions of each region in one kind of circumstances, all gates included.

        Where an action must be held on the way, of each part of each region (`ways`): shape (3, regions, words).
        """
        holds = np.append(world, True)[self.pieces.condition]
        if not self.flat.one_role:
            return self._masks_of(regions, holds, holds)
        return self._in_any_role(regions, holds)

    def _masks_of(self, regions: Regions, holds: NDArray[np.bool_], ceilings: NDArray[np.bool_]) -> Masks:
        pieces = self.pieces
        above = pieces.kind == CEILING
        masks = DECIDES[self.flat.decides](pieces, regions, holds & ~above)
        if above.any():
            masks &= ~_of_owner(regions, pieces, ceilings & above)
        if self.flat.sign_in >= 0:
            masks[~_signed_in(regions, pieces, masks, self.flat.sign_in)[regions.owner]] = 0
        return masks if self._ways is None else self._ways.masks(regions, pieces, masks)

    def _in_any_role(self, regions: Regions, holds: NDArray[np.bool_]) -> Masks:
        """The union over the roles that each class has; what is built in alone for one without a role."""
        pieces, owners = self.pieces, int(regions.owner.max()) + 1
        given = pieces.kind == GIVEN
        own = np.repeat(regions.owner, np.diff(np.append(regions.first, len(regions.piece))))
        # a role is held by whom a line gives it, whatever else the line does not open: conditions do not take
        # a role away
        giving = given & ~pieces.deny
        wanted = np.unique(pieces.acting[given])
        if self.flat.active is not None:
            wanted = wanted[wanted == self.flat.active]
        roles = {role: _owners_of(own, giving & (pieces.acting == role), regions, owners) for role in wanted.tolist()}
        asked = self.flat.active is not None
        roleless = ~np.logical_or.reduce([np.zeros(owners, np.bool_), *roles.values()])
        alone = self._masks_of(regions, holds & ~given, holds)
        found = np.where(roleless[regions.owner, None] & (not asked), alone, np.uint64(0))
        for role, has in roles.items():
            active = holds & (~given | (pieces.acting == role))
            found |= np.where(has[regions.owner, None], self._masks_of(regions, active, holds), np.uint64(0))
        return found

    def _weighed(self, regions: Regions, masks: Masks, people: NDArray[np.int64]) -> int:
        """The cells of all regions."""
        return int(np.dot(self._cells(regions, masks), people))

    def _cells(self, regions: Regions, masks: Masks) -> NDArray[np.int64]:
        """The cells of each region for one person, less those that the region around it counts there already."""
        if self._ways is not None:
            return self._ways.cells(regions, self.pieces, masks)
        places, lead = self.places, regions.lead
        start, end = self.pieces.start[lead], self.pieces.end[lead]
        inner = np.flatnonzero(regions.parent >= 0)
        around = regions.parent[inner]
        total = np.zeros(len(lead), np.int64)
        for kind, applies in enumerate(places.kind_masks):
            bits = bits_in(masks, applies)
            # the region around counted this subtree already, with its own mask: only what is more, or
            # less, is added
            more = bits.copy()
            more[inner] -= bits[around]
            total += places.inside(kind, start, end) * more
        return total

    def holding(self, actions: Sequence[int]) -> list[HolderCount]:
        """How many people hold each of some actions (by bit) somewhere in some circumstances, and in how many cells."""
        found = [HolderCount(0, 0) for _ in actions]
        for counted in self._in_chunks(lambda chunk: self._held(chunk, actions)):
            found = [HolderCount(a.people + b.people, a.cells + b.cells) for a, b in zip(found, counted, strict=True)]
        return found

    def _held(self, chunk: NDArray[np.int64], actions: Sequence[int]) -> list[HolderCount]:
        owner, piece = self._reached(chunk)
        if not len(owner):
            return [HolderCount(0, 0) for _ in actions]
        everyone = self.classes.people[chunk]
        return self._held_by(owner, piece, everyone, actions)

    def _held_by(
        self, owner: Ints, piece: Ints, everyone: NDArray[np.int64], actions: Sequence[int]
    ) -> list[HolderCount]:
        worlds = self._worlds_of(owner, piece)
        if worlds is None:
            middle = int(np.searchsorted(owner, owner[len(owner) // 2])) or int(
                np.searchsorted(owner, owner[0], "right")
            )
            halves = [self._held_by(owner[some], piece[some], everyone, actions) for some in _cut(middle)]
            return [HolderCount(a.people + b.people, a.cells + b.cells) for a, b in zip(*halves, strict=True)]
        regions = regions_of(owner, piece, self.pieces, self.places.count)
        masks = np.bitwise_or.reduce([self._masks(regions, world) for world in worlds])
        found = []
        for action in actions:
            only = np.zeros(masks.shape[-1], np.uint64)
            only[action // 64] = np.uint64(1) << np.uint64(action % 64)
            cells = np.bincount(regions.owner, self._cells(regions, masks & only), len(everyone)).astype(np.int64)
            found.append(HolderCount(int(everyone[cells > 0].sum()), int(np.dot(cells, everyone))))
        return found


def _cut(middle: int) -> tuple[slice, slice]:
    return slice(None, middle), slice(middle, None)


def _owners_of(own: Ints, which: NDArray[np.bool_], regions: Regions, owners: int) -> NDArray[np.bool_]:
    """The classes that have one of some pieces."""
    found = np.zeros(owners, np.bool_)
    found[own[which[regions.piece]]] = True
    return found


def _of_owner(regions: Regions, pieces: Pieces, which: NDArray[np.bool_]) -> Masks:
    """The union of some pieces of each class, for each of its regions."""
    masks = pieces.masks[regions.piece]
    masks[~which[regions.piece]] = 0
    own = np.bitwise_or.reduceat(masks, regions.first)
    starts = np.flatnonzero(np.diff(regions.owner, prepend=-1))
    return np.repeat(np.bitwise_or.reduceat(own, starts), np.diff(np.append(starts, len(own))), axis=0)


def _signed_in(regions: Regions, pieces: Pieces, masks: Masks, action: int) -> NDArray[np.bool_]:
    """Whether each class holds the sign-in action at the root."""
    word, bit = divmod(action, 64)
    found = np.zeros(int(regions.owner.max()) + 1, np.bool_)
    root = np.flatnonzero(pieces.start[regions.lead] == 0)
    # the single scope stands after the subtree, and says what holds at the root itself
    found[regions.owner[root]] = (masks[root, word] >> np.uint64(bit)) & np.uint64(1) != 0
    return found
