"""What bindings come down to on the tree, and how the touched scopes of a class lie inside each other."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Lists, lists_of
from justlane.engine.arrays.scopes import separate_roots
from justlane.engine.compiled.flat import ALONE, BELOW, HERE_ONLY, Flat, Ints, Masks
from justlane.engine.compiled.places import ScopeIntervals


class Pieces(NamedTuple):
    """What bindings come down to: an interval of scopes each, sorted by where it starts, single scopes last."""

    start: Ints
    end: Ints
    here: NDArray[np.bool_]
    """Whether it is a single scope, with nothing below."""
    ground: NDArray[np.bool_]
    """Whether it only marks the subtree of a single scope that a binding is bound to, and gives nothing."""
    masks: Masks
    """The actions of the role."""
    deny: NDArray[np.bool_]
    rank: Ints
    """Its place in the order of the bindings."""
    condition: Ints
    """Number of its condition; -1 for none."""
    kind: NDArray[np.int8]
    """Whether it is given, built in, or a ceiling."""
    acting: Ints
    """What somebody acts as by it, where roles are held one at a time."""
    bound: Ints
    """The scope that the binding is bound to."""


class Regions(NamedTuple):
    """The touched scopes of some classes, each class in the order of the walk."""

    owner: Ints
    """Number of the class."""
    piece: Ints
    """All pieces, region by region …"""
    first: NDArray[np.int64]
    """… and where those of each region begin in `piece`."""
    parent: Ints
    """The region around each, -1 for none."""
    levels: list[Ints]
    """The regions with no other around them, those with one, and so on."""

    @property
    def lead(self) -> Ints:
        """One piece of each region: all of them touch the same scope."""
        return self.piece[self.first]


def pieces_of(flat: Flat, places: ScopeIntervals) -> tuple[Pieces, Lists]:
    """The pieces of all bindings, and the pieces of each binding."""
    by, at, here = _limited(flat, places, *_spread(flat, places))
    ground = np.zeros(len(by), np.bool_)
    if flat.on_the_way >= 0:
        single = np.flatnonzero(here)
        by, at, here = (
            np.append(by, by[single]),
            np.append(at, at[single]),
            np.append(here, np.zeros(len(single), np.bool_)),
        )
        ground = np.append(ground, np.ones(len(single), np.bool_))
    # a binding that counts nowhere still is one: whoever it reaches has its role
    nowhere = np.flatnonzero(np.bincount(by, minlength=len(flat.bound_scope)) == 0).astype(np.int32)
    by, at = np.append(by, nowhere), np.append(at, np.zeros(len(nowhere), np.int32))
    here, ground = (np.append(some, np.full(len(nowhere), more)) for some, more in ((here, False), (ground, True)))
    order = np.lexsort((by, here, at))
    by, at, here, ground = by[order], at[order], here[order], ground[order]
    masks = np.where(ground[:, None], np.uint64(0), flat.role_masks[flat.bound_role[by]])
    end = np.where(here, at + 1, places.end[at]).astype(np.int32)
    bound = np.where(flat.bound_here[by] == ALONE, 0, flat.bound_scope[by]).astype(np.int32)
    kind, acting = flat.bound_kind[by], flat.bound_acting[by]
    condition = flat.bound_condition[by]
    pieces = Pieces(at, end, here, ground, masks, flat.bound_deny[by], by, condition, kind, acting, bound)
    return pieces, lists_of(np.sort(by), np.argsort(by, kind="stable").astype(np.int32), len(flat.bound_scope))


def _limited(
    flat: Flat, places: ScopeIntervals, by: Ints, at: Ints, here: NDArray[np.bool_]
) -> tuple[Ints, Ints, NDArray[np.bool_]]:
    """Only the parts of what limited bindings cover where their group was published."""
    if not flat.limited.any():
        return by, at, here
    limits: dict[int, list[int]] = {}
    for binding, scope in zip(flat.limit_binding.tolist(), flat.limit_scope.tolist(), strict=True):
        limits.setdefault(binding, []).append(scope)
    kept: dict[tuple[int, int, bool], None] = {}
    for binding, root, single in zip(by.tolist(), at.tolist(), here.tolist(), strict=True):
        if not flat.limited[binding]:
            kept[binding, root, single] = None
        for scope in limits.get(binding, ()):
            if scope <= root < places.end[scope]:
                kept[binding, root, single] = None
            elif not single and root <= scope < places.end[root]:
                kept[binding, scope, single] = None
    columns = list(zip(*kept, strict=True)) or [(), (), ()]
    return np.array(columns[0], np.int32), np.array(columns[1], np.int32), np.array(columns[2], np.bool_)


def _spread(flat: Flat, places: ScopeIntervals) -> tuple[Ints, Ints, NDArray[np.bool_]]:
    """Every binding with each root of what it covers: the binding, the scope, and whether only the scope itself."""
    number = np.arange(len(flat.bound_scope), dtype=np.int32)
    if not len(flat.gather_group):
        return number, flat.bound_scope, flat.bound_here != BELOW
    targets: dict[int, list[int]] = {}
    for group, target in zip(flat.gather_group.tolist(), flat.gather_target.tolist(), strict=True):
        targets.setdefault(group, []).append(target)
    groups = np.array(sorted(targets), np.int32)
    known: dict[tuple[int, int], list[int]] = {}
    by: list[int] = []
    at: list[int] = []
    for binding, (scope, here) in enumerate(zip(flat.bound_scope.tolist(), flat.bound_here.tolist(), strict=True)):
        if (scope, here) not in known:
            alone = [scope, *(targets.get(scope, ()) if here == HERE_ONLY else ())]
            one = alone if here else separate_roots(scope, places.end, groups, targets)
            known[scope, here] = sorted(set(one))
        by += [binding] * len(known[scope, here])
        at += known[scope, here]
    return np.array(by, np.int32), np.array(at, np.int32), flat.bound_here[by] != BELOW


def lone_pieces(owner: Ints, piece: Ints, pieces: Pieces, scopes: int) -> NDArray[np.bool_]:
    """Which sorted (class, piece) pairs stand alone: no other piece of the class touches their scopes.

    Only pieces without a condition are looked at.
    """
    # one number line for all classes: each has a stretch of its own, so that intervals of two never meet
    base = owner.astype(np.int64)
    base *= scopes
    start, end = base + pieces.start[piece], base
    end += pieces.end[piece]
    reach = np.maximum.accumulate(end)
    # what begins before the furthest end so far lies inside something; what the next one begins in, something
    # lies in
    alone = pieces.condition[piece] < 0
    alone[1:] &= start[1:] >= reach[:-1]
    alone[:-1] &= start[1:] >= end[:-1]
    return alone


def regions_of(owner: Ints, piece: Ints, pieces: Pieces, scopes: int) -> Regions:
    """The regions of some classes, from sorted (class, piece) pairs."""
    # a single scope stands right behind the subtree that begins with it: what holds at the scope itself is read
    # from it
    place = owner.astype(np.int64) * (2 * scopes) + 2 * pieces.start[piece].astype(np.int64) + pieces.here[piece]
    # pieces of one class that touch the same scope are one region; the pairs are sorted, so they stand together
    first = np.flatnonzero(np.diff(place, prepend=-1))
    lead, own = piece[first], owner[first]
    base = own.astype(np.int64) * scopes
    start = base + pieces.start[lead]
    end = np.where(pieces.here[lead], start, base + pieces.end[lead])
    parent = np.full(len(first), -1, np.int32)
    levels: list[Ints] = []
    left = np.arange(len(first), dtype=np.int32)
    # each round takes the regions that nothing left over surrounds: a running maximum of ends tells them apart
    while len(left):
        reach = np.maximum.accumulate(end[left])
        top = np.append(True, start[left[1:]] >= reach[:-1])
        levels.append(left[top])
        around = np.maximum.accumulate(np.where(top, np.arange(len(left)), 0))
        parent[left[~top]] = left[around[~top]]
        left = left[~top]
    return Regions(own, piece, first, parent, levels)
