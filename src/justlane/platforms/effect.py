"""What a plan gives to people and takes from them, counted exactly: what was read beside what is declared.

A reading is data that somebody else may have written: what makes no sense in it gives nobody anything.
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date, datetime
from typing import cast

import msgspec

from justlane.engine.changes.comparison import Comparison, Side, compare
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.model.bindings import Binding, Ceiling, Effect, Publication
from justlane.model.circumstances import ALWAYS, MINUTES_A_DAY, Condition
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, LocalGroup, LocalMember, Membership, Principal, PrincipalKind, User
from justlane.model.roles import Pattern, Role
from justlane.platforms.interface import Entry, Reading

_HERE = Source("the platform")
_NAMED = ("local group", "group", "user")


def difference(index: EstateIndex, platform: str, reading: Reading, moment: datetime) -> Comparison:
    """Every cell that somebody gains or loses on a platform when it is made to hold what is declared."""
    read = EstateIndex(as_read(index, platform, reading))
    return compare(Side("held", read), Side("declared", index), Question(moment), within=platform)


def as_read(index: EstateIndex, platform: str, reading: Reading) -> Estate:
    """A platform that holds what was read, with the scopes, actions and habits that are declared."""
    declared = index.platform(platform).platform
    roles = _roles(reading)
    held = msgspec.structs.replace(
        declared,
        roles={**roles, **_habitual(declared, roles)},
        local_groups={
            name: LocalGroup(name, "", _local_members(entry), _HERE) for name, entry in reading.local_groups.items()
        },
        publications=tuple(_publications(reading, declared)),
        ceilings=tuple(_ceilings(reading)),
    )
    built_in = tuple(b for b in index.platform(platform).bindings if b.built_in and b.role in held.roles)
    directory = Directory(
        {login: User(login, login, entry.get("enabled") is True, _HERE) for login, entry in reading.people.items()},
        {name: Group(name, "", _members(entry), _HERE) for name, entry in reading.groups.items()},
    )
    zone = index.estate.time_zone
    bindings = (*built_in, *_bindings(reading, held))
    return Estate("held", "", zone, directory, {platform: held}, bindings, ())


def _habitual(declared: Platform, roles: dict[str, Role]) -> dict[str, Role]:
    """The role that an open platform gives by itself, if the platform does not hold it yet."""
    name = declared.habits.open_role
    return {name: Role(name, "", _HERE)} if name and name not in roles else {}


def _texts(value: object) -> list[str]:
    return [item for item in value if isinstance(item, str)] if isinstance(value, list) else []


def _principal(value: object) -> Principal | None:
    text = value if isinstance(value, str) else ""
    if text in (PrincipalKind.AUTHENTICATED, PrincipalKind.ANONYMOUS):
        return Principal(PrincipalKind(text))
    kind = next((known for known in _NAMED if text.startswith(f"{known} ")), "")
    return Principal(PrincipalKind(kind), text[len(kind) + 1 :]) if kind else None


def _members(entry: Entry) -> tuple[Membership, ...]:
    found = (_principal(member) for member in _texts(entry.get("members")))
    kinds = (PrincipalKind.GROUP, PrincipalKind.USER)
    return tuple(Membership(member, _HERE) for member in found if member and member.kind in kinds)


def _local_members(entry: Entry) -> tuple[LocalMember, ...]:
    until = entry.get("until")
    ends = until if isinstance(until, dict) else {}
    return tuple(LocalMember(m.member, _HERE, "", _day(ends.get(str(m.member)))) for m in _members(entry))


def _day(value: object) -> date | None:
    """A day; what is none has ended long ago."""
    try:
        return None if value is None else date.fromisoformat(str(value))
    except ValueError:
        return date.min


def _roles(reading: Reading) -> dict[str, Role]:
    """The roles; one that would build on itself, through others too, does not."""
    bases = {
        name: [base for base in _texts(entry.get("builds_on")) if base in reading.roles]
        for name, entry in reading.roles.items()
    }
    found: dict[str, Role] = {}
    for name, entry in reading.roles.items():
        sound = [base for base in bases[name] if not _leads_to(bases, base, name)]
        bases[name] = sound
        allows, excepts = (_patterns(_texts(entry.get(key))) for key in ("allows", "excepts"))
        found[name] = Role(name, "", _HERE, allows, excepts, _patterns(sound))
    return found


def _leads_to(bases: dict[str, list[str]], start: str, end: str) -> bool:
    waiting, met = [start], {start}
    while waiting:
        for base in bases[waiting.pop()]:
            if base not in met:
                met.add(base)
                waiting.append(base)
    return end in met


def _patterns(texts: Iterable[str]) -> tuple[Pattern, ...]:
    return tuple(Pattern(text, _HERE) for text in texts)


def _publications(reading: Reading, declared: Platform) -> Iterable[Publication]:
    for entry in reading.publications.values():
        group, scope = entry.get("group"), entry.get("scope")
        if isinstance(group, str) and isinstance(scope, str) and scope in declared.scopes:
            yield Publication(group, scope, _HERE)


def _ceilings(reading: Reading) -> Iterable[Ceiling]:
    for entry in reading.ceilings.values():
        principal = _principal(entry.get("principal"))
        if principal is not None:
            patterns = tuple(_texts(entry.get("patterns")))
            but_not = tuple(p for p in map(_principal, _texts(entry.get("but_not"))) if p)
            yield Ceiling(principal, patterns, condition_of(entry.get("condition")), "", _HERE, but_not)


def _bindings(reading: Reading, held: Platform) -> Iterable[Binding]:
    def place(entry: Entry) -> int:
        number = entry.get("place")
        return number if isinstance(number, int) else 0

    for entry in sorted(reading.bindings.values(), key=place):
        principal, role, scope = _principal(entry.get("principal")), entry.get("role"), entry.get("scope")
        known = isinstance(role, str) and role in held.roles and isinstance(scope, str) and scope in held.scopes
        if principal and known:
            effect = Effect.DENY if entry.get("deny") is True else Effect.ALLOW
            condition = condition_of(entry.get("condition"))
            here_only = entry.get("here_only") is True
            bundle = entry.get("bundle")
            called = bundle if isinstance(bundle, str) else ""
            yield Binding(principal, str(role), str(scope), "", _HERE, effect, here_only, condition, bundle=called)


def condition_of(value: object) -> Condition:
    """A condition as platforms keep it; one that makes no sense asks for nothing."""
    from ipaddress import ip_network
    from zoneinfo import ZoneInfo

    if not isinstance(value, dict):
        return ALWAYS
    plain = {key: item for key, item in cast(Entry, value).items() if item not in ("", None)}
    try:
        found = msgspec.convert(plain, Condition)
        for network in (*found.networks, *found.not_networks):
            ip_network(network)
        ZoneInfo(found.time_zone or "UTC")
        minutes = [minute for span in found.hours for minute in (span.start, span.end)]
        if not all(0 <= day <= 6 for day in found.weekdays) or not all(0 <= m <= MINUTES_A_DAY for m in minutes):
            return ALWAYS
    except (msgspec.ValidationError, ValueError, KeyError, OSError):
        return ALWAYS
    return found
