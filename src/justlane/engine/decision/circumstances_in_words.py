"""A set of circumstances in the fewest words: a few boxes, each a condition on some of the axes."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from functools import reduce
from itertools import product
from math import prod
from operator import and_, mul
from typing import Any

from msgspec import Struct

from justlane.engine.decision.axes import AgeRange, TimeRange
from justlane.engine.decision.circumstances import CircumstanceSpace, box, strides_of
from justlane.engine.decision.networks import NetworkTree


class AddressRange(Struct, frozen=True):
    """Addresses inside a network, without some smaller ones; `inside` empty means any address, or none at all."""

    inside: str
    but_not: tuple[str, ...] = ()


class Box(Struct, frozen=True):
    """Circumstances that fulfil every part. An empty part asks for nothing."""

    addresses: tuple[AddressRange, ...] = ()
    sides: tuple[tuple[str, bool], ...] = ()
    """Of axes with two sides that matter: the field of a condition, and the side."""
    methods: tuple[str, ...] = ()
    other_methods: bool = False
    """Whether `methods` are those that it must not be."""
    times: tuple[TimeRange, ...] = ()
    signed_in: tuple[AgeRange, ...] = ()


Chosen = tuple[tuple[int, ...], ...]
"""Classes on each axis."""


def boxes(space: CircumstanceSpace, some: int) -> tuple[Box, ...]:
    """Boxes that together are exactly the set; no box could be larger, and none is superfluous."""
    condensed = _Condensed(space, some)
    return tuple(_in_words(space, condensed.classes(chosen)) for chosen in _needed(condensed, _covering(condensed)))


class _Condensed:
    """A set in which classes that it does not tell apart are one.

    A *row* is what the set holds in one kind of addresses, one bit for each kind on the other axes.
    """

    def __init__(self, space: CircumstanceSpace, some: int) -> None:
        blocks = _blocks(space, some)
        addresses: dict[bytes, list[int]] = {}
        for number, block in enumerate(blocks):
            addresses.setdefault(block, []).append(number)
        known = [int.from_bytes(block, "little") for block in addresses]
        inner = [_alike(space, known, axis) for axis in range(1, len(space.sizes))]
        self.kinds: list[list[list[int]]] = [list(addresses.values()), *inner]
        """On each axis, the classes of each kind."""
        self.sizes = [len(kinds) for kinds in self.kinds]
        self.strides = strides_of(self.sizes[1:])
        first = [[kind[0] for kind in kinds] for kinds in inner]
        places = [sum(map(mul, numbers, space.strides[1:])) for numbers in product(*first)]
        self.rows = [sum((row >> place & 1) << bit for bit, place in enumerate(places)) for row in known]

    def classes(self, chosen: Chosen) -> Chosen:
        """The classes of the kinds that were chosen."""
        return tuple(
            tuple(sorted(number for kind in some for number in kinds[kind]))
            for some, kinds in zip(chosen, self.kinds, strict=True)
        )

    def block(self, chosen: Chosen) -> int:
        """A box as the bits that it has in each of its rows."""
        return box(self.strides, chosen[1:])

    def regions(self, chosen: Chosen) -> int:
        """How many regions a box has, as far as the set tells them apart: conditions that do not matter to it do not
        turn its words."""
        return prod(len(some) for some in chosen)

    def words(self, chosen: Chosen) -> int:
        """How many axes a box says something about."""
        return sum(len(some) < size for some, size in zip(chosen, self.sizes, strict=True))


def _blocks(space: CircumstanceSpace, some: int) -> list[bytes]:
    """What a set holds in each class of addresses."""
    size = space.block_bytes
    content = some.to_bytes(size * space.sizes[0], "little")
    return [content[start : start + size] for start in range(0, len(content), size)]


def _alike(space: CircumstanceSpace, rows: list[int], axis: int) -> list[list[int]]:
    """Classes of an axis that no row tells apart, each kind in order."""
    every = [range(size) for size in space.sizes[1:]]
    every[axis - 1] = range(1)
    at_zero = box(space.strides[1:], every)
    kinds: dict[tuple[int, ...], list[int]] = {}
    for number in range(space.sizes[axis]):
        shift = number * space.strides[axis]
        kinds.setdefault(tuple(row >> shift & at_zero for row in rows), []).append(number)
    return list(kinds.values())


def _covering(space: _Condensed) -> list[Chosen]:
    """Boxes, none of which could be larger, that cover a set."""
    left = list(space.rows)
    found: list[Chosen] = []
    for number in range(len(left)):
        while left[number]:
            # the lowest region that no box has yet: two's complement leaves just that bit
            bit = (left[number] & -left[number]).bit_length() - 1
            chosen = _largest(space, number, bit)
            block = space.block(chosen)
            for row in chosen[0]:
                left[row] &= ~block
            found.append(chosen)
    return found


def _largest(space: _Condensed, row: int, bit: int) -> Chosen:
    """The best box around a region that stays inside the set: the fewest words, then the most regions."""
    at = (row, *(bit // stride % size for stride, size in zip(space.strides, space.sizes[1:], strict=True)))
    start: Chosen = tuple((number,) for number in at)
    found = _widest(space, start, frozenset(axis for axis, size in enumerate(space.sizes) if size > 1))
    return min(found, key=lambda chosen: (space.words(chosen), -space.regions(chosen)))


def _widest(space: _Condensed, chosen: Chosen, axes: frozenset[int]) -> Iterator[Chosen]:
    """The boxes that come of widening a box along some axes, one after the other, in every order."""
    # the order in which a box is widened decides how far each axis goes: all orders are tried, there are few axes
    if not axes:
        yield chosen
    for axis in sorted(axes):
        kinds = _along_addresses(space, chosen) if axis == 0 else _along(space, chosen, axis)
        yield from _widest(space, (*chosen[:axis], kinds, *chosen[axis + 1 :]), axes - {axis})


def _along_addresses(space: _Condensed, chosen: Chosen) -> tuple[int, ...]:
    block = space.block(chosen)
    return tuple(number for number, row in enumerate(space.rows) if not block & ~row)


def _along(space: _Condensed, chosen: Chosen, axis: int) -> tuple[int, ...]:
    """The kinds on an axis with which a box stays inside the set."""
    everywhere = reduce(and_, (space.rows[row] for row in chosen[0]))
    one = space.block((*chosen[:axis], (0,), *chosen[axis + 1 :]))
    stride = space.strides[axis - 1]
    return tuple(number for number in range(space.sizes[axis]) if not (one << number * stride) & ~everywhere)


def _needed(space: _Condensed, found: list[Chosen]) -> list[Chosen]:
    """Leave out each box that the others cover, the smallest first; the largest come first then."""
    order = sorted(found, key=space.regions)
    at_row: dict[int, dict[int, int]] = {}
    for number, chosen in enumerate(order):
        block = space.block(chosen)
        for row in chosen[0]:
            at_row.setdefault(row, {})[number] = block
    twice = {row: _covered_twice(blocks.values()) for row, blocks in at_row.items()}
    kept = []
    for number, chosen in enumerate(order):
        block = space.block(chosen)
        # every region of it is in another box too: without it nothing is left out
        if all(not block & ~twice[row] for row in chosen[0]):
            for row in chosen[0]:
                del at_row[row][number]
                twice[row] = _covered_twice(at_row[row].values())
        else:
            kept.append(chosen)
    return sorted(kept, key=space.regions, reverse=True)


def _covered_twice(blocks: Iterable[int]) -> int:
    once = twice = 0
    for block in blocks:
        twice |= once & block
        once |= block
    return twice


def _in_words(space: CircumstanceSpace, chosen: Chosen) -> Box:
    addresses, *others = chosen
    parts: dict[str, Any] = {}
    sides: tuple[tuple[str, bool], ...] = ()
    for axis, classes in zip(space.axes, others, strict=True):
        if len(classes) < axis.size:
            said = axis.said(classes)
            sides += said.pop("sides", ())
            parts |= said
    if len(addresses) < space.sizes[0]:
        parts["addresses"] = _ranges(space.networks, addresses)
    return Box(sides=sides, **parts)


def _ranges(tree: NetworkTree, classes: Sequence[int]) -> tuple[AddressRange, ...]:
    """Networks to be in, each without those inside it that are not meant. The classes come in order."""
    inside: list[str] = [""] if classes[0] == 0 else []
    but_not: dict[str, list[str]] = {"": []}
    numbers = {text: number for number, text in enumerate(tree.classes)}
    chosen = set(classes)

    def count(network: str) -> tuple[int, int]:
        """How many classes a network has, and how many of them are chosen."""
        first, end = tree.spans[network]
        return end - first, bisect_left(classes, end) - bisect_left(classes, first)

    def is_meant(network: str, around: bool) -> bool:
        """Whether it is chosen itself; without addresses of its own, as all that is in it, or as what is around it."""
        if network in numbers:
            return numbers[network] in chosen
        below = {numbers[child] in chosen for child in tree.children(network) if child in numbers}
        return below.pop() if len(below) == 1 else around

    def visit(network: str, meant: bool, around: str) -> None:
        for child in tree.children(network):
            size, taken = count(child)
            if taken == (size if meant else 0):
                continue  # all of it is as what is around it
            own = is_meant(child, meant)
            if own and not meant:
                inside.append(child)
                but_not[child] = []
            elif meant and not own:
                but_not[around].append(child)
            visit(child, own, child if own and not meant else around)

    visit("", classes[0] == 0, "")
    return tuple(AddressRange(network, tuple(but_not[network])) for network in inside)
