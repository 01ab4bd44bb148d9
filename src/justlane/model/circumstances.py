"""Circumstances: what a condition may ask for, what a situation fixes, and the one table of both.

A new axis of circumstances begins here: its field in `Condition`, its row in `AXES`, what a situation says of it in
`Situation` and `FACTS`. Files, edits, command lines, platforms and words take it from the table; CONTRIBUTING names
the few places that cannot.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from datetime import date, datetime
from enum import StrEnum
from typing import Any

from msgspec import Struct

WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
MINUTES_A_DAY = 24 * 60
MINUTES_A_WEEK = 7 * MINUTES_A_DAY


class Hours(Struct, frozen=True, array_like=True, order=True):
    """A span of the day, in minutes since midnight. It may run over midnight; `start` belongs to it, `end` does not."""

    start: int
    end: int

    def __str__(self) -> str:
        """`22:00-06:00`."""
        return f"{_clock(self.start)}-{_clock(self.end)}"


class Condition(Struct, frozen=True, repr_omit_defaults=True):
    """What must hold for a binding or a ceiling to count. All parts must hold; within a part, any one.

    Written out (`str`), only what it asks for stands there: platforms know a line by that, whatever axes are new.
    """

    networks: tuple[str, ...] = ()
    """CIDR, IPv4 or IPv6; empty for any address."""
    multi_factor: bool | None = None
    methods: tuple[str, ...] = ()
    """Ways to sign in; empty for any."""
    not_networks: tuple[str, ...] = ()
    """CIDR: from none of these; whoever has no address is in none."""
    not_methods: tuple[str, ...] = ()
    """Ways to sign in that it must not be; an unknown one is none of them."""
    weekdays: tuple[int, ...] = ()
    """0 is Monday; empty for any."""
    hours: tuple[Hours, ...] = ()
    """Empty for any hour."""
    time_zone: str = ""
    """IANA name for weekdays and hours; empty for the estate's own."""
    first_day: date | None = None
    last_day: date | None = None
    """Both days included, in the estate's time zone."""
    managed_device: bool | None = None
    signed_in_within: int = 0
    """At most so many minutes ago; 0 for any time. A sign-in at an unknown time is within none."""

    @property
    def circumstantial(self) -> bool:
        """Whether it asks for more than dates."""
        return any(axis.asked(self) for axis in AXES)


ALWAYS = Condition()


class Situation(Struct, frozen=True):
    """One set of circumstances. What is left out: no address, no multi-factor, an unknown method, now, no managed
    device, a sign-in at an unknown time."""

    address: str = ""
    """An IP address; empty for none."""
    multi_factor: bool = False
    method: str = ""
    """Empty for unknown."""
    moment: datetime | None = None
    """With a time zone; None for the time of the question."""
    managed_device: bool = False
    signed_in_ago: int | None = None
    """Minutes since they proved who they are; None for unknown."""


_UNITS = {"minute": 1, "hour": 60, "day": MINUTES_A_DAY, "week": MINUTES_A_WEEK}


def span_of(text: str) -> int:
    """Minutes, from `15 minutes`, `8 hours`, `2 days`, `1 week`. ValueError for anything else."""
    found = re.fullmatch(r"([1-9][0-9]{0,4}) (minute|hour|day|week)s?", text.strip())
    if found is None:
        raise ValueError(f"{text!r} is no span of time such as 15 minutes, 8 hours or 2 days")
    return int(found[1]) * _UNITS[found[2]]


def span_text(minutes: int) -> str:
    """`15 minutes`, `1 hour`: in the largest unit that fits exactly."""
    unit, size = next((u, s) for u, s in reversed(_UNITS.items()) if minutes >= s and minutes % s == 0)
    count = minutes // size
    return f"{count} {unit}{'' if count == 1 else 's'}"


def _texts(value: tuple[str, ...]) -> list[str]:
    return list(value)


def _yes_no(value: bool | None) -> list[str]:
    return [] if value is None else ["yes" if value else "no"]


def _as_it_is(value: Any) -> Any:
    return value


class AxisPart(Struct, frozen=True):
    """One thing that a condition may ask for."""

    field: str
    """Of `Condition`."""
    key: str
    """In the files, and behind `--when`."""
    example: Any
    """A value that it may have: what is drawn for trials, and what tests go through every door with."""
    words: Callable[[Any], list[str]] = _texts
    """Its value as it is written in the files, one word for each of several; none if nothing is asked for."""
    plain: Callable[[Any], Any] = list
    """Its value as platforms keep it, in JSON."""
    single: bool = False
    """Whether it has one value, never a list."""
    implied: str = ""
    """What the key alone means, where a person types it without a value."""


