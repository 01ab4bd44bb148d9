"""Moments on the clocks of time zones, and the days on which one clock is set otherwise beside another."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime, time, timedelta
from functools import lru_cache

from justlane.model.circumstances import Condition

_AHEAD_DAYS = 366
"""So far ahead clocks are looked at: rules about summer time come back every year."""


def on_clock(moment: datetime, zone: str) -> datetime:
    """A moment on the clock of a time zone."""
    from zoneinfo import ZoneInfo  # not worth its import while no condition asks for the time

    return moment.astimezone(ZoneInfo(zone))


def noon(day: date, zone: str) -> datetime:
    """The middle of a day in a time zone."""
    from zoneinfo import ZoneInfo

    return datetime.combine(day, time(12), ZoneInfo(zone))


def turning_days(conditions: Iterable[Condition], ends: Iterable[date | None], after: date, zone: str) -> list[date]:
    """The days after one on which a condition begins or ends to count, in order; each of `ends` is a last day.

    For hours in another zone than the estate's, days on which the two clocks stand otherwise beside each other than the
    day before, up to a year ahead.
    """
    found = {last + timedelta(days=1) for last in ends if last}
    zones = set()
    for condition in conditions:
        if condition.first_day:
            found.add(condition.first_day)
        if condition.last_day:
            found.add(condition.last_day + timedelta(days=1))
        if condition.time_zone and (condition.hours or condition.weekdays):
            zones.add(condition.time_zone)
    turns = (day for other in zones - {zone} for day in _shifts(zone, other, after))
    return sorted(day for day in {*found, *turns} if day > after)


@lru_cache(maxsize=256)
def _shifts(zone: str, other: str, after: date) -> tuple[date, ...]:
    """The days of the year after one on which two clocks are another span apart than on the day before."""
    days = [after + timedelta(days=n) for n in range(_AHEAD_DAYS + 1)]
    spans = [_between(day, zone, other) for day in days]
    return tuple(day for day, was, now in zip(days[1:], spans, spans[1:], strict=False) if was != now)


def _between(day: date, zone: str, other: str) -> timedelta | None:
    here, there = noon(day, zone).utcoffset(), on_clock(noon(day, zone), other).utcoffset()
    return None if here is None or there is None else here - there
