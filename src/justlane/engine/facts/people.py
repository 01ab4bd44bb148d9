"""Whoever asks, as one platform sees them."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from datetime import datetime

from msgspec import Struct

from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import MemberStep, disagreement, user
from justlane.model.people import ANONYMOUS, AUTHENTICATED, LocalMember, Principal, PrincipalKind

ANONYMOUS_NAME = ANONYMOUS.kind.value
"""The name by which whoever has not signed in is asked about."""


class Person(Struct, frozen=True):
    """A user on a platform: all that a binding can name to reach them."""

    login: str
    enabled: bool
    principals: frozenset[Principal]

    def among(self, names: frozenset[Principal]) -> Person:
        """Anybody for whom the same of some names stand; nobody, if the account is disabled."""
        return Person("", True, self.principals & names) if self.enabled else NOBODY


NOBODY = Person("", False, frozenset())
"""Somebody who may do nothing, or is not there."""


def person(index: EstateIndex, login: str, platform: str, moment: datetime) -> Person:
    """A user of the directory, or `anonymous`, on a platform, on the day of a moment with a time zone."""
    if login == ANONYMOUS_NAME:
        return Person(login, True, frozenset((ANONYMOUS,)))
    known = {*index.membership.principals_of(user(login)), AUTHENTICATED}
    return Person(login, is_active(index, login, moment), with_local_groups(index, platform, known, moment))


def is_active(index: EstateIndex, login: str, moment: datetime) -> bool:
    """Whether an account may do anything on the day of a moment: it is there, enabled, and has not ended."""
    return any(active_among(index, (login,), moment))


def active_among(index: EstateIndex, logins: Iterable[str], moment: datetime) -> Iterator[str]:
    """Those of some people whose accounts may do anything on the day of a moment."""
    users, day = index.estate.directory.users, on_clock(moment, index.estate.time_zone).date()
    return (login for login in logins if login in users and users[login].is_active(day))


def as_member(index: EstateIndex, somebody: Person, group: Principal, platform: str, moment: datetime) -> Person:
    """The same person as a member of one more group, and so of all that hold it."""
    more = {*index.membership.principals_of(group), group} if group.kind is PrincipalKind.GROUP else {group}
    known = with_local_groups(index, platform, {*somebody.principals, *more}, moment)
    return Person(somebody.login, somebody.enabled, known)


def with_local_groups(
    index: EstateIndex, platform: str, known: set[Principal], moment: datetime
) -> frozenset[Principal]:
    """Add the platform's local groups that hold one of the principals on the day of a moment."""
    held = [
        Principal(PrincipalKind.LOCAL_GROUP, name)
        for name in index.estate.platforms[platform].local_groups
        if any(member.member in known for member in local_members(index, name, platform, moment))
    ]
    return frozenset((*known, *held))


def local_members(index: EstateIndex, name: str, platform: str, moment: datetime) -> list[LocalMember]:
    """The members of a local group on the day of a moment; nobody where the platform has none of that name."""
    local = index.estate.platforms[platform].local_groups.get(name)
    members = local.members if local else ()
    if all(member.last_day is None for member in members):
        return list(members)
    day = on_clock(moment, index.estate.time_zone).date()
    return [member for member in members if member.is_held(day)]


def way_to(
    index: EstateIndex, login: str, principal: Principal, platform: str, moment: datetime
) -> tuple[MemberStep, ...]:
    """The shortest chain of memberships from a user to what a binding names."""
    if principal.kind is not PrincipalKind.LOCAL_GROUP:
        return index.membership.way_into(login, principal)
    upward = {*index.membership.principals_of(user(login))}
    ways = [
        (*index.membership.way_into(login, m.member), MemberStep(m.member, principal, m.source))
        for m in local_members(index, principal.name, platform, moment)
        if m.member in upward
    ]
    if not ways:
        raise disagreement()
    return min(ways, key=len)


def people_behind(index: EstateIndex, principal: Principal, platform: str, moment: datetime) -> list[str]:
    """Logins of the enabled people whom a principal stands for."""
    if principal.kind is PrincipalKind.AUTHENTICATED:
        day = on_clock(moment, index.estate.time_zone).date()
        return [login for login, entry in index.estate.directory.users.items() if entry.is_active(day)]
    return sorted(active_among(index, everybody_behind(index, principal, platform, moment), moment))


def everybody_behind(index: EstateIndex, principal: Principal, platform: str, moment: datetime) -> set[str]:
    """Logins of all whom a group, a local group or a user stands for, disabled and unknown ones included."""
    members = [principal]
    if principal.kind is PrincipalKind.LOCAL_GROUP:
        members = [m.member for m in local_members(index, principal.name, platform, moment)]
    found: set[str] = set()
    for member in members:
        if member.kind is PrincipalKind.GROUP:
            found.update(index.membership.users_in(member.name))
        elif member.kind is PrincipalKind.USER:
            found.add(member.name)
    return found
