"""All that the directories know about one user or one group."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.facts.membership import MembershipIndex, MemberStep, group, user
from justlane.engine.questions.group_sizes import Size
from justlane.model.findings import Source
from justlane.model.people import Group, Principal, User


class Belonging(Struct, frozen=True):
    """A group that holds somebody."""

    group: str
    through: tuple[str, ...]
    """The groups in between, the nearest first; none if it holds them directly."""
    source: Source
    """The line that says so, or that says it of the last group in between."""


class Portrait(Struct, frozen=True):
    """A user, or a group, with all groups that hold them."""

    user: User | None
    group: Group | None
    belongings: tuple[Belonging, ...]
    """The nearest first."""


class Found(Struct, frozen=True):
    """People and groups that were looked for."""

    users: tuple[User, ...]
    groups: tuple[tuple[Group, Size], ...]


def portrait(index: MembershipIndex, name: str) -> Portrait | None:
    """All about the user of a login or, if there is none, the group of that name; None if there is neither."""
    somebody, some_group = index.directory.users.get(name), index.directory.groups.get(name)
    if somebody is None and some_group is None:
        return None
    start = user(name) if somebody else group(name)
    found = [_belonging(index, start, principal) for principal in index.principals_of(start) if principal != start]
    return Portrait(somebody, None if somebody else some_group, tuple(found))


def _belonging(index: MembershipIndex, start: Principal, principal: Principal) -> Belonging:
    steps: tuple[MemberStep, ...] = index.way(start, principal)
    return Belonging(principal.name, tuple(step.group.name for step in steps[:-1]), steps[-1].source)
