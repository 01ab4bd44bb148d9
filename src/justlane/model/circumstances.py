"""Circumstances: what a condition may ask for, and what a situation fixes."""

from __future__ import annotations

from datetime import date, datetime
from enum import StrEnum

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


class Condition(Struct, frozen=True):
    """What must hold for a binding or a ceiling to count. All parts must hold; within a part, any one."""

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

    @property
    def circumstantial(self) -> bool:
        """Whether it asks for more than dates."""
        asked = (self.networks, self.not_networks, self.methods, self.not_methods, self.weekdays, self.hours)
        return any(asked) or self.multi_factor is not None


ALWAYS = Condition()


class Situation(Struct, frozen=True):
    """One set of circumstances. What is left out: no address, no multi-factor, an unknown method, now."""

    address: str = ""
    """An IP address; empty for none."""
    multi_factor: bool = False
    method: str = ""
    """Empty for unknown."""
    moment: datetime | None = None
    """With a time zone; None for the time of the question."""


class Outcome(StrEnum):
    """The three outcomes of a question."""

    YES = "yes"
    ONLY_IF = "only if"
    NO = "no"


def _clock(minutes: int) -> str:
    return f"{minutes // 60:02}:{minutes % 60:02}"
