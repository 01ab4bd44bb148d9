"""Sets of circumstances, exactly.

A *space* cuts the circumstances (address × each of the other axes, `axes.cut`) into regions that the conditions at hand
cannot tell apart. A set of circumstances is an integer with one bit a region: "and", "or" and "not" are those
of integers, and what is worked out once in these sets is right in every region. A situation is a space with a single
region, so that the same decision gives a plain yes or no.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from math import prod
from typing import Protocol

from msgspec.structs import replace

from justlane.engine.decision.axes import Cut, cut, holds_in
from justlane.engine.decision.networks import NetworkTree
from justlane.engine.facts.clock import on_clock
from justlane.model.circumstances import Condition, Situation
from justlane.model.errors import UsageError

MOST_REGIONS = 1 << 24
"""A question whose circumstances are cut into more regions than this is refused, never answered roughly."""
_MOST_KEPT = 64 << 20
"""Bytes of sets that are kept, so that they need not be made again."""


class Space(Protocol):
    """Circumstances at one moment, cut into regions."""

    full: int
    """The set of all regions."""

    def of(self, condition: Condition) -> int:
        """The regions in which a condition holds."""


def in_dates(condition: Condition, moment: datetime, zone: str) -> bool:
    """Whether a moment's day in a time zone lies between the condition's first and last day, both included."""
    if condition.first_day is None and condition.last_day is None:
        return True
    today = on_clock(moment, zone).date()
    after = condition.first_day is None or condition.first_day <= today
    return after and (condition.last_day is None or today <= condition.last_day)


class SituationSpace:
    """One situation: a single region, where every condition holds or does not."""

    full = 1

    def __init__(self, situation: Situation, moment: datetime, time_zone: str, dated: datetime | None = None) -> None:
        self._situation = situation
        self._moment = situation.moment or moment
        self._dated = dated or self._moment
        self._zone = time_zone
        self._known: dict[Condition, int] = {}

    def of(self, condition: Condition) -> int:
        """1 if the condition holds in the situation, 0 otherwise."""
        if condition not in self._known:
            self._known[condition] = self._judged(condition)
        return self._known[condition]

    def _judged(self, condition: Condition) -> int:
        asked, given = condition, self._situation
        return int(
            in_dates(asked, self._dated, self._zone)
            and holds_in(asked, given)
            and (not asked.networks or NetworkTree(asked.networks).holds(given.address))
            and not NetworkTree(asked.not_networks).holds(given.address)
            and self._on_time(asked)
        )

    def _on_time(self, condition: Condition) -> bool:
        if not condition.weekdays and not condition.hours:
            return True
        local = on_clock(self._moment, condition.time_zone or self._zone)
        minute = local.hour * 60 + local.minute
        on_day = not condition.weekdays or local.weekday() in condition.weekdays
        return on_day and (not condition.hours or any(within(minute, h.start, h.end) for h in condition.hours))


class OnClock:
    """A space that several clocks share, as the estate with one of them sees it: what a condition leaves to the estate
    is its own time zone, and so are the days on which dates are judged."""

    def __init__(self, space: CircumstanceSpace, dated: datetime, zone: str) -> None:
        self.space, self.full = space, space.full
        self._dated, self._zone = dated, zone

    def of(self, condition: Condition) -> int:
        """The regions in which a condition holds."""
        return self.space.of(on_its_clock(condition, self._zone)) if in_dates(condition, self._dated, self._zone) else 0


def on_its_clock(condition: Condition, zone: str) -> Condition:
    """A condition without dates, with its time zone spelt out."""
    return replace(condition, time_zone=condition.time_zone or zone, first_day=None, last_day=None)


def within(minute: int, start: int, end: int) -> bool:
    """Whether a minute of the day lies in a span that may run over midnight. Equal ends mean the whole day."""
    if start < end:
        return start <= minute < end
    return minute >= start or minute < end


class CircumstanceSpace:
    """All circumstances, as far as some conditions can tell them apart.

    The bits of a set stand in blocks of whole bytes, one for each class of addresses: what a condition asks besides
    networks is the same in every block.
    """

    def __init__(self, conditions: Iterable[Condition], moment: datetime, time_zone: str) -> None:
        self._zone, self._moment = time_zone, moment
        known = [c for c in dict.fromkeys(conditions) if c.circumstantial]
        self.networks = NetworkTree(sorted({n for c in known for n in (*c.networks, *c.not_networks)}))
        self.axes: tuple[Cut, ...] = cut(known, moment, time_zone)
        """The axes besides addresses, the last one varying fastest from bit to bit."""
        self.sizes = (len(self.networks.classes), *(axis.size for axis in self.axes))
        block = prod(self.sizes[1:])
        if self.sizes[0] * block > MOST_REGIONS:
            message = f"the conditions here cut the circumstances into {self.sizes[0] * block:,} regions"
            hint = "ask for one situation: --situation, --from-network and so on"
            raise UsageError(f"{message}, more than {MOST_REGIONS:,}", hint)
        self.block_bytes = -(-block // 8)
        """Bytes of the block of each class of addresses."""
        self.strides = (8 * self.block_bytes, *strides_of(self.sizes[1:]))
        self.full = self._repeated((1 << block) - 1)
        self._sets: dict[Condition, int] = {}
        self._blocks: dict[object, int] = {}

    def of(self, condition: Condition) -> int:
        """The regions in which a condition holds. It must be one of those that the space was made for."""
        if condition in self._sets:
            return self._sets[condition]
        found = self._regions(condition)
        # a thousand networks make sets of megabytes: beyond the limit they are made anew rather than fill the
        # memory
        if (len(self._sets) + 1) * self.sizes[0] * self.block_bytes < _MOST_KEPT:
            self._sets[condition] = found
        return found

    def _regions(self, condition: Condition) -> int:
        if not in_dates(condition, self._moment, self._zone):
            return 0
        if not condition.circumstantial:
            return self.full
        # what lies in a network that is left out is taken away last: it wins over a wider network that is
        # asked for
        block = self._block(condition)
        found = self._in_networks(block, condition.networks) if condition.networks else self._repeated(block)
        return found & ~self._in_networks(block, condition.not_networks)

    def _in_networks(self, block: int, networks: Sequence[str]) -> int:
        """The same block for every class of addresses that lies in one of some networks."""
        found = 0
        for first, end in sorted({self.networks.span(text) for text in networks}):
            found |= self._repeated(block, end - first) << (first * self.strides[0])
        return found

    def _repeated(self, block: int, times: int | None = None) -> int:
        """The same block for several classes of addresses, or for all."""
        if times == 1:
            return block
        # through bytes: shifting a large integer for each class would copy all of it each time
        content = block.to_bytes(self.block_bytes, "little")
        return int.from_bytes(content * (self.sizes[0] if times is None else times), "little")

    def _block(self, condition: Condition) -> int:
        """What a condition asks besides networks, as the block of one class of addresses."""
        key = tuple(axis.key(condition) for axis in self.axes)
        if key not in self._blocks:
            self._blocks[key] = box(self.strides[1:], [axis.chosen(condition) for axis in self.axes])
        return self._blocks[key]


def strides_of(sizes: Sequence[int]) -> tuple[int, ...]:
    """How far apart the bits of neighbouring classes are on each axis, where the last one varies fastest."""
    return tuple(prod(sizes[axis + 1 :]) for axis in range(len(sizes)))


def box(strides: Sequence[int], chosen: Sequence[Iterable[int]]) -> int:
    """The bits with one of the chosen numbers on each axis."""
    block = 1
    for stride, numbers in zip(reversed(strides), reversed(chosen), strict=True):
        spread = 0
        for number in numbers:
            spread |= block << (number * stride)
        block = spread
    return block
