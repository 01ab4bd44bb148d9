"""An estate as it would be after an edit, ready for questions; what the edit does not touch is shared."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import MembershipIndex, user
from justlane.engine.facts.sources import OverlaidBindings
from justlane.model.bindings import Binding, Publication
from justlane.model.edits import (
    AllowInRole,
    DropRole,
    Edit,
    Enable,
    Give,
    Join,
    KeepInRole,
    Leave,
    LeaveOutOfRole,
    Publish,
    Unpublish,
    Withdraw,
)
from justlane.model.findings import Source
from justlane.model.people import Directory, LocalMember, Principal, PrincipalKind, User
from justlane.model.roles import Pattern, Role
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.arrays.directory import NumberedDirectory


def with_edit(index: EstateIndex, edit: Edit) -> EstateIndex:
    """The estate after the edit. All names must be declared."""
    return _CARRIES_OUT[type(edit)](index, edit)


def _on(index: EstateIndex, bindings: Sequence[Binding], more: bool) -> EstateIndex:
    """Bindings more or fewer, on each platform that they are on."""
    changed: dict[str, PlatformIndex] = {}
    for name in dict.fromkeys(platform_of(b.scope) for b in bindings):
        here = [b for b in bindings if platform_of(b.scope) == name]
        before = index.platform(name)
        laid_over = OverlaidBindings(before.bindings, here if more else (), () if more else here)
        changed[name] = before.changed(before.platform, laid_over)
    return index.changed(changed)


def _given(index: EstateIndex, edit: Give) -> EstateIndex:
    return _on(index, edit.bindings, True)


def _withdrawn(index: EstateIndex, edit: Withdraw) -> EstateIndex:
    return _on(index, edit.bindings, False)


def _with_role(index: EstateIndex, name: str, role: Role) -> EstateIndex:
    before = index.platform(name)
    platform = replace(before.platform, roles={**before.platform.roles, role.name: role})
    return index.changed({name: before.changed(platform, before.bindings)})


def _allowed(index: EstateIndex, edit: AllowInRole) -> EstateIndex:
    role = index.platform(edit.platform).platform.roles[edit.role]
    more = replace(role, allows=(*role.allows, Pattern(edit.action, role.source)))
    return _with_role(index, edit.platform, more)


def _kept(index: EstateIndex, edit: KeepInRole) -> EstateIndex:
    role = index.platform(edit.platform).platform.roles[edit.role]
    fewer = replace(role, excepts=tuple(p for p in role.excepts if p.text != edit.pattern.text))
    return _with_role(index, edit.platform, fewer)


def _left_out(index: EstateIndex, edit: LeaveOutOfRole) -> EstateIndex:
    role = index.platform(edit.platform).platform.roles[edit.role]
    fewer = replace(role, excepts=(*role.excepts, Pattern(edit.action, role.source)))
    return _with_role(index, edit.platform, fewer)


def _published(index: EstateIndex, edit: Publish) -> EstateIndex:
    name = platform_of(edit.scope)
    before = index.platform(name)
    further = Publication(edit.group, edit.scope, before.platform.source)
    platform = replace(before.platform, publications=(*before.platform.publications, further))
    return index.changed({name: before.changed(platform, before.bindings)})


def _unpublished(index: EstateIndex, edit: Unpublish) -> EstateIndex:
    name = platform_of(edit.scope)
    before = index.platform(name)
    left = tuple(p for p in before.platform.publications if (p.group, p.scope) != (edit.group, edit.scope))
    return index.changed({name: before.changed(replace(before.platform, publications=left), before.bindings)})


def _dropped(index: EstateIndex, edit: DropRole) -> EstateIndex:
    before = index.platform(edit.platform)
    roles = {name: role for name, role in before.platform.roles.items() if name != edit.role}
    return index.changed({edit.platform: before.changed(replace(before.platform, roles=roles), before.bindings)})


def _joined(index: EstateIndex, edit: Join) -> EstateIndex:
    if edit.group.kind is PrincipalKind.LOCAL_GROUP:
        before = index.platform(edit.platform)
        local = before.platform.local_groups[edit.group.name]
        grown = replace(local, members=(*local.members, LocalMember(user(edit.login), local.source)))
        platform = replace(before.platform, local_groups={**before.platform.local_groups, local.name: grown})
        return index.changed({edit.platform: before.changed(platform, before.bindings)})
    source = index.estate.directory.groups[edit.group.name].source
    return index.changed({}, _OneMore(index.membership, user(edit.login), edit.group, source))


def _left(index: EstateIndex, edit: Leave) -> EstateIndex:
    if edit.group.kind is PrincipalKind.LOCAL_GROUP:
        before = index.platform(edit.platform)
        local = before.platform.local_groups[edit.group.name]
        members = tuple(held for held in local.members if held.member != user(edit.login))
        smaller = {**before.platform.local_groups, local.name: replace(local, members=members)}
        platform = replace(before.platform, local_groups=smaller)
        return index.changed({edit.platform: before.changed(platform, before.bindings)})
    return index.changed({}, _OneLess(index.membership, user(edit.login), edit.group))


def _enabled(index: EstateIndex, edit: Enable) -> EstateIndex:
    people = index.estate.directory
    enabled = replace(people.users[edit.login], enabled=True, last_day=None)
    directory = Directory(_OneOther(people.users, edit.login, enabled), people.groups)
    return index.changed({}, _OneEnabled(index.membership, directory, edit.login), directory)


_CARRIES_OUT: Mapping[type, Callable[[EstateIndex, Any], EstateIndex]] = {
    Give: _given,
    Withdraw: _withdrawn,
    AllowInRole: _allowed,
    KeepInRole: _kept,
    LeaveOutOfRole: _left_out,
    Publish: _published,
    Unpublish: _unpublished,
    DropRole: _dropped,
    Join: _joined,
    Leave: _left,
    Enable: _enabled,
}


class _OneMore(MembershipIndex):
    """The same memberships and one more."""

    def __init__(self, before: MembershipIndex, member: Principal, group: Principal, source: Source) -> None:
        super().__init__(before.directory)
        self._before, self._member, self._more = before, member, (group, source)

    def held_by(self, member: Principal) -> Sequence[tuple[Principal, Source]]:
        """The groups that hold a user or a group directly, the new one last."""
        held = self._before.held_by(member)
        return (*held, self._more) if member == self._member else held

    @property
    def numbered(self) -> NumberedDirectory:
        """Everybody in numbers."""
        return self._before.numbered.joined(self._member.name, self._more[0].name)


class _OneLess(MembershipIndex):
    """The same memberships, one of them gone."""

    def __init__(self, before: MembershipIndex, member: Principal, group: Principal) -> None:
        super().__init__(before.directory)
        self._before, self._member, self._gone = before, member, group

    def held_by(self, member: Principal) -> Sequence[tuple[Principal, Source]]:
        """The groups that hold a user or a group directly."""
        held = self._before.held_by(member)
        return [one for one in held if one[0] != self._gone] if member == self._member else held

    @property
    def numbered(self) -> NumberedDirectory:
        """Everybody in numbers."""
        return self._before.numbered.left(self._member.name, self._gone.name)


class _OneEnabled(MembershipIndex):
    """The same memberships, one account enabled."""

    def __init__(self, before: MembershipIndex, directory: Directory, login: str) -> None:
        super().__init__(directory, before.held_by)
        self._before, self._login = before, login

    @property
    def numbered(self) -> NumberedDirectory:
        """Everybody in numbers."""
        return self._before.numbered.enabled(self._login)


class _OneOther(Mapping[str, User]):
    """The same users, one of them changed."""

    def __init__(self, before: Mapping[str, User], login: str, other: User) -> None:
        self._before, self._login, self._other = before, login, other

    def __getitem__(self, login: str) -> User:
        return self._other if login == self._login else self._before[login]

    def __iter__(self) -> Iterator[str]:
        return iter(self._before)

    def __len__(self) -> int:
        return len(self._before)