class Axis(Struct, frozen=True):
    """One axis along which circumstances differ."""

    name: str
    """As a platform's abilities name it."""
    parts: tuple[AxisPart, ...]
    said: tuple[str, str] = ("", "")
    """Of an axis with two sides: how *yes* and *no* are put into words."""
    more: tuple[AxisPart, ...] = ()
    """What says how the parts are meant and asks for nothing by itself."""

    def asked(self, condition: Condition) -> bool:
        """Whether a condition asks for something on this axis."""
        return any(part.words(getattr(condition, part.field)) for part in self.parts)


AXES = (
    Axis(
        "network",
        (
            AxisPart("networks", "from network", ("192.0.2.0/24",)),
            AxisPart("not_networks", "not from network", ("192.0.2.0/24",)),
        ),
    ),
    Axis(
        "multi-factor",
        (AxisPart("multi_factor", "multi-factor", True, _yes_no, _as_it_is, single=True, implied="yes"),),
        ("with a second factor", "without a second factor"),
    ),
    Axis(
        "method", (AxisPart("methods", "signed in by", ("key",)), AxisPart("not_methods", "not signed in by", ("pin",)))
    ),
    Axis("weekday", (AxisPart("weekdays", "days", (0, 1), lambda days: [WEEKDAYS[day] for day in days]),)),
    Axis(
        "hours",
        (
            AxisPart(
                "hours",
                "between",
                (Hours(480, 1080),),
                lambda hours: [str(h) for h in hours],
                lambda some: [[h.start, h.end] for h in some],
            ),
        ),
        more=(
            AxisPart(
                "time_zone", "time zone", "Asia/Tokyo", lambda zone: [zone] if zone else [], _as_it_is, single=True
            ),
        ),
    ),
    Axis(
        "managed device",
        (AxisPart("managed_device", "on a managed device", True, _yes_no, _as_it_is, single=True, implied="yes"),),
        ("on a managed device", "on a device that nobody manages"),
    ),
    Axis(
        "sign-in age",
        (
            AxisPart(
                "signed_in_within",
                "signed in within",
                15,
                lambda m: [span_text(m)] if m else [],
                _as_it_is,
                single=True,
            ),
        ),
    ),
)
"""Every axis but dates, which are judged by the day and kept on platforms by aligning."""
CONDITION_PARTS = tuple(part for axis in AXES for part in (*axis.parts, *axis.more))
"""All that a condition may say besides dates."""
SIDES = {axis.parts[0].field: axis.said for axis in AXES if any(axis.said)}
"""The fields of the axes with two sides -> how *yes* and *no* are put into words."""


def parts_of(condition: Condition) -> Iterator[tuple[AxisPart, list[str]]]:
    """What a condition asks for besides dates, each part with its words as in the files."""
    for part in CONDITION_PARTS:
        if words := part.words(getattr(condition, part.field)):
            yield part, words


class Fact(Struct, frozen=True):
    """One thing that a situation fixes, as it is asked on a command line and by a service."""

    field: str
    """Of `Situation`, and in the context of a question to a service."""
    option: str
    help: str
    metavar: str = ""
    """Empty for an option that is said or denied."""

    @property
    def parameter(self) -> str:
        """The name of the option's value in code."""
        return self.option[2:].replace("-", "_")


FACTS = (
    Fact("address", "--from-network", "Coming from this IP address.", "ADDRESS"),
    Fact("multi_factor", "--multi-factor", "Having used a second factor, or not."),
    Fact("method", "--signed-in-by", "Having signed in this way.", "METHOD"),
    Fact("managed_device", "--managed-device", "On a device that is managed, or not."),
    Fact("signed_in_ago", "--signed-in-ago", "Having proved so long ago who they are.", "'N minutes'"),
)
"""The time of a question is not among them: it is asked about in all circumstances, too."""


class Outcome(StrEnum):
    """The three outcomes of a question."""

    YES = "yes"
    ONLY_IF = "only if"
    NO = "no"


def _clock(minutes: int) -> str:
    return f"{minutes // 60:02}:{minutes % 60:02}"


@dataclass(frozen=True, kw_only=True)
class Circumstances:
    """In which circumstances something is asked, in the words of the command line; None for what is not said."""

    situation: str | None = None
    """The name of one that the estate declares."""
    from_network: str | None = None
    """An IP address."""
    multi_factor: bool | None = None
    managed_device: bool | None = None
    signed_in_by: str | None = None
    """A way to sign in."""
    signed_in_ago: str | None = None
    """A span, such as `5 minutes`."""
    at_time: str | None = None
    """YYYY-MM-DD, or with a time; on the estate's clock unless it names a zone."""
    as_role: str | None = None
    """Where people act in one role at a time."""
    as_of: str | None = None
    """What the estate was asked as of: its time counts, unless another one is said."""
