"""All that is known about one user, one group of a directory, or one group that a platform keeps for itself."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

from msgspec import Struct

from justlane.engine.facts.group_sizes import Size
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import MembershipIndex, MemberStep, group, user
from justlane.engine.facts.people import everybody_behind, local_members, people_behind
from justlane.engine.questions.settings import BroughtSetting
from justlane.model.findings import Source
from justlane.model.people import Group, LocalGroup, Principal, PrincipalKind, User


class Belonging(Struct, frozen=True):
    """A group that holds somebody."""

    group: str
    through: tuple[str, ...]
    """The groups in between, the nearest first; none if it holds them directly."""
    source: Source
    """The line that says so, or that says it of the last group in between."""
    platform: str = ""
    """The platform that keeps the group for itself; empty for one of a directory."""


class SizedGroup(Struct, frozen=True):
    """A group with the number of its people; of one in a directory the members may be left out."""

    group: Group | LocalGroup
    size: Size
    platform: str = ""
    """The platform that keeps it for itself; empty for one of a directory."""


class Portrait(Struct, frozen=True):
    """A user, or a group, with all groups that hold them."""

    user: User | None
    group: Group | LocalGroup | None
    platform: str
    """The platform that keeps the group for itself; empty otherwise."""
    belongings: tuple[Belonging, ...]
    """The nearest first."""
    settings: tuple[BroughtSetting, ...] = ()
    """What their groups bring besides roles, or what the group brings."""
    purposes: Mapping[str, str] = {}
    """Of a platform's own group: the directories' groups in it -> what each is for."""

    @property
    def principal(self) -> Principal:
        """The user or the group."""
        if self.user:
            return user(self.user.login)
        name = self.group.name if self.group else ""
        return Principal(PrincipalKind.LOCAL_GROUP, name) if self.platform else group(name)


class Found(Struct, frozen=True):
    """People and groups that were looked for."""

    users: tuple[User, ...]
    groups: tuple[SizedGroup, ...]


def portrait(index: MembershipIndex, name: str, own: Sequence[SizedGroup] = ()) -> Portrait | None:
    """All about the user of a login, or else the group of that name, or else the only platform's own group of that name
    (`PLATFORM/NAME` for one of several); None if there is none of these."""
    somebody, some_group = index.directory.users.get(name), index.directory.groups.get(name)
    if somebody is None and some_group is None:
        local = [sized for sized in own if name in (sized.group.name, f"{sized.platform}/{sized.group.name}")]
        return _of_local(index, local[0]) if len(local) == 1 else None
    start = user(name) if somebody else group(name)
    above = index.principals_of(start)
    found = [_belonging(index, start, principal) for principal in above if principal != start]
    found += _local(index, start, above, own)
    return Portrait(somebody, None if somebody else some_group, "", tuple(found))


def _of_local(index: MembershipIndex, sized: SizedGroup) -> Portrait:
    assert isinstance(sized.group, LocalGroup)
    return Portrait(None, sized.group, sized.platform, (), purposes=purposes_in(sized.group, index.directory.groups))


def purposes_in(group: LocalGroup, known: Mapping[str, Group]) -> dict[str, str]:
    """The directories' groups in a platform's own group, with what each is for."""
    inside = [held.member for held in group.members if held.member.kind is PrincipalKind.GROUP]
    return {member.name: known[member.name].purpose for member in inside if member.name in known}


def _belonging(index: MembershipIndex, start: Principal, principal: Principal) -> Belonging:
    steps: tuple[MemberStep, ...] = index.way(start, principal)
    return Belonging(principal.name, tuple(step.group.name for step in steps[:-1]), steps[-1].source)


def _local(
    index: MembershipIndex, start: Principal, above: Sequence[Principal], own: Sequence[SizedGroup]
) -> Iterator[Belonging]:
    """The platforms' own groups that hold somebody, by the shortest way."""
    for sized in own:
        ways = [(len(index.way(start, m.member)), m) for m in sized.group.members if m.member in above]
        if ways:
            member = min(ways, key=lambda way: way[0])[1]
            steps = index.way(start, member.member)
            through = tuple(step.group.name for step in steps)
            yield Belonging(sized.group.name, through, member.source, sized.platform)


def local_groups(index: EstateIndex, moment: datetime) -> list[SizedGroup]:
    """All groups that platforms keep for themselves, with those who are in them on the day of a moment."""
    users = index.estate.directory.users
    found = []
    for platform in index.estate.platforms.values():
        for name, local in platform.local_groups.items():
            members = [member.member for member in local_members(index, name, platform.name, moment)]
            groups = [member for member in members if member.kind is PrincipalKind.GROUP]
            principal = Principal(PrincipalKind.LOCAL_GROUP, name)
            known = len(everybody_behind(index, principal, platform.name, moment) & users.keys())
            enabled = len(people_behind(index, principal, platform.name, moment))
            found.append(
                SizedGroup(local, Size(len(members) - len(groups), known, enabled, len(groups)), platform.name)
            )
    return found
