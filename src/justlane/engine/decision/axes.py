"""The axes of circumstances besides addresses: how conditions cut each into classes, and how a situation stands to it.

One cut for each kind of axis: two sides, ways to sign in, the week, how long ago somebody signed in. Which axes there
are, `model.circumstances` says; one with two sides needs nothing here.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Iterable, Iterator, Sequence
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any, Protocol

from msgspec import Struct

from justlane.engine.facts.clock import on_clock
from justlane.model.circumstances import (
    MINUTES_A_DAY,
    MINUTES_A_WEEK,
    SIDES,
    Condition,
    Hours,
    Situation,
)


class TimeRange(Struct, frozen=True):
    """Hours on some weekdays (0 is Monday); no hours means the whole day."""

    days: tuple[int, ...]
    hours: tuple[Hours, ...]


class AgeRange(Struct, frozen=True):
    """How many minutes ago somebody signed in: more than `over`, and at most `within`.

    `within` is None for any longer time, and for one that is not known.
    """

    over: int
    within: int | None


class Cut(Protocol):
    """One axis, cut into classes that the conditions at hand do not tell apart."""

    size: int
    """How many classes."""

    def key(self, condition: Condition) -> object:
        """What a condition asks for here: two with the same ask for the same classes."""

    def chosen(self, condition: Condition) -> Iterable[int]:
        """The classes in which a condition holds."""

    def said(self, classes: Sequence[int]) -> dict[str, Any]:
        """Some of the classes, not all, as fields of a box."""


class Sides:
    """Yes or no. Where no condition asks, there is one class: nothing depends on the side."""

    def __init__(self, field: str, known: Sequence[Condition]) -> None:
        self._field = field
        self.values = (False, True) if any(getattr(c, field) is not None for c in known) else (False,)
        self.size = len(self.values)

    def key(self, condition: Condition) -> object:
        """As `Cut` says."""
        return getattr(condition, self._field)

    def chosen(self, condition: Condition) -> Iterable[int]:
        """As `Cut` says."""
        asked = getattr(condition, self._field)
        return [number for number, value in enumerate(self.values) if asked in (None, value)]

    def said(self, classes: Sequence[int]) -> dict[str, Any]:
        """As `Cut` says."""
        return {"sides": ((self._field, self.values[classes[0]]),)}


class Methods:
    """Ways to sign in that a condition names; the last class, the empty name, is any other."""

    def __init__(self, known: Sequence[Condition]) -> None:
        self.names = (*sorted({m for c in known for m in (*c.methods, *c.not_methods)}), "")
        self.size = len(self.names)

    def key(self, condition: Condition) -> object:
        """As `Cut` says."""
        return condition.methods, condition.not_methods

    def chosen(self, condition: Condition) -> Iterable[int]:
        """As `Cut` says."""
        return [number for number, name in enumerate(self.names) if _passes(name, condition)]

    def said(self, classes: Sequence[int]) -> dict[str, Any]:
        """As `Cut` says."""
        named = [self.names[number] for number in classes]
        if "" not in named:
            return {"methods": tuple(named)}
        others = tuple(name for name in self.names if name and name not in named)
        return {"methods": others, "other_methods": bool(others)}


def _passes(method: str, condition: Condition) -> bool:
    return method not in condition.not_methods and (not condition.methods or method in condition.methods)


class Week:
    """The minutes of the week on the estate's clock.

    A condition in another zone is moved by the difference between the two clocks at the moment of the question.
    """

    def __init__(self, known: Sequence[Condition], moment: datetime, zone: str) -> None:
        self._moment, self._zone = moment, zone
        clocks = dict.fromkeys(_clock_of(c) for c in known if c.weekdays or c.hours)
        spans = {clock: tuple(self._weekly(*clock)) for clock in clocks}
        number = {some: bit for bit, some in enumerate(dict.fromkeys(spans.values()))}
        self._bits = {clock: number[some] for clock, some in spans.items()}
        classes = _time_classes(list(number))
        self.classes, self._holding = list(classes.values()), list(classes)
        self.size = len(self.classes)

    def key(self, condition: Condition) -> object:
        """As `Cut` says."""
        return _clock_of(condition)

    def chosen(self, condition: Condition) -> Iterable[int]:
        """As `Cut` says."""
        bit = self._bits.get(_clock_of(condition))
        if bit is None:
            return range(self.size)
        return [number for number, holding in enumerate(self._holding) if holding >> bit & 1]

    def said(self, classes: Sequence[int]) -> dict[str, Any]:
        """As `Cut` says."""
        return {"times": _by_day(span for number in classes for span in self.classes[number])}

    def _weekly(self, weekdays: tuple[int, ...], hours: tuple[Hours, ...], zone: str) -> Spans:
        """The spans of a clock in minutes of the estate's week, from Monday midnight, none over its end."""
        # at this moment: where a clock is put forward in the week to come, the spans of a week are those of
        # now
        shift = _offset(self._moment, self._zone) - _offset(self._moment, zone or self._zone)
        spans: list[tuple[int, int]] = []
        for day in weekdays or range(7):
            for start, end in [(h.start, h.end) for h in hours] or [(0, MINUTES_A_DAY)]:
                # over midnight the early part belongs to the same weekday, as the page on conditions
                # says
                parts = [(start, end)] if start < end else [(0, end), (start, MINUTES_A_DAY)]
                spans += [(day * MINUTES_A_DAY + a + shift, day * MINUTES_A_DAY + b + shift) for a, b in parts if a < b]
        return [piece for a, b in spans for piece in _inside_the_week(a % MINUTES_A_WEEK, b - a)]


