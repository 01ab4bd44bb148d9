"""The options that say in which circumstances a question is asked."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import UTC, datetime
from typing import Any, TypeVar

import click
import msgspec

from justlane.engine.deciding import Question
from justlane.model.circumstances import Situation
from justlane.model.errors import UsageError
from justlane.model.estate import Estate
from justlane.model.names import did_you_mean

Command = TypeVar("Command", bound=Callable[..., object])

_FORMS = ("%Y-%m-%d", "%Y-%m-%d %H:%M", "%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S", "%Y-%m-%dT%H:%M:%S%z")

_OPTIONS = (
    click.option("--situation", metavar="NAME", help="In a situation that the estate declares."),
    click.option("--from-network", metavar="ADDRESS", help="Coming from this IP address."),
    click.option("--multi-factor/--no-multi-factor", default=None, help="Having used a second factor, or not."),
    click.option("--signed-in-by", metavar="METHOD", help="Having signed in this way."),
    click.option(
        "--at-time",
        metavar="TIME",
        help="At this time, such as '2026-11-25 23:30', in the estate's time zone. A day alone sets only the day on "
        "which dates are judged.",
    ),
    click.option("--as-role", metavar="ROLE", help="In this role, where people act in one role at a time."),
)

NAMES = ("situation", "from_network", "multi_factor", "signed_in_by", "at_time", "as_role")
"""The parameters that `circumstance_options` adds to a command."""


def circumstance_options(command: Command) -> Command:
    """Add the options; the command gets the parameters `NAMES` and hands them to `question`."""
    for option in reversed(_OPTIONS):
        command = option(command)
    return command


def now() -> datetime:
    """This moment."""
    return datetime.now(UTC)


def question(estate: Estate, given: Mapping[str, Any]) -> Question:
    """The circumstances that the options describe: none given asks for all of them."""
    moment, timed = now(), False
    if given["at_time"]:
        moment, timed = _moment(given["at_time"], estate)
    elif given.get("as_of") and estate.people is not None:
        moment = estate.people.taken
    fixed = timed or any(given[name] is not None for name in NAMES[:4])
    situation = _named(estate, given["situation"]) if given["situation"] else Situation()
    changes: dict[str, Any] = {}
    if given["from_network"] is not None:
        changes["address"] = _address(given["from_network"])
    if given["multi_factor"] is not None:
        changes["multi_factor"] = given["multi_factor"]
    if given["signed_in_by"] is not None:
        changes["method"] = given["signed_in_by"]
    if timed:
        changes["moment"] = moment
    return Question(
        moment, msgspec.structs.replace(situation, **changes) if fixed else None, _role(estate, given["as_role"])
    )


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


def _role(estate: Estate, role: str | None) -> str:
    roles = {name for platform in estate.platforms.values() for name in platform.roles}
    if role is not None and role not in roles:
        raise UsageError(f"--as-role: there is no role {role!r}", did_you_mean(role, roles))
    return role or ""


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
