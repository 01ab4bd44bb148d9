"""What owners look through: every grant, who has it through what, and who answers for it."""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping

from msgspec import Struct

from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.redundancy.parts import LinePart, parts_of
from justlane.model.bindings import Binding
from justlane.model.edits import Leave
from justlane.model.findings import Source
from justlane.model.people import ANONYMOUS, AUTHENTICATED, LocalGroup, LocalMember, Principal, PrincipalKind
from justlane.model.scopes import platform_of, with_containing

MOST_NAMED = 40


class ReviewedHolder(Struct, frozen=True):
    """Somebody who has it."""

    user: str
    through: str
    """The group by which they come to it, where that is another one than the line names; empty otherwise."""


class ReviewedGrant(Struct, frozen=True):
    """One thing that a line gives, or denies, to one principal."""

    part: LinePart
    key: str
    """The same for the same grant, wherever its line stands."""
    people: int
    """Enabled people who have it; whoever has not signed in is one."""
    holders: tuple[ReviewedHolder, ...]
    """At most `MOST_NAMED` of them."""
    owners: tuple[Principal, ...]
    """Who answers for the place, and for the role."""
    stand_ins: tuple[tuple[Principal, Principal | None], ...]
    """Who would answer for it and is gone, and who stands in for them: whoever answers for what contains the place;
    None if nobody does."""
    role_purpose: str
    group_purpose: str
    place_purpose: str

    @property
    def binding(self) -> Binding:
        """The first binding of it."""
        return self.part.bindings[0]

    @property
    def source(self) -> Source:
        """The line."""
        return self.part.source


class Seat(Struct, frozen=True):
    """A person who is in a platform's local group themselves, rather than through a group of the directory."""

    platform: str
    group: LocalGroup
    held: LocalMember
    owners: tuple[Principal, ...]
    """Who answers for the platform."""
    stand_ins: tuple[tuple[Principal, Principal | None], ...] = ()

    @property
    def key(self) -> str:
        """The same for the same seat, wherever its line stands."""
        said = "\0".join(("seat", self.platform, self.group.name, str(self.held.member)))
        return hashlib.blake2b(said.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()

    @property
    def source(self) -> Source:
        """The line."""
        return self.held.source

    @property
    def edit(self) -> Leave:
        """What takes them out."""
        return Leave(self.held.member.name, Principal(PrincipalKind.LOCAL_GROUP, self.group.name), self.platform)


def seats(index: EstateIndex) -> Iterator[Seat]:
    """Every person who is in a local group themselves."""
    for name in index.estate.platforms:
        prepared = index.platform(name)
        owner = _owner_of(prepared, name)
        for group in prepared.platform.local_groups.values():
            for held in group.members:
                if held.member.kind is PrincipalKind.USER:
                    yield Seat(name, group, held, (owner,) if owner else ())


def grants(index: EstateIndex, question: Question) -> Iterator[ReviewedGrant]:
    """All grants of an estate, in the order of their lines; what platforms do by themselves is not among them."""
    for name in index.estate.platforms:
        prepared = index.platform(name)
        owners = {scope.owner for scope in prepared.platform.scopes.values() if scope.owner}
        owners |= {role.owner for role in prepared.platform.roles.values() if role.owner}
        behind = PeopleByName(index, name, question.dated, [AUTHENTICATED, *sorted(prepared.named | owners)])
        known: dict[Principal, tuple[int, tuple[ReviewedHolder, ...]]] = {}
        for part in parts_of(prepared.bindings):
            to = part.principal
            if to not in known:
                known[to] = _held(index, behind, to)
            yield _grant(index, prepared, behind, part, *known[to])


def _grant(
    index: EstateIndex,
    prepared: PlatformIndex,
    behind: PeopleByName,
    part: LinePart,
    people: int,
    holders: tuple[ReviewedHolder, ...],
) -> ReviewedGrant:
    first = part.bindings[0]
    role, scopes = prepared.platform.roles.get(first.role), prepared.platform.scopes
    named = [owner for owner in (_owner_of(prepared, first.scope), role.owner if role else None) if owner]
    gone = [owner for owner in dict.fromkeys(named) if not behind.count(owner)]
    stand_ins = [(owner, _stand_in(prepared, behind, first.scope, owner)) for owner in gone]
    owners = [owner for owner in named if owner not in gone] + [other for _, other in stand_ins if other]
    return ReviewedGrant(
        part,
        key_of(first),
        people,
        holders,
        tuple(dict.fromkeys(owners)),
        tuple(stand_ins),
        role.purpose if role and not first.bundle else "",
        _purpose(index, prepared, first.principal),
        scopes[first.scope].purpose,
    )


def key_of(binding: Binding) -> str:
    """The same for the same grant, wherever its line stands."""
    said = [
        str(binding.principal),
        binding.effect.value,
        f"bundle {binding.bundle}" if binding.bundle else binding.role,
        "" if binding.bundle else binding.pattern or binding.scope,
        platform_of(binding.scope),
        str(binding.here_only),
        repr(binding.condition),
    ]
    return hashlib.blake2b("\0".join(said).encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()


def _owner_of(prepared: PlatformIndex, address: str) -> Principal | None:
    """Who answers for a place: the nearest scope above that says so."""
    for above in reversed(with_containing(address)):
        owner = prepared.platform.scopes[above].owner
        if owner is not None:
            return owner
    return None


def _stand_in(prepared: PlatformIndex, behind: PeopleByName, address: str, gone: Principal) -> Principal | None:
    """Who answers for what contains a place, the nearest who is there."""
    for above in reversed(with_containing(address)):
        owner = prepared.platform.scopes[above].owner
        if owner is not None and owner != gone and behind.count(owner):
            return owner
    return None


def _purpose(index: EstateIndex, prepared: PlatformIndex, to: Principal) -> str:
    if to.kind is PrincipalKind.LOCAL_GROUP:
        return prepared.platform.local_groups[to.name].purpose
    if to.kind is PrincipalKind.GROUP:
        return index.estate.directory.groups[to.name].purpose
    return index.estate.directory.users[to.name].name if to.kind is PrincipalKind.USER else ""


def _held(index: EstateIndex, behind: PeopleByName, to: Principal) -> tuple[int, tuple[ReviewedHolder, ...]]:
    import numpy as np

    if to == ANONYMOUS:
        return 1, (ReviewedHolder("whoever has not signed in", ""),)
    users = np.flatnonzero(behind.any_of([to])[: behind.nobody])
    direct = _direct(index, to)
    some = [behind.login(int(user)) for user in users[:MOST_NAMED].tolist()]
    return len(users), tuple(
        ReviewedHolder(login, "" if login in direct else _through(index, login, to)) for login in some
    )


def _direct(index: EstateIndex, to: Principal) -> Mapping[str, object]:
    if to.kind is PrincipalKind.GROUP:
        members = index.estate.directory.groups[to.name].members
        return {m.member.name: m for m in members if m.member.kind is PrincipalKind.USER}
    return {to.name: to} if to.kind is PrincipalKind.USER else {}


def _through(index: EstateIndex, login: str, to: Principal) -> str:
    if to.kind is not PrincipalKind.GROUP:
        return ""
    steps = index.membership.way_into(login, to)
    return steps[0].group.name if steps else ""
