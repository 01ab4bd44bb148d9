"""Sets of circumstances, exactly.

A *space* cuts the circumstances (address × multi-factor × method × minute of the week) into regions that the conditions
at hand cannot tell apart. A set of circumstances is an integer with one bit a region: "and", "or" and "not" are those
of integers, and what is worked out once in these sets is right in every region. A situation is a space with a single
region, so that the same decision gives a plain yes or no.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Protocol

from msgspec.structs import replace

from justlane.engine.decision.networks import NetworkTree
from justlane.engine.facts.clock import on_clock
from justlane.model.circumstances import MINUTES_A_DAY, MINUTES_A_WEEK, Condition, Hours, Situation
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
            and (asked.multi_factor is None or asked.multi_factor == given.multi_factor)
            and (not asked.methods or given.method in asked.methods)
            and given.method not in asked.not_methods
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

    Weekdays and hours are laid out on the week of the estate's time zone; a condition in another zone is moved by
    the difference between the two clocks at the moment of the question. The bits of a set stand in blocks of whole
    bytes, one for each class of addresses: what a condition asks besides networks is the same in every block.
    """

    def __init__(self, conditions: Iterable[Condition], moment: datetime, time_zone: str) -> None:
        self._zone, self._moment = time_zone, moment
        known = [c for c in dict.fromkeys(conditions) if c.circumstantial]
        self.networks = NetworkTree(sorted({n for c in known for n in (*c.networks, *c.not_networks)}))
        self.methods = (*sorted({m for c in known for m in (*c.methods, *c.not_methods)}), "")
        self.factors = (False, True) if any(c.multi_factor is not None for c in known) else (False,)
        clocks = dict.fromkeys(_clock_of(c) for c in known if c.weekdays or c.hours)
        self._weeks = {clock: tuple(self._weekly(*clock)) for clock in clocks}
        self.times = _time_classes(list(dict.fromkeys(self._weeks.values())))
        self.sizes = (len(self.networks.classes), len(self.factors), len(self.methods), len(self.times))
        block = self.sizes[1] * self.sizes[2] * self.sizes[3]
        if self.sizes[0] * block > MOST_REGIONS:
            message = f"the conditions here cut the circumstances into {self.sizes[0] * block:,} regions"
            hint = "ask for one situation: --situation, --from-network and so on"
            raise UsageError(f"{message}, more than {MOST_REGIONS:,}", hint)
        self.block_bytes = -(-block // 8)
        """Bytes of the block of each class of addresses."""
        self.strides = (8 * self.block_bytes, self.sizes[2] * self.sizes[3], self.sizes[3], 1)
        self.full = self._repeated((1 << block) - 1)
        self._sets: dict[Condition, int] = {}
        self._blocks: dict[object, int] = {}

    def of(self, condition: Condition) -> int:
        """The regions in which a condition holds. It must be one of those that the space was made for."""
        if condition in self._sets:
            return self._sets[condition]
        found = self._regions(condition)
        if (len(self._sets) + 1) * self.sizes[0] * self.block_bytes < _MOST_KEPT:
            self._sets[condition] = found
        return found

    def _regions(self, condition: Condition) -> int:
        if not in_dates(condition, self._moment, self._zone):
            return 0
        if not condition.circumstantial:
            return self.full
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
        content = block.to_bytes(self.block_bytes, "little")
        return int.from_bytes(content * (self.sizes[0] if times is None else times), "little")

    def _block(self, condition: Condition) -> int:
        """What a condition asks besides networks, as the block of one class of addresses."""
        clock = _clock_of(condition)
        key = (condition.multi_factor, condition.methods, condition.not_methods, clock)
        if key not in self._blocks:
            spans = self._weeks.get(clock)
            chosen = (
                [n for n, used in enumerate(self.factors) if condition.multi_factor in (None, used)],
                [n for n, name in enumerate(self.methods) if is_meant(name, condition)],
                [n for n, some in enumerate(self.times) if spans is None or _holds(spans, some[0][0])],
            )
            self._blocks[key] = box(self.strides[1:], chosen)
        return self._blocks[key]

    def _weekly(self, weekdays: tuple[int, ...], hours: tuple[Hours, ...], zone: str) -> Spans:
        """The spans of a clock in minutes of the estate's week, from Monday midnight, none over its end."""
        shift = _offset(self._moment, self._zone) - _offset(self._moment, zone or self._zone)
        spans: list[tuple[int, int]] = []
        for day in weekdays or range(7):
            for start, end in [(h.start, h.end) for h in hours] or [(0, MINUTES_A_DAY)]:
                parts = [(start, end)] if start < end else [(0, end), (start, MINUTES_A_DAY)]
                spans += [(day * MINUTES_A_DAY + a + shift, day * MINUTES_A_DAY + b + shift) for a, b in parts if a < b]
        return [piece for a, b in spans for piece in _inside_the_week(a % MINUTES_A_WEEK, b - a)]


Clock = tuple[tuple[int, ...], tuple[Hours, ...], str]
"""Weekdays, hours and the time zone that a condition asks for."""


def _clock_of(condition: Condition) -> Clock:
    return condition.weekdays, condition.hours, condition.time_zone


def is_meant(method: str, condition: Condition) -> bool:
    """Whether a condition lets a way to sign in pass; the empty one is any that is not named."""
    return method not in condition.not_methods and (not condition.methods or method in condition.methods)


def box(strides: Sequence[int], chosen: Sequence[Iterable[int]]) -> int:
    """The bits with one of the chosen numbers on each axis."""
    block = 1
    for stride, numbers in zip(reversed(strides), reversed(chosen), strict=True):
        spread = 0
        for number in numbers:
            spread |= block << (number * stride)
        block = spread
    return block


Spans = Sequence[tuple[int, int]]
"""Stretches of the week in minutes from Monday midnight; the end does not belong to them."""


def _offset(moment: datetime, zone: str) -> int:
    """Minutes that a zone's clock is ahead of UTC at a moment."""
    ahead = on_clock(moment, zone).utcoffset() or timedelta()
    return int(ahead.total_seconds()) // 60


def _inside_the_week(start: int, length: int) -> list[tuple[int, int]]:
    end = start + length
    if end <= MINUTES_A_WEEK:
        return [(start, end)]
    return [(start, MINUTES_A_WEEK), (0, end - MINUTES_A_WEEK)]


def _holds(spans: Spans, minute: int) -> bool:
    return any(start <= minute < end for start, end in spans)


def _time_classes(conditions: Sequence[Spans]) -> list[Spans]:
    """The week cut into classes: minutes that no condition tells apart, each as its stretches."""
    turns: dict[int, int] = {0: 0, MINUTES_A_WEEK: 0}
    for number, spans in enumerate(conditions):
        for minute in _edges(spans):
            turns[minute] = turns.get(minute, 0) ^ (1 << number)
    classes: dict[int, list[tuple[int, int]]] = {}
    holding = 0
    for start, end in pairwise(sorted(turns)):
        holding ^= turns[start]
        some = classes.setdefault(holding, [])
        if some and some[-1][1] == start:
            some[-1] = (some[-1][0], end)
        else:
            some.append((start, end))
    return list(classes.values())


def _edges(spans: Spans) -> Iterator[int]:
    """Where some stretches, taken together, begin and end."""
    reach = -1
    for start, end in sorted(spans):
        if start > reach:
            if reach >= 0:
                yield reach
            yield start
        reach = max(reach, end)
    if reach >= 0:
        yield reach
