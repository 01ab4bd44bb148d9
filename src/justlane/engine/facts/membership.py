"""Who is in which group, directly or through nested groups."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.facts.graphs import loops, trail, walk
from justlane.engine.facts.sources import held_directly
from justlane.model.errors import StorageError
from justlane.model.findings import Source
from justlane.model.people import Directory, Principal, PrincipalKind

if TYPE_CHECKING:
    from justlane.engine.arrays.directory import NumberedDirectory

Holding = Callable[[Principal], Sequence[tuple[Principal, Source]]]
"""Answers which groups hold a user or a group directly, each with the line that says so."""


def disagreement() -> StorageError:
    """The error for kept people whose arrays say what their rows do not."""
    hint = "remove the newest file in `snapshots`, and `justlane people pull` reads everybody anew"
    return StorageError("the snapshot of the people is damaged: it does not agree with itself", hint)


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

    def __init__(
        self,
        directory: Directory,
        holding: Holding | None = None,
        numbered: Callable[[], NumberedDirectory] | None = None,
    ) -> None:
        self.directory = directory
        self._kept = holding
        self._kept_groups: dict[Principal, Sequence[tuple[Principal, Source]]] = {}
        self._kept_numbered = numbered
        self._numbered: NumberedDirectory | None = None
        self._found: dict[Principal, dict[Principal, tuple[Principal, Source] | None]] = {}

    @property
    def numbered(self) -> NumberedDirectory:
        """Everybody in numbers."""
        if self._numbered is None:
            from justlane.engine.arrays.directory import numbered_directory

            self._numbered = self._kept_numbered() if self._kept_numbered else numbered_directory(self.directory)
        return self._numbered

    def held_by(self, member: Principal) -> Sequence[tuple[Principal, Source]]:
        """The groups that hold a user or a group directly, each with the line that says so."""
        if self._kept is None:
            return self._listed.get(member, ())
        if member.kind is PrincipalKind.USER:
            return self._kept(member)
        if member not in self._kept_groups:
            self._kept_groups[member] = self._kept(member)
        return self._kept_groups[member]

    @cached_property
    def _listed(self) -> dict[Principal, list[tuple[Principal, Source]]]:
        return held_directly(self.directory)

    def _upward(self, member: Principal) -> dict[Principal, tuple[Principal, Source] | None]:
        if member not in self._found:
            self._found[member] = walk(member, self.held_by)
        return self._found[member]

    def principals_of(self, member: Principal) -> tuple[Principal, ...]:
        """A user or a group itself, and every group that holds it, the nearest first."""
        return tuple(self._upward(member))

    def way_into(self, login: str, principal: Principal) -> tuple[MemberStep, ...]:
        """The shortest chain of memberships from the user to a group (empty for the user itself)."""
        if principal.kind is not PrincipalKind.GROUP:
            return ()
        return self.way(user(login), principal)

    def way(self, member: Principal, holder: Principal) -> tuple[MemberStep, ...]:
        """The shortest chain of memberships from a user or a group to a group that holds it."""
        upward = self._upward(member)
        if holder not in upward:
            raise disagreement()
        return tuple(MemberStep(a, b, source) for a, b, source in trail(upward, holder))

    def users_in(self, name: str) -> Iterator[str]:
        """Logins of everyone in a group, directly or nested, disabled users included."""
        groups = self.directory.groups

        def members(node: Principal) -> list[tuple[Principal, Source]]:
            entry = groups.get(node.name) if node.kind is PrincipalKind.GROUP else None
            return [(m.member, m.source) for m in entry.members] if entry else []

        found = walk(group(name), members)
        return (p.name for p in found if p.kind is PrincipalKind.USER)

    def loops(self) -> list[list[str]]:
        """Groups that hold each other, one list a loop, by name."""

        names, arrays = self.numbered.group_names, self.numbered.columns
        above: dict[int, list[int]] = {}
        for inner, outer in zip(arrays.inner.tolist(), arrays.outer.tolist(), strict=True):
            above.setdefault(inner, []).append(outer)
        found = loops(above, lambda number: above.get(number, []))
        return sorted(sorted(names[number] for number in loop) for loop in found)


NO_LOGIN = "\0"
"""What no login begins with."""


class GroupsAsPeople(MembershipIndex):
    """Each group as somebody of its name, with `NO_LOGIN` in front, who is in it alone: `numbered` alone
    is another one."""

    def __init__(self, before: MembershipIndex) -> None:
        super().__init__(before.directory, before.held_by, lambda: before.numbered.of_groups(NO_LOGIN))
