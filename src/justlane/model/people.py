"""Users, groups and who is in what: the directory as it was read."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum

from msgspec import Struct

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


class LocalGroup(Struct, frozen=True):
    """A group that one platform keeps for itself; it holds directory groups and, as an exception, users."""

    name: str
    purpose: str
    members: tuple[Membership, ...]
    source: Source


AUTHENTICATED = Principal(PrincipalKind.AUTHENTICATED)
ANONYMOUS = Principal(PrincipalKind.ANONYMOUS)


class Directory(Struct, frozen=True):
    """All users and groups, by login and by group name."""

    users: Mapping[str, User]
    groups: Mapping[str, Group]