class Ages:
    """How long ago somebody signed in, cut where a condition's window ends; the last class is longer, or unknown."""

    def __init__(self, known: Sequence[Condition]) -> None:
        self.windows = sorted({c.signed_in_within for c in known if c.signed_in_within})
        self.size = len(self.windows) + 1

    def key(self, condition: Condition) -> object:
        """As `Cut` says."""
        return condition.signed_in_within

    def chosen(self, condition: Condition) -> Iterable[int]:
        """As `Cut` says."""
        asked = condition.signed_in_within
        return range(bisect_left(self.windows, asked) + 1) if asked else range(self.size)

    def said(self, classes: Sequence[int]) -> dict[str, Any]:
        """As `Cut` says."""
        edges: list[int | None] = [0, *self.windows, None]
        ranges: list[AgeRange] = []
        for number in classes:
            over, within = edges[number], edges[number + 1]
            if ranges and ranges[-1].within == over:
                over = ranges.pop().over  # next to each other: one range
            ranges.append(AgeRange(over or 0, within))
        return {"signed_in": tuple(ranges)}


def cut(known: Sequence[Condition], moment: datetime, zone: str) -> tuple[Cut, ...]:
    """Each axis, as some conditions cut it at a moment, on the clock of the estate's time zone."""
    return (*(Sides(field, known) for field in SIDES), Methods(known), Week(known, moment, zone), Ages(known))


def holds_in(asked: Condition, given: Situation) -> bool:
    """Whether a condition holds in a situation, as far as it asks for more than addresses, times and dates."""
    recent = given.signed_in_ago is not None and given.signed_in_ago <= asked.signed_in_within
    return (
        all(getattr(asked, field) in (None, getattr(given, field)) for field in SIDES)
        and _passes(given.method, asked)
        and (not asked.signed_in_within or recent)
    )


Clock = tuple[tuple[int, ...], tuple[Hours, ...], str]
"""Weekdays, hours and the time zone that a condition asks for."""


def _clock_of(condition: Condition) -> Clock:
    return condition.weekdays, condition.hours, condition.time_zone


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


def _time_classes(conditions: Sequence[Spans]) -> dict[int, list[tuple[int, int]]]:
    """The week cut into classes: minutes that no condition tells apart, each as its stretches.

    By the conditions that hold there, one bit for each.
    """
    turns: dict[int, int] = {0: 0, MINUTES_A_WEEK: 0}
    for number, spans in enumerate(conditions):
        for minute in _edges(spans):
            # a bit for each condition that begins or ends here; two that turn at one minute are one edge
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
    return classes


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


def _by_day(spans: Iterable[tuple[int, int]]) -> tuple[TimeRange, ...]:
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
