"""What platforms that know neither roles nor inheritance are told: who may do what at which place, one by one.

Used by the dialects of such platforms; pure.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from typing import NamedTuple

from msgspec.structs import replace

from justlane.engine.decision.circumstances import in_dates
from justlane.engine.facts import people
from justlane.engine.facts.graphs import walk
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.model.bindings import Binding
from justlane.model.estate import Decides, Estate, Habits
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, Membership, Principal, PrincipalKind, User
from justlane.model.roles import Pattern, Role
from justlane.platforms.entries import HERE


class Cell(NamedTuple):
    """A principal, an action, a place."""

    principal: Principal
    action: str
    scope: str


def in_date(index: EstateIndex, platform: str, moment: datetime) -> list[Binding]:
    """The bindings of a platform that count on the day of a moment; built-in ones are the platform's own."""
    zone = index.estate.time_zone
    bindings = index.platform(platform).bindings
    return [b for b in bindings if not b.built_in and in_dates(b.condition, moment, zone)]


def cells(index: EstateIndex, platform: str, moment: datetime) -> dict[Cell, tuple[Source, ...]]:
    """Every grant written out, with the lines that ask for it."""
    prepared = index.platform(platform)
    count = set(map(id, in_date(index, platform, moment)))
    found: dict[Cell, tuple[Source, ...]] = {}
    for address in prepared.platform.scopes:
        for binding in prepared.covering_bindings(address):
            if id(binding) in count and binding.allows:
                for action in prepared.roles.holdings(binding.role):
                    if prepared.applies(action, address):
                        cell = Cell(binding.principal, action, address)
                        found[cell] = (*found.get(cell, ()), binding.source)
    return found


def people_behind(index: EstateIndex, principals: Iterable[Principal], moment: datetime) -> list[str]:
    """Logins of the people for whom some principals stand and whose accounts are active at a moment, in order; such
    platforms have no groups of their own, so for these nobody."""
    some = (principal for principal in principals if principal.kind is not PrincipalKind.LOCAL_GROUP)
    return sorted({login for principal in some for login in people.people_behind(index, principal, "", moment)})


def groups_behind(index: EstateIndex, principals: Iterable[Principal]) -> list[str]:
    """Names of some groups and of all that are nested in them, in order."""
    groups = index.estate.directory.groups

    def nested(name: str) -> Iterator[tuple[str, None]]:
        inner = (m.member for m in groups[name].members if m.member.kind is PrincipalKind.GROUP)
        return ((group.name, None) for group in inner if group.name in groups)

    return sorted({name for p in principals if p.kind is PrincipalKind.GROUP for name in walk(p.name, nested)})


def directory_of(logins: Iterable[str], members: Mapping[str, Iterable[Principal]]) -> Directory:
    """A directory of what a platform knows itself."""
    users = {login: User(login, login, True, HERE) for login in logins}
    groups = {name: Group(name, "", tuple(Membership(m, HERE) for m in some), HERE) for name, some in members.items()}
    return Directory(users, groups)


def estate_of(
    index: EstateIndex,
    platform: str,
    directory: Directory,
    given: Iterable[tuple[Principal, frozenset[str], str, bool]],
    decides: Decides = Decides.ANY_ALLOW,
) -> Estate:
    """An estate that holds just what a platform gives: (principal, actions, scope, here only), in order.

    Actions imply nothing there, and places that are not declared are left out.
    """
    prepared = index.platform(platform)
    declared = prepared.platform
    actions = {name: replace(action, implies=()) for name, action in declared.actions.items()}
    roles: dict[str, Role] = {}
    bindings: list[Binding] = []
    for principal, some, scope, here_only in given:
        if scope not in declared.scopes:
            continue
        known = sorted(some & set(actions))
        name = "+".join(known) or "nothing"
        roles.setdefault(name, Role(name, "", HERE, tuple(Pattern(action, HERE) for action in known)))
        bindings.append(Binding(principal, name, scope, "", HERE, here_only=here_only))
    own = tuple(b for b in prepared.bindings if b.built_in)
    roles |= {b.role: declared.roles[b.role] for b in own}
    habits = Habits(decides, on_the_way=declared.habits.on_the_way)
    scopes = {a: replace(s, gathers=()) if s.gathers else s for a, s in declared.scopes.items()}
    held = replace(
        declared,
        scopes=scopes,
        habits=habits,
        actions=actions,
        roles=roles,
        publications=(),
        ceilings=(),
        local_groups={},
    )
    return Estate("held", "", index.estate.time_zone, directory, {platform: held}, (*own, *bindings), ())


def applicable(prepared: PlatformIndex, address: str) -> frozenset[str]:
    """The actions that can be done at a place."""
    return frozenset(name for name in prepared.platform.actions if prepared.applies(name, address))
