"""Sets of circumstances, exactly.

A *space* cuts the circumstances (address × multi-factor × method × minute of the week) into regions that the conditions
at hand cannot tell apart. A set of circumstances is an integer with one bit a region: "and", "or" and "not" are those
of integers, and what is worked out once in these sets is right in every region. A situation is a space with a single
region, so that the same decision gives a plain yes or no.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Protocol

from justlane.engine.networks import NetworkTree
from justlane.model.circumstances import MINUTES_A_DAY, MINUTES_A_WEEK, Condition, Situation
from justlane.model.errors import UsageError

MOST_REGIONS = 1 << 24
"""A question whose circumstances are cut into more regions than this is refused, never answered roughly."""


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


def on_clock(moment: datetime, zone: str) -> datetime:
    """A moment on the clock of a time zone."""
    from zoneinfo import ZoneInfo  # not worth its import while no condition asks for the time

    return moment.astimezone(ZoneInfo(zone))


class SituationSpace:
    """One situation: a single region, where every condition holds or does not."""

    full = 1

    def __init__(self, situation: Situation, moment: datetime, time_zone: str) -> None:
        self._situation = situation
        self._moment = situation.moment or moment
        self._zone = time_zone

    def of(self, condition: Condition) -> int:
        """1 if the condition holds in the situation, 0 otherwise."""
        asked, given = condition, self._situation
        return int(
            in_dates(asked, self._moment, self._zone)
            and (asked.multi_factor is None or asked.multi_factor == given.multi_factor)
            and (not asked.methods or given.method in asked.methods)
            and (not asked.networks or NetworkTree(asked.networks).holds(given.address))
            and self._on_time(asked)
        )

    def _on_time(self, condition: Condition) -> bool:
        if not condition.weekdays and not condition.hours:
            return True
        local = on_clock(self._moment, condition.time_zone or self._zone)
        minute = local.hour * 60 + local.minute
        on_day = not condition.weekdays or local.weekday() in condition.weekdays
        return on_day and (not condition.hours or any(within(minute, h.start, h.end) for h in condition.hours))


def within(minute: int, start: int, end: int) -> bool:
    """Whether a minute of the day lies in a span that may run over midnight. Equal ends mean the whole day."""
    if start < end:
        return start <= minute < end
    return minute >= start or minute < end


class CircumstanceSpace:
    """All circumstances, as far as some conditions can tell them apart.

    Weekdays and hours are laid out on the week of the estate's time zone; a condition in another zone is moved by
    the difference between the two clocks at the moment of the question.
    """

    def __init__(self, conditions: Iterable[Condition], moment: datetime, time_zone: str) -> None:
        self._zone, self._moment = time_zone, moment
        known = [c for c in dict.fromkeys(conditions) if c.circumstantial]
        self.networks = NetworkTree(tuple(dict.fromkeys(n for c in known for n in c.networks)))
        self.methods = (*dict.fromkeys(m for c in known for m in c.methods), "")
        self.factors = (False, True) if any(c.multi_factor is not None for c in known) else (False,)
        self._spans = {c: self._weekly(c) for c in known if c.weekdays or c.hours}
        self.times = _time_classes(list(self._spans.values()))
        self.sizes = (len(self.networks.classes), len(self.factors), len(self.methods), len(self.times))
        regions = self.sizes[0] * self.sizes[1] * self.sizes[2] * self.sizes[3]
        if regions > MOST_REGIONS:
            message = f"the conditions here cut the circumstances into {regions:,} regions, more than {MOST_REGIONS:,}"
            raise UsageError(message, "ask for one situation: --situation, --from-network and so on")
        self.strides = (regions // self.sizes[0], self.sizes[2] * self.sizes[3], self.sizes[3], 1)
        self.full = (1 << regions) - 1
        self._sets: dict[Condition, int] = {}

    def of(self, condition: Condition) -> int:
        """The regions in which a condition holds. It must be one of those that the space was made for."""
        if condition not in self._sets:
            self._sets[condition] = self._regions(condition)
        return self._sets[condition]

    def _regions(self, condition: Condition) -> int:
        if not in_dates(condition, self._moment, self._zone):
            return 0
        if not condition.circumstantial:
            return self.full
        spans = self._spans.get(condition)
        return self.box(
            (
                self.networks.classes_in(condition.networks),
                [n for n, used in enumerate(self.factors) if condition.multi_factor in (None, used)],
                [n for n, name in enumerate(self.methods) if not condition.methods or name in condition.methods],
                [n for n, some in enumerate(self.times) if spans is None or _holds(spans, some[0][0])],
            )
        )

    def box(self, chosen: Sequence[Iterable[int]]) -> int:
        """The regions with one of the chosen classes on each axis (address, multi-factor, method, time)."""
        block = 1
        for stride, classes in zip(reversed(self.strides), reversed(chosen), strict=True):
            spread = 0
            for number in classes:
                spread |= block << (number * stride)
            block = spread
        return block

    def _weekly(self, condition: Condition) -> list[tuple[int, int]]:
        """The spans of a condition in minutes of the estate's week, from Monday midnight, none over its end."""
        offsets = [_offset(self._moment, zone) for zone in (self._zone, condition.time_zone or self._zone)]
        shift = offsets[0] - offsets[1]
        spans: list[tuple[int, int]] = []
        hours = [(h.start, h.end) for h in condition.hours] or [(0, MINUTES_A_DAY)]
        for day in condition.weekdays or range(7):
            for start, end in hours:
                parts = [(start, end)] if start < end else [(0, end), (start, MINUTES_A_DAY)]
                spans += [(day * MINUTES_A_DAY + a + shift, day * MINUTES_A_DAY + b + shift) for a, b in parts if a < b]
        return [piece for a, b in spans for piece in _inside_the_week(a % MINUTES_A_WEEK, b - a)]


Spans = list[tuple[int, int]]
"""Stretches of the week in minutes from Monday midnight; the end does not belong to them."""


def _offset(moment: datetime, zone: str) -> int:
    """Minutes that a zone's clock is ahead of UTC at a moment."""
    ahead = on_clock(moment, zone).utcoffset() or timedelta()
    return int(ahead.total_seconds()) // 60


def _inside_the_week(start: int, length: int) -> Spans:
    end = start + length
    if end <= MINUTES_A_WEEK:
        return [(start, end)]
    return [(start, MINUTES_A_WEEK), (0, end - MINUTES_A_WEEK)]


def _holds(spans: Spans, minute: int) -> bool:
    return any(start <= minute < end for start, end in spans)


def _time_classes(conditions: list[Spans]) -> list[Spans]:
    """The week cut into classes: minutes that no condition tells apart, each as its stretches."""
    cuts = sorted({0, MINUTES_A_WEEK, *(minute for spans in conditions for span in spans for minute in span)})
    classes: dict[tuple[bool, ...], Spans] = {}
    for start, end in pairwise(cuts):
        some = classes.setdefault(tuple(_holds(spans, start) for spans in conditions), [])
        if some and some[-1][1] == start:
            some[-1] = (some[-1][0], end)
        else:
            some.append((start, end))
    return list(classes.values())
