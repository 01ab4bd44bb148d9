"""What the commands of `people` write."""

from __future__ import annotations

from typing import TypedDict

from justlane.reports.outputs.answers import Line
from justlane.reports.outputs.changes import Comparison, Finding


class DirectoryRead(TypedDict):
    directory: str
    kind: str
    where: str
    users: int
    groups: int


class Snapshot(TypedDict):
    snapshot: str
    taken: str
    directories: list[DirectoryRead]


class Overview(Snapshot):
    kept: list[str]


class Pulled(Snapshot):
    users: int
    groups: int
    memberships: int
    before: str | None
    findings: list[Finding]


class Belonging(Line):
    group: str
    platform: str | None
    through: list[str]


class Outdone(TypedDict):
    principal: str
    value: str


class Setting(TypedDict):
    platform: str
    setting: str
    value: str
    principal: str
    kept: bool
    instead_of: list[Outdone]
    file: str | None
    line: int | None


OneUser = TypedDict(
    "OneUser",
    {
        "user": str,
        "name": str,
        "enabled": bool,
        "id": str,
        "until": str | None,
        "file": str | None,
        "line": int | None,
        "in": list[Belonging],
        "settings": list[Setting],
    },
)


Member = TypedDict("Member", {"member": str, "reason": str | None, "until": str | None, "for": str | None})


OneGroup = TypedDict(
    "OneGroup",
    {
        "group": str,
        "platform": str | None,
        "for": str,
        "id": str,
        "file": str | None,
        "line": int | None,
        "members": list[Member],
        "in": list[Belonging],
        "settings": list[Setting],
    },
)

GroupSize = TypedDict(
    "GroupSize",
    {
        "group": str,
        "platform": str | None,
        "for": str,
        "id": str,
        "people": int,
        "in_all": int,
        "enabled": int,
        "groups": int,
        "file": str | None,
        "line": int | None,
    },
)


class FoundUser(Line):
    user: str
    name: str
    enabled: bool
    id: str


class Found(TypedDict):
    users: list[FoundUser]
    groups: list[GroupSize]


class Movement(TypedDict):
    name: str
    title: str
    moves: list[str]
    was: str | None
    into: list[str]
    out_of: list[str]


class PeopleChanges(TypedDict):
    before: str
    after: str
    people: list[Movement]
    groups: list[Movement]
    access: Comparison | None
