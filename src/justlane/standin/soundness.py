"""What a stand-in takes in: nothing that its own later decisions would choke on."""

from __future__ import annotations

import re
from datetime import date
from ipaddress import ip_network
from typing import Any
from zoneinfo import ZoneInfo

from justlane.standin.site import Binding, Ceiling, Condition, Group, LocalGroup

_PRINCIPAL = re.compile(r"(?:user|group|local group) \S.*|authenticated|anonymous")
_LONGEST = 1000


def require_sound(name: str, entry: Any) -> None:
    """ValueError, in words, if a name or an entry makes no sense."""
    if not name or len(name) > _LONGEST or name in (".", ".."):
        raise ValueError(f"a name has 1 to {_LONGEST} characters, and is no step of an address")
    if isinstance(entry, Group | LocalGroup) and not all(_PRINCIPAL.fullmatch(member) for member in entry.members):
        raise ValueError("members are `user NAME` or `group NAME`")
    if isinstance(entry, LocalGroup):
        for day in entry.until.values():
            date.fromisoformat(day)
    if isinstance(entry, Binding | Ceiling):
        named = [entry.principal, *(entry.but_not if isinstance(entry, Ceiling) else ())]
        if not all(_PRINCIPAL.fullmatch(principal) for principal in named):
            raise ValueError("a principal is `user NAME`, `group NAME`, `authenticated` or `anonymous`")
        _require_condition(entry.condition)


def _require_condition(condition: Condition) -> None:
    for network in (*condition.networks, *condition.not_networks):
        ip_network(network)
    if condition.signed_in_within < 0:
        raise ValueError("signed_in_within is a number of minutes, or 0 for any time")
    if not all(0 <= day <= 6 for day in condition.weekdays):
        raise ValueError("weekdays are 0 (Monday) to 6")
    for span in condition.hours:
        if len(span) != 2 or not all(0 <= minute <= 1440 for minute in span):
            raise ValueError("hours are [start, end], in minutes since midnight")
    for day in (condition.first_day, condition.last_day):
        if day:
            date.fromisoformat(day)
    require_time_zone(condition.time_zone or "UTC")


def require_time_zone(name: str) -> None:
    """ValueError if there is no such time zone."""
    try:
        ZoneInfo(name)
    except (KeyError, ValueError, OSError) as error:
        raise ValueError(f"there is no time zone {name!r}") from error
