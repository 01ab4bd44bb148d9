"""Platforms with their habits, and the estate that holds everything declared in one folder."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from enum import StrEnum

from msgspec import Struct

from justlane.model.accounts import Accounts
from justlane.model.bindings import Binding, BreakGlass, Ceiling, Delegation, Publication
from justlane.model.circumstances import Situation
from justlane.model.expectations import AnyExpectation
from justlane.model.findings import Finding, Source
from justlane.model.people import Directory, LocalGroup, Principal, Snapshot
from justlane.model.roles import Action, Pattern, Role
from justlane.model.rules import Accepted, RuleSetting
from justlane.model.scopes import Scope


class Decides(StrEnum):
    """How a platform weighs several bindings against each other."""

    ANY_ALLOW = "any-allow"
    DENY_WINS = "deny-wins"
    LAST_MATCH = "last-match"
    NEAREST = "nearest"


class RolesHeld(StrEnum):
    """In how many of their roles a person acts."""

    TOGETHER = "together"
    ONE_AT_A_TIME = "one-at-a-time"


class Binds(StrEnum):
    """To whom a platform can give a role."""

    GROUPS_AND_USERS = "groups and users"
    GROUPS = "groups"


class Habits(Struct, frozen=True):
    """How a platform decides."""

    decides: Decides = Decides.ANY_ALLOW
    open_role: str = ""
    """The role that everybody who signed in holds where nobody is given anything; empty if that is closed."""
    sign_in: str = ""
    """The action that must be held at the root before any other counts; empty for none."""
    on_the_way: str = ""
    """The action that must be held on every scope that contains the place; empty for none."""
    roles_held: RolesHeld = RolesHeld.TOGETHER
    binds: Binds = Binds.GROUPS_AND_USERS
    publication: bool = False
    """Whether a group counts only where it was published."""
    lines: dict[str, Source] = {}
    """Key, as it is written -> its line."""


class SecretPlace(Struct, frozen=True):
    """Where a secret is kept: never the secret itself."""

    kind: str
    """`environment`, `file` or `keyring`."""
    name: str
    """The variable's name, the file's path relative to the estate, or the name in the keyring."""

    @classmethod
    def of(cls, text: str) -> SecretPlace:
        """What an estate says: `environment NAME`, `file PATH` or `keyring NAME`."""
        kind, _, name = text.partition(" ")
        return cls(kind, name.strip())


class Connection(Struct, frozen=True):
    """How a platform is reached."""

    connector: str
    url: str
    """Empty where the kind of connector needs none."""
    token: SecretPlace | None
    source: Source
    trust: str = ""
    """A file with the certificates to trust, relative to the estate; empty for those of the system."""
    settings: dict[str, str] = {}
    """What else it says, by its keys; each kind of connector knows its own."""
    passwords: SecretPlace | None = None
    """Where the people's own passwords are, for probing."""
    leave_alone: tuple[str, ...] = ()
    """Accounts and groups that are not this estate's business."""
    columns: dict[str, str] = {}
    """What is in which column of an export."""
    options: dict[str, str] = {}
    """Settings of a connector of another package."""


class Managed(Struct, frozen=True):
    """What an estate answers for on a platform; what is empty limits nothing."""

    places: tuple[str, ...]
    """Addresses of scopes: these, and what they cover."""
    roles: tuple[str, ...]
    """Names of roles, or patterns."""
    accounts: tuple[str, ...]
    """`user NAME` (or a pattern) and `group NAME`, for the people in it."""
    source: Source


class Administration(Struct, frozen=True):
    """What it takes to administer a platform."""

    actions: tuple[Pattern, ...]
    at_most: int | None
    """How many people may hold all of it; None if nobody said."""
    source: Source


class Setting(Struct, frozen=True):
    """A value that a platform takes from a group, or from the person: a start page, a language. No access."""

    principal: Principal
    name: str
    value: str
    kept: bool
    """Of a person's own: whether it stays, whatever their groups bring."""
    source: Source


class Platform(Struct, frozen=True):
    """One system that decides about access, as it is declared."""

    name: str
    purpose: str
    habits: Habits
    source: Source
    actions: dict[str, Action]
    scopes: Mapping[str, Scope]
    """By address, in the order of a walk through the tree, the platform itself first."""
    roles: dict[str, Role]
    connection: Connection | None = None
    local_groups: dict[str, LocalGroup] = {}
    publications: tuple[Publication, ...] = ()
    ceilings: tuple[Ceiling, ...] = ()
    administration: Administration | None = None
    """None if the platform does not say which of its actions are administration."""
    settings: tuple[Setting, ...] = ()
    """In the order in which they count."""
    manages: Managed | None = None
    """What the estate answers for there; None for all of it."""
    accounts: Accounts | None = None
    """How its accounts are people; None where they are called as in the directory."""

    @property
    def capped(self) -> tuple[Principal, ...]:
        """All that its ceilings name, to cap them or to leave them out."""
        return tuple(p for ceiling in self.ceilings for p in (ceiling.principal, *ceiling.but_not))


class SamePerson(Struct, frozen=True):
    """Several logins of one person."""

    logins: tuple[str, ...]
    source: Source


class Estate(Struct, frozen=True):
    """Everything that is declared in one folder."""

    name: str
    purpose: str
    time_zone: str
    """An IANA time zone name."""
    directory: Directory
    platforms: dict[str, Platform]
    bindings: tuple[Binding, ...]
    """Of all platforms, in the order in which they are written, those that are built in first."""
    expectations: tuple[AnyExpectation, ...]
    situations: dict[str, Situation] = {}
    findings: tuple[Finding, ...] = ()
    """What reading it found that is worth a warning."""
    people: Snapshot | None = None
    """When and from where the people were read."""
    pull_every: int = 0
    """Seconds after which a snapshot of the people is too old."""
    break_glass: tuple[BreakGlass, ...] = ()
    bundles: dict[str, frozenset[str]] = {}
    """Name -> the platforms on which it holds something."""
    delegations: tuple[Delegation, ...] = ()
    """Files of delegates, and what they may touch."""
    rules: dict[str, RuleSetting] = {}
    """What it says about rules, by rule."""
    accepted: tuple[Accepted, ...] = ()
    """Findings that are accepted for a while."""
    owners: dict[str, Principal] = {}
    """Group of the directory -> who answers for it."""
    same_person: tuple[SamePerson, ...] = ()
    """Logins that are one person's."""
    acting_as: str = ""
    """The login of whoever edits the estate, where it is another one than the system knows them by."""

    def by_person(self, logins: Iterable[str]) -> dict[str, list[str]]:
        """Some logins by whose they are: the first that is said to be the person's, or their own."""
        first = {login: one.logins[0] for one in self.same_person for login in one.logins}
        found: dict[str, list[str]] = {}
        for login in logins:
            found.setdefault(first.get(login, login), []).append(login)
        return found
