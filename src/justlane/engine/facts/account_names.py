"""A platform as it knows people: an estate in which everybody is called what their account there is called.

Whatever compares an estate with a platform works on this; what is said of people goes back to their logins. One whose
name somebody else's account has there, and who has none, is called the one without an account.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from justlane.engine.facts.earlier_names import Aliases, called_today
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import MembershipIndex
from justlane.engine.facts.sources import ListedBindings
from justlane.model.accounts import Account, AccountKind, Accounts, without_account
from justlane.model.bindings import Binding, Ceiling
from justlane.model.estate import Platform
from justlane.model.people import Directory, LocalGroup, Principal, PrincipalKind, User


def in_accounts(index: EstateIndex, platform: str) -> EstateIndex:
    """The estate as one of its platforms knows people; itself where that is as the directory does, or it is already."""
    accounts = index.estate.platforms[platform].accounts
    if accounts is None or accounts.resolved:
        return index
    membership, users = index.membership, index.estate.directory.users
    own = _own(accounts, users)
    then = called_today(index.estate.directory, membership.held_by, Aliases(own, {}), lambda: membership.numbered)
    besides = dict(_besides(accounts, users))
    directory = Directory(_With(then.directory.users, besides), then.directory.groups)
    prepared = index.platform(platform)
    named = _Named(own)
    bindings = [named.binding(binding) for binding in prepared.bindings]
    there = prepared.changed(named.platform(prepared.platform, accounts, users), ListedBindings(bindings))
    within = MembershipIndex(directory, then.holding, lambda: then.numbered().with_more(besides))
    return index.changed({platform: there}, within, directory)


def _own(accounts: Accounts, users: Mapping[str, User]) -> dict[str, str]:
    """Login -> their own account, of those who are called something else on the platform."""
    known = accounts.known.values()
    found = {one.login: one.name for one in known if one.kind is AccountKind.OWN}
    taken = {one.name for one in known}
    for login, user in users.items() if accounts.changes_all else ():
        if login not in found:
            name = accounts.name_by_rule(user)
            found[login] = without_account(login) if name in taken else name
            taken.add(found[login])
    # whoever is called by the directory what is somebody else's account here
    found |= {name: without_account(name) for name in taken if name in users and name not in found}
    return {login: name for login, name in found.items() if login != name}


def _besides(accounts: Accounts, users: Mapping[str, User]) -> Iterator[tuple[str, User]]:
    """Accounts that the directory does not have: second ones of people, and those of machines."""
    for one in accounts.known.values():
        if one.kind is AccountKind.ALSO and one.login in users:
            yield one.name, replace(users[one.login], login=one.name, id="", source=one.source)
        elif one.kind is AccountKind.MACHINE:
            yield one.name, User(one.name, one.reason or one.name, True, one.source)


class _Named:
    """Values with everybody called what their own account is called."""

    def __init__(self, own: Mapping[str, str]) -> None:
        self._own = own

    def principal(self, principal: Principal, apart: str = "") -> Principal:
        """Of a user, their own account, or the one that is named."""
        if principal.kind is not PrincipalKind.USER:
            return principal
        return Principal(principal.kind, apart or self._own.get(principal.name, principal.name))

    def binding(self, binding: Binding) -> Binding:
        account = self.principal(binding.principal, binding.account)
        return binding if account == binding.principal else replace(binding, principal=account, account="")

    def _ceiling(self, one: Ceiling) -> Ceiling:
        return replace(one, principal=self.principal(one.principal), but_not=tuple(map(self.principal, one.but_not)))

    def _local(self, group: LocalGroup) -> LocalGroup:
        return replace(group, members=tuple(replace(one, member=self.principal(one.member)) for one in group.members))

    def platform(self, platform: Platform, accounts: Accounts, users: Mapping[str, User]) -> Platform:
        """All of it, and in its accounts everybody whose name is another one."""
        said = {n: Account(n, AccountKind.OWN, users[login].source, login) for login, n in self._own.items()}
        return replace(
            platform,
            local_groups={name: self._local(group) for name, group in platform.local_groups.items()},
            ceilings=tuple(map(self._ceiling, platform.ceilings)),
            settings=tuple(replace(one, principal=self.principal(one.principal)) for one in platform.settings),
            accounts=replace(accounts, known={**said, **accounts.known}, resolved=True),
        )


class _With(Mapping[str, User]):
    """A mapping of users with some more."""

    def __init__(self, users: Mapping[str, User], more: Mapping[str, User]) -> None:
        self._users, self._more = users, more

    def __getitem__(self, name: str) -> User:
        return self._more[name] if name in self._more else self._users[name]

    def __iter__(self) -> Iterator[str]:
        yield from self._users
        yield from self._more

    def __len__(self) -> int:
        return len(self._users) + len(self._more)


def account_of(index: EstateIndex, platform: str, login: str | None) -> str | None:
    """What somebody's own account is called, in an estate in which everybody is; None for nobody."""
    accounts = index.estate.platforms[platform].accounts
    if accounts is None or login is None:
        return login
    own = (one.name for one in accounts.known.values() if one.login == login and one.kind is AccountKind.OWN)
    return next(own, login)
