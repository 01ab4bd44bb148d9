"""What a platform holds, before anything of it is declared: in numbers, and what strikes whoever looks for the first
time."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator, Mapping
from datetime import date
from typing import Literal

from msgspec import Struct

from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import user
from justlane.model.names import counted
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import with_containing
from justlane.platforms.entries import principal_of
from justlane.platforms.interface import Dialect, Entry, Reading, dialect_of

Kind = Literal[
    "unknown-account",
    "disabled-account",
    "unknown-group",
    "whole-platform",
    "unknown-role",
    "unknown-place",
    "spelt-alike",
    "alike-roles",
    "unheld-role",
    "empty-place",
    "given-twice",
    "not-judged",
]


class Noted(Struct, frozen=True):
    """Things of one sort that are worth a look."""

    kind: Kind
    says: str
    """What they have in common."""
    items: tuple[str, ...]
    """Each of them, in words."""


class RoleUse(Struct, frozen=True):
    """How often a role is given."""

    role: str
    to_persons: int
    to_groups: int


class Survey(Struct, frozen=True):
    """A platform as it is."""

    platform: str
    accounts: int
    groups: int
    places: int
    roles: int
    grants: int
    to_persons: int
    to_groups: int
    use: tuple[RoleUse, ...]
    """Each role, the most given first."""
    noted: tuple[Noted, ...]


class _Grant(Struct, frozen=True):
    """One thing that somebody has somewhere."""

    whom: str
    """As the platform writes it."""
    to: Principal | None
    role: str
    """The role, or the single actions."""
    scope: str
    told_apart: bool = False
    """Whether it is given under a condition, or here only: not the same as another one without."""


def survey(index: EstateIndex, platform: str, reading: Reading, day: date) -> Survey:
    """Look at a reading with nothing but the directory and whatever is declared of the platform."""
    dialect = dialect_of(index.estate.platforms[platform])
    grants = list(_grants(dialect, reading))
    uses = {kind: Counter(g.role for g in grants if g.to and g.to.kind is kind) for kind in PrincipalKind}
    persons, roles = uses[PrincipalKind.USER], dict.fromkeys(grant.role for grant in grants)
    use = [RoleUse(role, persons[role], sum(some[role] for some in uses.values()) - persons[role]) for role in roles]
    whom = {grant.whom for grant in grants}
    shown = [name for part in dialect.parts if dialect.sort(part).accounts for name in reading.part(part)]
    accounts = {w for w in whom if w.startswith(f"{PrincipalKind.USER} ")} | {str(user(name)) for name in shown}
    return Survey(
        platform,
        len(accounts),
        len({g.whom for g in grants if g.to and g.to.kind in (PrincipalKind.GROUP, PrincipalKind.LOCAL_GROUP)}),
        len({grant.scope for grant in grants}),
        len({*roles, *reading.part("roles")}),
        len(grants),
        sum(persons.values()),
        len(grants) - sum(persons.values()),
        tuple(sorted(use, key=lambda one: (-one.to_persons - one.to_groups, one.role))),
        tuple(one for one in _noted(index, platform, dialect, reading, grants, accounts, day) if one.items),
    )


def _grants(dialect: Dialect, reading: Reading) -> Iterator[_Grant]:
    """All that a reading says somebody has."""
    for part, entries in reading.parts.items():
        for entry in entries.values():
            if dialect.says_all:
                if part == "bindings" and entry.get("deny") is not True:
                    yield _entry_as_grant(entry)
                continue
            found = dialect.as_grant(part, entry)
            if found:
                principal, actions, scope, here_only = found
                yield _Grant(str(principal), principal, ", ".join(sorted(actions)), scope, here_only)


def _entry_as_grant(entry: Entry) -> _Grant:
    known = {"principal", "role", "scope", "deny", "here_only", "bundle", "reason", "place", "built_in"}
    apart = any(value for key, value in entry.items() if key not in known) or entry.get("here_only") is True
    whom = str(entry.get("principal"))
    return _Grant(whom, principal_of(whom), str(entry.get("role")), str(entry.get("scope")), apart)


def _noted(
    index: EstateIndex,
    platform: str,
    dialect: Dialect,
    reading: Reading,
    grants: list[_Grant],
    accounts: set[str],
    day: date,
) -> Iterator[Noted]:
    directory, declared = index.estate.directory, index.estate.platforms[platform]
    times = Counter(grant.whom for grant in grants)
    by_name = {name.partition(" ")[2]: name for name in accounts}
    said = declared.accounts
    unknown = [name for name in by_name if name not in directory.users and not (said and name in said.known)]
    known = [directory.users[name] for name in by_name if name in directory.users]
    gone = [u.login for u in known if not u.enabled or (u.last_day and u.last_day < day)]
    yield Noted("unknown-account", "accounts that match nobody in the directory", _with_times(unknown, by_name, times))
    yield Noted(
        "disabled-account", "accounts of people who may not sign in any more", _with_times(gone, by_name, times)
    )
    groups = {g.to.name: g.whom for g in grants if g.to and g.to.kind is PrincipalKind.GROUP}
    unknown = [name for name in groups if name not in directory.groups]
    yield Noted("unknown-group", "groups that the directory does not have", _with_times(unknown, groups, times))
    whole = sorted({f"{grant.whom}: {grant.role}" for grant in grants if grant.scope == platform})
    yield Noted("whole-platform", "who has something on the whole platform", tuple(whole))
    held = Counter(grant.role for grant in grants)
    if dialect.says_all:
        unknown = [f"{role}, {_given(n)}" for role, n in held.most_common() if role not in declared.roles]
        yield Noted("unknown-role", "roles that are not declared: what they allow is not known", tuple(unknown))
    at = Counter(grant.scope for grant in grants)
    unknown = [f"{place}, with {counted(n, 'grant')}" for place, n in at.items() if place not in declared.scopes]
    yield Noted("unknown-place", "places that are not declared", tuple(sorted(unknown)))
    for what, names in (("roles", {*held, *declared.roles}), ("accounts", {*by_name})):
        yield Noted("spelt-alike", f"{what} whose names differ by spelling alone", tuple(_spelt_alike(names)))
    yield Noted("alike-roles", "roles that the same have at the same places", tuple(_alike(grants)))
    unheld = sorted({*declared.roles, *reading.part("roles")} - held.keys())
    yield Noted("unheld-role", "roles that nobody has", tuple(unheld))
    around = {above for place in at for above in with_containing(place)}
    empty = tuple(p for p in declared.scopes if p not in around and not any(a in at for a in with_containing(p)))
    yield Noted("empty-place", "places where nobody has anything, there, above or below", empty)
    yield Noted(
        "given-twice", "what somebody has twice: above, or by a group too", tuple(sorted(_twice(index, grants)))
    )
    yield Noted("not-judged", "what cannot be judged", dialect.unjudged(index, platform, reading))


def _with_times(names: Iterable[str], written: Mapping[str, str], times: Mapping[str, int]) -> tuple[str, ...]:
    most = sorted(names, key=lambda name: (-times.get(written[name], 0), name))
    return tuple(f"{name}, {_given(times.get(written[name], 0))}" for name in most)


def _given(number: int) -> str:
    """How often something is given."""
    return f"given {number:,} times" if number > 1 else "given once" if number else "given nothing"


def _spelt_alike(names: Iterable[str]) -> Iterator[str]:
    """Names that are the same without case and signs, together."""
    found: dict[str, list[str]] = defaultdict(list)
    for name in sorted(names):
        found[re.sub(r"[\W_]+", "", name.casefold())].append(name)
    yield from (", ".join(some) for some in found.values() if len(some) > 1)


def _alike(grants: Iterable[_Grant]) -> Iterator[str]:
    """Roles that are always given together, to the same at the same places."""
    holders: dict[str, set[tuple[str, str]]] = defaultdict(set)
    for grant in grants:
        holders[grant.role].add((grant.whom, grant.scope))
    together: dict[frozenset[tuple[str, str]], list[str]] = defaultdict(list)
    for role, some in holders.items():
        together[frozenset(some)].append(role)
    for pairs, roles in together.items():
        if len(roles) > 1:
            yield f"{', '.join(sorted(roles))}: {counted(len(pairs), 'time')} together"


def _twice(index: EstateIndex, grants: Iterable[_Grant]) -> Iterator[str]:
    """What somebody has at a place, and above it or by a group as well; nothing that counts only at times."""
    some = [grant for grant in grants if grant.to is not None and not grant.told_apart]
    held = {(grant.to, grant.role, grant.scope) for grant in some}
    for grant in some:
        assert grant.to is not None
        if grant.to.kind is not PrincipalKind.USER:
            continue
        for principal in index.membership.principals_of(user(grant.to.name)):
            for place in with_containing(grant.scope):
                if (principal, place) != (grant.to, grant.scope) and (principal, grant.role, place) in held:
                    yield f"{grant.role} to {grant.whom} at {grant.scope}: {principal} has it at {place}"
