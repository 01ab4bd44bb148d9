"""What people sign in with on a platform, where that is another name than the directory's, or more than one."""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum

from msgspec import Struct

from justlane.model.findings import Source
from justlane.model.patterns import ANY
from justlane.model.people import Principal, PrincipalKind, User


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

    @property
    def said(self) -> str:
        """Whose it is, as files say it in one line."""
        return f"{self.kind} {self.login or self.owner or ''}".strip()


def kind_and_whom(text: str) -> tuple[AccountKind, str] | None:
    """What one line says: the kind, and a login or a principal; None if it says nothing of the sort."""
    for kind in AccountKind:
        if kind is AccountKind.GONE and text == kind:
            return kind, ""
        whom = text.removeprefix(f"{kind} ").strip()
        if text.startswith(f"{kind} ") and whom and kind is not AccountKind.GONE:
            owned = kind is not AccountKind.MACHINE or whom.startswith(("user ", "group "))
            return (kind, whom) if owned else None
    return None


WHOSE = "`user LOGIN`, `also user LOGIN`, `machine of group NAME` or `gone`"
"""What one line can say."""


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

    def gives_to(self, principal: Principal | None, kind: AccountKind) -> bool:
        """Whether somebody stands for an account that is said to be of a kind."""
        named = principal is not None and principal.kind is PrincipalKind.USER
        return named and principal is not None and self.is_of(principal.name, kind)

    def login(self, name: str) -> str:
        """Whose account it is, in the directory's words; as it is called where nothing else is said."""
        return (name in self.known and self.known[name].login) or name

    def shown(self, name: str) -> str:
        """An account, with whose it is where that one is called otherwise."""
        login = self.login(name)
        return name if name in (login, without_account(login)) else f"{name} ({login})"

    def own(self, user: User) -> str:
        """What somebody's own account is called."""
        said = (one.name for one in self.known.values() if one.kind is AccountKind.OWN and one.login == user.login)
        return next(said, "") or self.name_by_rule(user)

    @property
    def changes_all(self) -> bool:
        """Whether the rule gives other names than the logins."""
        return self.by_id or self.becomes != ANY or self.written is not Letters.AS_THEY_ARE

    def name_by_rule(self, user: User) -> str:
        """What somebody's account is called of whom no line says anything: where the rule has nothing to go by, or a
        line says that the name is somebody else's, they have none."""
        taken = user.id if self.by_id else user.login
        name = self.becomes.replace(ANY, taken) if taken else ""
        if self.written is not Letters.AS_THEY_ARE:
            name = name.lower() if self.written is Letters.SMALL else name.upper()
        return name if name and name not in self.known else without_account(user.login)
