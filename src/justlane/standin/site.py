"""What a stand-in is and holds: its own scopes and actions, and the people, groups, roles and bindings given to it.

Everything is kept in one JSON file, replaced in one step at every change.
"""

from __future__ import annotations

from typing import Annotated, Any

import msgspec


class Condition(msgspec.Struct, forbid_unknown_fields=True):
    """What must hold for a binding or a ceiling to count."""

    networks: list[str] = []
    multi_factor: bool | None = None
    methods: list[str] = []
    not_networks: list[str] = []
    not_methods: list[str] = []
    weekdays: list[Annotated[int, msgspec.Meta(description="0 is Monday.")]] = []
    hours: list[list[int]] = []
    """[start, end] in minutes since midnight."""
    time_zone: str = ""
    first_day: str = ""
    last_day: str = ""
    managed_device: bool | None = None
    signed_in_within: int = 0
    """Minutes; 0 for any time."""


class Manner(msgspec.Struct):
    """How the platform decides."""

    decides: str = "any-allow"
    open_role: str = ""
    sign_in: str = ""
    on_the_way: str = ""
    one_role_at_a_time: bool = False
    publication: bool = False
    time_zone: str = "UTC"


class Binding(msgspec.Struct, forbid_unknown_fields=True):
    """A grant, or with `deny` the opposite."""

    principal: str
    role: str
    scope: str
    reason: str = ""
    deny: bool = False
    here_only: bool = False
    condition: Condition = msgspec.field(default_factory=Condition)
    place: int = 0
    """Where it stands in the order, on a platform where that matters."""
    bundle: str = ""
    """What it was given as a part of, if anything: then that is what people act as."""


class Nature(msgspec.Struct):
    """What the platform is by itself."""

    kinds: dict[str, str]
    """Address of a scope -> its kind."""
    gathers: dict[str, list[str]]
    """Address of a resource group -> what it gathers."""
    implies: dict[str, list[str]]
    """Action -> the actions that it implies; every action stands here."""
    applies: dict[str, list[str]]
    """Action -> the kinds of scope where it can be done; empty for all."""
    manner: Manner = msgspec.field(default_factory=Manner)
    built_in: list[Binding] = []
    """What it does by itself, in order."""


class Person(msgspec.Struct, forbid_unknown_fields=True):
    """An account."""

    enabled: bool


class Group(msgspec.Struct, forbid_unknown_fields=True):
    """A group: `user NAME` and `group NAME`."""

    members: list[str]


class LocalGroup(msgspec.Struct, forbid_unknown_fields=True):
    """A group of the platform's own."""

    members: list[str]
    until: dict[str, str] = {}
    """Member -> the last day on which it is one."""


class Role(msgspec.Struct, forbid_unknown_fields=True):
    """A role, as declared."""

    allows: list[str]
    excepts: list[str] = []
    builds_on: list[str] = []


class Publication(msgspec.Struct, forbid_unknown_fields=True):
    """A group that counts at a scope and in all that it contains."""

    group: str
    scope: str


def split_principal(text: str) -> tuple[str, str]:
    """`local group night crew` -> its kind and its name; names may hold spaces."""
    kind = next((known for known in ("local group", "group", "user") if text.startswith(f"{known} ")), text)
    return kind, text[len(kind) + 1 :]


class Ceiling(msgspec.Struct, forbid_unknown_fields=True):
    """Actions that are never granted."""

    principal: str
    patterns: list[str]
    but_not: list[str] = []
    """Whom it leaves out."""
    condition: Condition = msgspec.field(default_factory=Condition)
    reason: str = ""


PARTS: dict[str, Any] = {
    "people": Person,
    "groups": Group,
    "local_groups": LocalGroup,
    "roles": Role,
    "publications": Publication,
    "ceilings": Ceiling,
    "bindings": Binding,
}
"""What can be put, and what each entry must look like."""


class Misbehaviour(msgspec.Struct):
    """The ways in which this stand-in departs from what it says."""

    stale_roles: dict[str, Role] = {}
    """Roles that still work as they once were, whatever has been put since."""
    hidden_grants: list[list[str]] = []
    """[user, action, scope] that work although nothing held gives them."""
    hidden_refusals: list[list[str]] = []
    """[user, action, scope] that fail although what is held gives them."""
    two_faced: list[list[str]] = []
    """[user, action, scope] that are answered no and work all the same."""
    telling_totals: bool = False
    """What a container shows as its total counts what the person may not see."""
    slow: bool = False
    """Every answer takes a tenth of a second longer."""
    hang: bool = False
    nonsense: bool = False


class Site(msgspec.Struct):
    """Everything about one stand-in."""

    platform: str
    nature: Nature
    revision: int = 0
    people: dict[str, Person] = {}
    groups: dict[str, Group] = {}
    local_groups: dict[str, LocalGroup] = {}
    roles: dict[str, Role] = {}
    publications: dict[str, Publication] = {}
    ceilings: dict[str, Ceiling] = {}
    bindings: dict[str, Binding] = {}
    misbehaviour: Misbehaviour = msgspec.field(default_factory=Misbehaviour)
    scim: dict[str, dict[str, Any]] = {}
    """Id -> what SCIM wrote of a user or group, besides what counts here."""
    keys: dict[str, str] = {}
    """The last idempotency keys, each with the revision that its change led to."""
    changed: list[list[str]] = []
    """[part, name] of the last changes that really came about."""
    done: list[list[str]] = []
    """The last [user, action, scope] that were really carried out."""
