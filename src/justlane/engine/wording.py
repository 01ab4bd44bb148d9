"""A set of circumstances in the fewest words: a few boxes, each a condition on some of the four axes."""

from __future__ import annotations

from collections.abc import Iterable
from itertools import permutations

from msgspec import Struct

from justlane.engine.circumstances import CircumstanceSpace
from justlane.engine.networks import NetworkTree
from justlane.model.circumstances import MINUTES_A_DAY, Hours


class AddressRange(Struct, frozen=True):
    """Addresses inside a network, without some smaller ones; `inside` empty means any address, or none at all."""

    inside: str
    but_not: tuple[str, ...] = ()


class TimeRange(Struct, frozen=True):
    """Hours on some weekdays (0 is Monday); no hours means the whole day."""

    days: tuple[int, ...]
    hours: tuple[Hours, ...]


class Box(Struct, frozen=True):
    """Circumstances that fulfil every part. An empty part asks for nothing."""

    addresses: tuple[AddressRange, ...] = ()
    multi_factor: bool | None = None
    methods: tuple[str, ...] = ()
    other_methods: bool = False
    """Whether `methods` are those that it must not be."""
    times: tuple[TimeRange, ...] = ()


Chosen = tuple[tuple[int, ...], ...]
"""Classes on each axis."""


def boxes(space: CircumstanceSpace, some: int) -> tuple[Box, ...]:
    """Boxes that together are exactly the set; no box could be larger, and none is superfluous."""
    alike = [_alike(space, some, axis) for axis in range(4)]
    found: list[tuple[int, Chosen]] = []
    left = some
    while left:
        cell = (left & -left).bit_length() - 1
        covered, chosen = _largest(space, some, cell, alike)
        found.append((covered, chosen))
        left &= ~covered
    return tuple(_in_words(space, chosen) for chosen in _needed(found))


def _alike(space: CircumstanceSpace, some: int, axis: int) -> dict[int, list[int]]:
    """Classes of an axis that the set does not tell apart, by the first of them."""
    everything = [list(range(size)) for size in space.sizes]
    first: dict[int, int] = {}
    groups: dict[int, list[int]] = {}
    for number in range(space.sizes[axis]):
        everything[axis] = [0]
        at_zero = space.box(everything)
        piece = (some >> (number * space.strides[axis])) & at_zero
        groups.setdefault(first.setdefault(piece, number), []).append(number)
    return groups


def _largest(space: CircumstanceSpace, some: int, cell: int, alike: list[dict[int, list[int]]]) -> tuple[int, Chosen]:
    """The best box around a region that stays inside the set: the fewest words, then the most regions."""
    at = [cell // stride % size for stride, size in zip(space.strides, space.sizes, strict=True)]
    best: tuple[tuple[int, int], int, Chosen] | None = None
    for order in permutations(axis for axis in range(4) if space.sizes[axis] > 1):
        chosen = [[number] for number in at]
        for axis in order:
            chosen[axis] = _widened(space, some, chosen, axis, alike[axis])
        covered = space.box(chosen)
        words = sum(len(c) < size for c, size in zip(chosen, space.sizes, strict=True))
        rank = (words, -covered.bit_count())
        if best is None or rank < best[0]:
            best = rank, covered, tuple(tuple(c) for c in chosen)
    assert best is not None
    return best[1], best[2]


def _widened(
    space: CircumstanceSpace, some: int, chosen: list[list[int]], axis: int, alike: dict[int, list[int]]
) -> list[int]:
    trial = list(chosen)
    kept: list[int] = []
    for first, group in alike.items():
        trial[axis] = [first]
        if not space.box(trial) & ~some:
            kept += group
    return sorted(kept)


def _needed(found: list[tuple[int, Chosen]]) -> list[Chosen]:
    """Leave out each box that the others cover, the smallest first."""
    kept = sorted(found, key=lambda item: item[0].bit_count())
    for item in list(kept):
        union = 0
        for other in kept:
            union |= other[0] if other is not item else 0
        if not item[0] & ~union:
            kept.remove(item)
    return [chosen for _, chosen in sorted(kept, key=lambda item: -item[0].bit_count())]


def _in_words(space: CircumstanceSpace, chosen: Chosen) -> Box:
    addresses, factors, methods, times = chosen
    named = [space.methods[n] for n in methods]
    other = "" in named
    if other:
        named = [m for m in space.methods if m and m not in named]
    return Box(
        addresses=() if len(addresses) == space.sizes[0] else _ranges(space.networks, set(addresses)),
        multi_factor=None if len(factors) == space.sizes[1] else space.factors[factors[0]],
        methods=tuple(named),
        other_methods=other and bool(named),
        times=() if len(times) == space.sizes[3] else _weekly(s for n in times for s in space.times[n]),
    )


def _ranges(tree: NetworkTree, classes: set[int]) -> tuple[AddressRange, ...]:
    """Networks to be in, each without those inside it that are not meant."""
    status = {text: number in classes for number, text in enumerate(tree.classes)}
    inside: list[str] = [""] if status[""] else []
    but_not: dict[str, list[str]] = {"": []}

    def visit(network: str, meant: bool, around: str) -> None:
        for child in tree.children(network):
            below = {status[c] for c in tree.children(child) if c in status}
            own = status.get(child, below.pop() if len(below) == 1 else meant)
            if own and not meant:
                inside.append(child)
                but_not[child] = []
            elif meant and not own:
                but_not[around].append(child)
            visit(child, own, child if own and not meant else around)

    visit("", status[""], "")
    return tuple(AddressRange(network, tuple(but_not[network])) for network in inside)


def _weekly(spans: Iterable[tuple[int, int]]) -> tuple[TimeRange, ...]:
    """Stretches of the week by day, days with the same hours together; what runs over midnight in one piece."""
    joined: list[list[int]] = []
    for start, end in sorted(spans):
        if joined and joined[-1][1] == start:
            joined[-1][1] = end
        else:
            joined.append([start, end])
    by_day: dict[int, list[tuple[int, int]]] = {}
    for start, end in joined:
        for day in range(start // MINUTES_A_DAY, (end - 1) // MINUTES_A_DAY + 1):
            midnight = day * MINUTES_A_DAY
            by_day.setdefault(day, []).append((max(start - midnight, 0), min(end - midnight, MINUTES_A_DAY)))
    days: dict[tuple[Hours, ...], list[int]] = {}
    for day, pieces in by_day.items():
        days.setdefault(_over_midnight(pieces), []).append(day)
    return tuple(TimeRange(tuple(some), hours) for hours, some in days.items())


def _over_midnight(pieces: list[tuple[int, int]]) -> tuple[Hours, ...]:
    """The hours of one day: a piece up to midnight and one from midnight on are one span."""
    if pieces == [(0, MINUTES_A_DAY)]:
        return ()
    if len(pieces) > 1 and pieces[0][0] == 0 and pieces[-1][1] == MINUTES_A_DAY:
        pieces = [*pieces[1:-1], (pieces[-1][0], pieces[0][1])]
    return tuple(Hours(start, end) for start, end in pieces)
