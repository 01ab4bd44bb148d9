"""What is given to one person, one group or one platform's own group: every binding, whether or not it counts today."""

from __future__ import annotations

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import MemberStep, group, user
from justlane.engine.facts.people import ANONYMOUS_NAME, is_active, local_members, people_behind
from justlane.engine.questions.one_place import Standing, standing_of
from justlane.model.bindings import Binding
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal, PrincipalKind
from justlane.model.scopes import platform_of


class Assignment(Struct, frozen=True):
    """One binding that reaches somebody."""

    binding: Binding
    memberships: tuple[MemberStep, ...]
    """From them to what is bound; empty if it is bound itself, or everybody is."""
    standing: Standing
    inherited: bool
    """Whether it stands at a scope above the one that was asked about."""
    partly: bool = False
    """Whether it stands elsewhere, at a resource group that gathers something inside."""


class Assignments(Struct, frozen=True):
    """All that reaches somebody."""

    principal: Principal
    platform: str
    """Whose local group it is; empty otherwise."""
    purpose: str
    """What it is for, or the person's name."""
    enabled: bool
    people: int
    """Enabled people whom it stands for."""
    within: str | None
    """The scope that was asked about; None for everywhere."""
    given: tuple[Assignment, ...]
    published: tuple[tuple[str, str], ...]
    """Of a group: (platform, scope) where it was published, on the platforms that need that."""


def assignments(
    index: EstateIndex, principal: Principal, question: Question, platform: str = "", within: str | None = None
) -> Assignments:
    """Everything that is given to a user, a group or a local group of a platform, directly or through others; within a
    scope: what is given there, above and below it."""
    names = [platform] if platform else list(index.estate.platforms)
    found = [a for name in names for a in _on(index, index.platform(name), principal, question, within)]
    platforms = [p for p in index.estate.platforms.values() if p.habits.publication]
    published = [
        (p.name, item.scope)
        for p in platforms
        for item in p.publications
        if principal.kind is PrincipalKind.GROUP and item.group == principal.name
    ]
    users, groups = index.estate.directory.users, index.estate.directory.groups
    enabled, purpose = True, ""
    if principal.kind is PrincipalKind.USER:
        enabled, purpose = is_active(index, principal.name, question.dated), users[principal.name].name
    elif principal.kind is PrincipalKind.GROUP:
        purpose = groups[principal.name].purpose
    elif principal.kind is PrincipalKind.LOCAL_GROUP:
        purpose = index.platform(platform).platform.local_groups[principal.name].purpose
    people = len(people_behind(index, principal, platform, question.dated)) if principal != ANONYMOUS else 1
    return Assignments(
        principal, platform, purpose, enabled, people, within, tuple(found), tuple(dict.fromkeys(published))
    )


def _on(
    index: EstateIndex, prepared: PlatformIndex, principal: Principal, question: Question, within: str | None
) -> list[Assignment]:
    """Those on one platform, at the nearest scope first."""
    name = prepared.platform.name
    if within is not None and platform_of(within) != name:
        return []
    ways = ways_from(index, principal, name, question)
    found = [
        Assignment(binding, way, standing_of(index, binding, question), False)
        for named, way in ways.items()
        for binding in prepared.bindings.of(named)
    ]
    found.sort(key=lambda a: (len(a.memberships), prepared.bindings.place(a.binding)))
    if within is None:
        return found
    above, below = set(prepared.coverage.covering(within)) - {within}, set(prepared.coverage.covered(within))
    inside = (
        replace(a, inherited=a.binding.scope in above, partly=a.binding.scope not in above | below)
        for a in found
        if not below.isdisjoint(prepared.coverage.covered(a.binding.scope))
    )
    return [a for a in inside if not a.inherited or not a.binding.here_only]


def ways_from(
    index: EstateIndex, principal: Principal, platform: str, question: Question
) -> dict[Principal, tuple[MemberStep, ...]]:
    """All that stands for somebody on a platform, each with the memberships that lead to it."""
    if principal == ANONYMOUS or principal.kind is PrincipalKind.LOCAL_GROUP:
        return {principal: ()}
    found = {held: index.membership.way(principal, held) for held in index.membership.principals_of(principal)}
    for name in index.estate.platforms[platform].local_groups:
        local = Principal(PrincipalKind.LOCAL_GROUP, name)
        for member in local_members(index, name, platform, question.dated):
            if member.member in found:
                way = (*found[member.member], MemberStep(member.member, local, member.source))
                found[local] = min(found.get(local, way), way, key=len)
    found[AUTHENTICATED] = ()
    return found


def principal_named(index: EstateIndex, name: str) -> tuple[Principal, str] | None:
    """The user of a login, the group of a name, or a platform's local group (`PLATFORM/NAME`, or NAME alone where only
    one platform has it); the second value is that platform. None if there is nothing of that name."""
    if name == ANONYMOUS_NAME:
        return ANONYMOUS, ""
    if name in index.estate.directory.users:
        return user(name), ""
    if name in index.estate.directory.groups:
        return group(name), ""
    local = [
        platform.name
        for platform in index.estate.platforms.values()
        for own in platform.local_groups
        if name in (own, f"{platform.name}/{own}")
    ]
    if len(local) != 1:
        return None
    return Principal(PrincipalKind.LOCAL_GROUP, name.removeprefix(f"{local[0]}/")), local[0]
