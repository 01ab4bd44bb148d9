"""Users, groups and who is in what: the directory as it was read."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime
from enum import StrEnum
from typing import Annotated

from msgspec import Meta, Struct

from justlane.model.findings import Source


class PrincipalKind(StrEnum):
    """To whom a role can be given."""

    GROUP = "group"
    USER = "user"
    LOCAL_GROUP = "local group"
    AUTHENTICATED = "authenticated"
    ANONYMOUS = "anonymous"


class Principal(Struct, frozen=True, array_like=True, order=True):
    """A group, a user, a platform's local group, or one of the two principals without a name."""

    kind: PrincipalKind
    name: str = ""

    def __str__(self) -> str:
        """As it is written in an estate: `group crew`, `user ada`, `authenticated`."""
        return f"{self.kind} {self.name}".strip()


class User(Struct, frozen=True):
    """A person or a service account."""

    login: str
    name: str
    """The name that people know them by."""
    enabled: bool
    source: Source
    id: str = ""
    """What stays the same when they are renamed (entryUUID, the id of SCIM); empty if the source has no such thing."""
    last_day: date | None = None
    """The last day on which the account is one, in the estate's time zone; None if nobody said."""

    def is_active(self, day: date) -> bool:
        """Whether the account may do anything on a day."""
        return self.enabled and (self.last_day is None or day <= self.last_day)


class Membership(Struct, frozen=True, array_like=True):
    """One line of a group's list of members."""

    member: Principal
    source: Source


class Group(Struct, frozen=True):
    """A named set of users and of other groups."""

    name: str
    purpose: str
    members: tuple[Membership, ...]
    source: Source
    id: str = ""
    """What stays the same when it is renamed; empty if the source has nothing like it."""


class LocalMember(Struct, frozen=True):
    """One line of a local group's list of members."""

    member: Principal
    source: Source
    reason: str = ""
    last_day: date | None = None
    """The last day on which it is a member, in the estate's time zone."""

    def is_held(self, day: date) -> bool:
        """Whether it is a member on a day."""
        return self.last_day is None or day <= self.last_day


class LocalGroup(Struct, frozen=True):
    """A group that one platform keeps for itself; it holds directory groups and, as an exception, users."""

    name: str
    purpose: str
    members: tuple[LocalMember, ...]
    source: Source


AUTHENTICATED = Principal(PrincipalKind.AUTHENTICATED)
ANONYMOUS = Principal(PrincipalKind.ANONYMOUS)


class Directory(Struct, frozen=True):
    """All users and groups, by login and by group name."""

    users: Mapping[str, User]
    groups: Mapping[str, Group]


class SourceRead(Struct, frozen=True):
    """One source of people, as it was read."""

    name: str
    """The directory's name in the estate."""
    kind: str
    """`ldif`, `csv`, `ldap` or `scim`."""
    where: str
    """The file, or the address."""
    settings: str
    """Digest of how it was to be read."""
    files: dict[str, str]
    """Of a source in files: each file, relative to the estate, with the digest of what was read."""
    users: int
    groups: int
    memberships: int = -1
    """-1 where an earlier version did not say."""


class Snapshot(Struct, frozen=True):
    """All people at one moment."""

    taken: Annotated[datetime, Meta(tz=True)]
    """When the reading began, in UTC."""
    sources: tuple[SourceRead, ...]
    name: str = ""
    """The name it is kept by; empty if it is not kept: then the people were read from the estate's files just now."""
