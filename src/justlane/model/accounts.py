"""What people sign in with on a platform, where that is another name than the directory's, or more than one."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.patterns import ANY
from justlane.model.people import Principal, User


def without_account(login: str) -> str:
    """What somebody is called who has none, and whose name somebody else's account has."""
    return f"{login} (no account)"


class AccountKind(StrEnum):
    """Whose an account is."""

    OWN = "user"
    """A person's, the one by which they have what they are given."""
    ALSO = "also user"
    """A person's, besides that one."""
    MACHINE = "machine of"
    """No person's, but somebody answers for it."""
    GONE = "gone"
    """Nobody's any more."""


class Account(Struct, frozen=True):
    """One account that is said to be somebody's."""

    name: str
    """As the platform writes it."""
    kind: AccountKind
    source: Source
    login: str = ""
    """Of a person's: the login in the directory."""
    owner: Principal | None = None
    """Of a machine's: who answers for it."""
    reason: str = ""


class Letters(StrEnum):
    """How a platform writes names."""

    AS_THEY_ARE = "as they are"
    SMALL = "small letters"
    CAPITALS = "capitals"


class Accounts(Struct, frozen=True):
    """How the accounts of a platform are people."""

    source: Source
    by_id: bool = False
    """Whether it is called after what stays the same in the directory, rather than after the login."""
    becomes: str = ANY
    """What it is called: `*` is what is taken."""
    written: Letters = Letters.AS_THEY_ARE
    known: Mapping[str, Account] = {}
    """By name, as the platform writes it."""
    resolved: bool = False
    """Whether everybody who is called something else there is among those that are known, and named so in all else."""

    def is_of(self, name: str, kind: AccountKind) -> bool:
        """Whether an account is said to be of a kind."""
        return name in self.known and self.known[name].kind is kind

    @property
    def machines(self) -> frozenset[str]:
        """Accounts that are no person's."""
        return frozenset(name for name in self.known if self.is_of(name, AccountKind.MACHINE))

    def login(self, name: str) -> str:
        """Whose account it is, in the directory's words; as it is called where nothing else is said."""
        return (name in self.known and self.known[name].login) or name

    def shown(self, name: str) -> str:
        """An account, with whose it is where that one is called otherwise."""
        login = self.login(name)
        return name if name in (login, without_account(login)) else f"{name} ({login})"

    def own(self, user: User) -> str:
        """What somebody's own account is called; empty if that cannot be told."""
        said = (one.name for one in self.known.values() if one.kind is AccountKind.OWN and one.login == user.login)
        return next(said, "") or self.name_by_rule(user)

    @property
    def changes_all(self) -> bool:
        """Whether the rule gives other names than the logins."""
        return self.by_id or self.becomes != ANY or self.written is not Letters.AS_THEY_ARE

    def name_by_rule(self, user: User) -> str:
        """What somebody's account is called where nothing is said of them; empty if that cannot be told."""
        taken = user.id if self.by_id else user.login
        name = self.becomes.replace(ANY, taken) if taken else ""
        if self.written is Letters.AS_THEY_ARE:
            return name
        return name.lower() if self.written is Letters.SMALL else name.upper()
