"""Who is in which group, directly or through nested groups."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from msgspec import Struct

from justlane.engine.graphs import loops, trail, walk
from justlane.model.findings import Source
from justlane.model.people import Directory, Principal, PrincipalKind

_Edges = dict[Principal, list[tuple[Principal, Source]]]


class MemberStep(Struct, frozen=True):
    """`member` is in `group`, says the line at `source`."""

    member: Principal
    group: Principal
    source: Source


def group(name: str) -> Principal:
    """The principal of a group's name."""
    return Principal(PrincipalKind.GROUP, name)


def user(login: str) -> Principal:
    """The principal of a user's login."""
    return Principal(PrincipalKind.USER, login)


class MembershipIndex:
    """Answers about groups and their members. Membership loops are tolerated: all groups of a loop
    hold each other's members."""

    def __init__(self, directory: Directory) -> None:
        self.directory = directory
        self._found: dict[Principal, dict[Principal, tuple[Principal, Source] | None]] = {}

    @cached_property
    def _above(self) -> _Edges:
        edges: _Edges = {}
        for name, entry in self.directory.groups.items():
            for member, source in ((m.member, m.source) for m in entry.members):
                edges.setdefault(member, []).append((group(name), source))
        return edges

    def _upward(self, member: Principal) -> dict[Principal, tuple[Principal, Source] | None]:
        if member not in self._found:
            self._found[member] = walk(member, lambda node: self._above.get(node, ()))
        return self._found[member]

    def groups_of(self, login: str) -> frozenset[str]:
        """Names of every group that holds the user, directly or through nested groups."""
        return frozenset(p.name for p in self._upward(user(login)) if p.kind is PrincipalKind.GROUP)

    def principals_of(self, member: Principal) -> tuple[Principal, ...]:
        """A user or a group itself, and every group that holds it, the nearest first."""
        return tuple(self._upward(member))

    def way_into(self, login: str, principal: Principal) -> tuple[MemberStep, ...]:
        """The shortest chain of memberships from the user to a group (empty for the user itself)."""
        if principal.kind is not PrincipalKind.GROUP:
            return ()
        return tuple(MemberStep(a, b, source) for a, b, source in trail(self._upward(user(login)), principal))

    def users_in(self, name: str) -> Iterator[str]:
        """Logins of everyone in a group, directly or nested, disabled users included."""
        groups = self.directory.groups

        def members(node: Principal) -> list[tuple[Principal, Source]]:
            entry = groups.get(node.name) if node.kind is PrincipalKind.GROUP else None
            return [(m.member, m.source) for m in entry.members] if entry else []

        found = walk(group(name), members)
        return (p.name for p in found if p.kind is PrincipalKind.USER)

    def loops(self) -> list[list[str]]:
        """Groups that hold each other, one list a loop."""

        def nested(name: str) -> list[str]:
            entry = self.directory.groups.get(name)
            kind = PrincipalKind.GROUP
            return [m.member.name for m in entry.members if m.member.kind is kind] if entry else []

        return loops(self.directory.groups, nested)
