"""The mask of actions of each region, by the platform's habit."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from justlane.engine.compiled.flat import Masks
from justlane.engine.compiled.regions import Pieces, Regions

Flags = NDArray[np.bool_]


def _own(pieces: Pieces, regions: Regions, which: Flags) -> Masks:
    """The union of the masks of some pieces of each region."""
    masks = pieces.masks[regions.piece]
    masks[~which[regions.piece]] = 0
    return np.bitwise_or.reduceat(masks, regions.first)


def _inherited(regions: Regions, own: Masks) -> Masks:
    """Add to each region what the regions around it have."""
    for level in regions.levels[1:]:
        own[level] |= own[regions.parent[level]]
    return own


def any_allow(pieces: Pieces, regions: Regions, holds: Flags) -> Masks:
    """What any binding allows."""
    return _inherited(regions, _own(pieces, regions, holds))


def deny_wins(pieces: Pieces, regions: Regions, holds: Flags) -> Masks:
    """What a binding allows and none denies."""
    if not pieces.deny.any():
        return any_allow(pieces, regions, holds)
    denied = _inherited(regions, _own(pieces, regions, holds & pieces.deny))
    return _inherited(regions, _own(pieces, regions, holds & ~pieces.deny)) & ~denied


def last_match(pieces: Pieces, regions: Regions, holds: Flags) -> Masks:
    """What the last binding that matches allows: the bindings around each region are laid on in their order."""
    region, piece = _around(regions)
    kept = holds[piece] & ~pieces.ground[piece]
    region, piece = region[kept], piece[kept]
    order = np.argsort(region.astype(np.int64) * (int(pieces.rank.max(initial=0)) + 1) + pieces.rank[piece])
    region, piece = region[order], piece[order]
    begins = np.flatnonzero(np.diff(region, prepend=-1))
    place = np.arange(len(region)) - np.repeat(begins, np.diff(np.append(begins, len(region))))
    # the first binding of every region at once, then the second of every region, and so on: later ones overwrite
    by_place = np.argsort(place, kind="stable")
    cuts = np.searchsorted(place[by_place], np.arange(int(place.max(initial=-1)) + 2))
    masks = np.zeros((len(regions.first), pieces.masks.shape[1]), np.uint64)
    for start, end in pairwise(cuts):
        some, which = region[by_place[start:end]], piece[by_place[start:end]]
        bits, deny = pieces.masks[which], pieces.deny[which][:, None]
        masks[some] = np.where(deny, masks[some] & ~bits, masks[some] | bits)
    return masks


def _around(regions: Regions) -> tuple[NDArray[np.int64], NDArray[np.int32]]:
    """Every region with each piece of its own and of the regions around it."""
    lists = np.append(regions.first, len(regions.piece))
    length = np.diff(lists)
    found: list[tuple[NDArray[np.int64], NDArray[np.int32]]] = []
    region = np.arange(len(regions.first))
    at = region.astype(np.int32)
    while len(region):
        some = length[at]
        shift = np.repeat(regions.first[at] - (np.cumsum(some) - some), some)
        found.append((np.repeat(region, some), regions.piece[np.arange(int(some.sum())) + shift]))
        further = regions.parent[at] >= 0
        region, at = region[further], regions.parent[at[further]]
    return np.concatenate([r for r, _ in found]), np.concatenate([p for _, p in found])


def nearest(pieces: Pieces, regions: Regions, holds: Flags) -> Masks:
    """What the nearest scope with any binding allows there, less what it denies."""
    # what only marks a place says nothing there: it must not keep the scope around it from deciding
    counts = holds & ~pieces.ground
    if (counts & (pieces.bound != pieces.start)).any():
        return _nearest_of_all(pieces, regions, counts)
    allowed = _own(pieces, regions, counts & ~pieces.deny)
    denied = _own(pieces, regions, counts & pieces.deny)
    named = np.logical_or.reduceat(counts[regions.piece], regions.first)
    around = regions.parent
    lead = regions.lead
    # what is bound to a scope alone and what is bound to it and all below are one place, and decide together
    same = (around >= 0) & pieces.here[lead] & (pieces.start[lead] == pieces.start[lead[around]])
    for array in (allowed, denied, named):
        array[same] |= array[around[same]]
    masks = allowed & ~denied
    # outer regions come first, so that a nameless one inside a nameless one finds what was handed down already
    for level in regions.levels[1:]:
        nameless = level[~named[level]]
        masks[nameless] = masks[around[nameless]]
    return masks


def _nearest_of_all(pieces: Pieces, regions: Regions, counts: Flags) -> Masks:
    """The same, where pieces do not start at the scope that their binding is bound to."""
    region, piece = _around(regions)
    kept = counts[piece]
    region, piece = region[kept], piece[kept]
    bound = pieces.bound[piece]
    nearest_scope = np.full(len(regions.first), -1, np.int64)
    np.maximum.at(nearest_scope, region, bound)
    near = bound == nearest_scope[region]
    region, piece = region[near], piece[near]
    allowed, denied = np.zeros((2, len(regions.first), pieces.masks.shape[1]), np.uint64)
    for masks, deny in ((allowed, False), (denied, True)):
        some = pieces.deny[piece] == deny
        np.bitwise_or.at(masks, region[some], pieces.masks[piece[some]])
    return allowed & ~denied


DECIDES: dict[str, Callable[[Pieces, Regions, Flags], Masks]] = {
    "any-allow": any_allow,
    "deny-wins": deny_wins,
    "last-match": last_match,
    "nearest": nearest,
}
"""How each habit makes a region's mask."""
