"""In which circumstances something is asked, from the words that a person says.

The errors speak in the words of the command line, where most of them are read.
"""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import msgspec

from justlane.engine.decision.judge import Question
from justlane.model.circumstances import FACTS, Circumstances, Situation, span_of
from justlane.model.errors import UsageError
from justlane.model.estate import Estate, RolesHeld
from justlane.model.names import did_you_mean
from justlane.model.scopes import platform_of

_FORMS = ("%Y-%m-%d", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S%z")

FIXING = ("situation", *(fact.parameter for fact in FACTS))
"""Those that say something of the situation."""
NAMES = (*FIXING, "at_time", "as_role")
"""All words that say in which circumstances."""


def now() -> datetime:
    """This moment."""
    return datetime.now(UTC)


def question(estate: Estate, given: Circumstances, place: str | None = None) -> Question:
    """The circumstances that the options describe: none given asks for all of them.

    `place` is an address on the platform that is asked about, where only one is.
    """
    moment, timed, day = now(), False, None
    if given.at_time:
        named, timed = _moment(given.at_time, estate)
        moment, day = (named, None) if timed else (moment, named)
    elif given.as_of and estate.people is not None:
        from justlane.files.history.past import moment_named

        moment = min(moment_named(given.as_of) or estate.people.taken, moment)
    fixed = timed or any(getattr(given, name) is not None for name in FIXING)
    situation = _named(estate, given.situation) if given.situation else Situation()
    changes: dict[str, Any] = {}
    for fact in FACTS:
        if getattr(given, fact.parameter) is not None:
            changes[fact.field] = getattr(given, fact.parameter)
    changes |= {field: read(changes[field]) for field, read in _READ.items() if field in changes}
    if timed:
        changes["moment"] = moment
    return Question(
        moment,
        msgspec.structs.replace(situation, **changes) if fixed else None,
        _role(estate, given.as_role, place),
        day,
    )


def on_day(estate: Estate, at_time: str | None, as_of: str | None = None) -> Question:
    """All circumstances, on the day that is named, or that of what the estate was asked as of, or today."""
    asked = question(estate, Circumstances(at_time=at_time, as_of=as_of))
    return Question(asked.moment, day=asked.dated)


def _named(estate: Estate, name: str) -> Situation:
    if name not in estate.situations:
        hint = did_you_mean(name, estate.situations, "the estate declares none of that kind")
        raise UsageError(f"--situation: there is no situation {name!r}", hint)
    return estate.situations[name]


def _address(text: str) -> str:
    from ipaddress import ip_address

    try:
        return str(ip_address(text))
    except ValueError:
        raise UsageError(f"--from-network: {text!r} is not an IP address", "write one, such as 192.0.2.7") from None


def _ago(text: str) -> int:
    try:
        return span_of(text)
    except ValueError as error:
        raise UsageError(f"--signed-in-ago: {error}", "write it like '5 minutes'") from None


_READ: dict[str, Callable[[Any], Any]] = {"address": _address, "signed_in_ago": _ago}
"""How what somebody types is meant, where it is not what it says."""


def _role(estate: Estate, role: str | None, place: str | None) -> str:
    """The role to act in. It must be one of a platform where people act in one at a time."""
    if role is None:
        return ""
    single = [p for p in estate.platforms.values() if p.habits.roles_held is RolesHeld.ONE_AT_A_TIME]
    if place is None or platform_of(place) not in estate.platforms:
        if [p.name for p in single] != list(estate.platforms):
            named = ", ".join(p.name for p in single) or "there is none"
            hint = f"people act in one role at a time on: {named}"
            raise UsageError("--as-role: it is not clear on which platform; name a scope or a platform", hint)
        platforms = single
    else:
        platform = estate.platforms[platform_of(place)]
        if platform not in single:
            hint = "leave --as-role out: all of somebody's roles count there"
            raise UsageError(f"--as-role: on {platform.name} roles are held together", hint)
        platforms = [platform]
    roles = {name for platform in platforms for name in platform.roles}
    names = {platform.name for platform in platforms}
    roles |= {f"bundle {bundle}" for bundle, on in estate.bundles.items() if on & names}
    if role not in roles:
        raise UsageError(f"--as-role: there is no role {role!r} there", did_you_mean(role, roles))
    return role


def _moment(text: str, estate: Estate) -> tuple[datetime, bool]:
    """A time, and whether it says more than the day."""
    from zoneinfo import ZoneInfo

    for form in _FORMS:
        try:
            moment = datetime.strptime(text, form)
        except ValueError:
            continue
        if not 1900 <= moment.year <= 2999:
            raise UsageError(f"--at-time: found the year {moment.year}", "write a time between the years 1900 and 2999")
        if moment.tzinfo is None:
            moment = moment.replace(tzinfo=ZoneInfo(estate.time_zone))
        return moment, form != _FORMS[0]
    raise UsageError(f"--at-time: found {text!r}, expected a time", "write it like 2026-11-25, or '2026-11-25 23:30'")
