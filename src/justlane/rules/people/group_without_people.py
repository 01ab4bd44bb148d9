"""group-without-people: the estate names a group, but nobody comes by it.

The group is empty, or all its members' accounts are disabled. Either what names it is a leftover, or the wrong group
was named. A local group is one of the platform's own, with the members that the estate gives it.

Passes:
    bindings:
      - {give: watcher, to: group staff, at: hall, because: They answer the telephone.}

Fails:
    bindings:
      - {give: watcher, to: group night-shift, at: hall, because: They answer the telephone.}
"""

from __future__ import annotations

from collections.abc import Iterator
from enum import StrEnum

from justlane.engine.facts.index import EstateIndex
from justlane.model.estate import Platform
from justlane.model.expectations import OnlyGroupMay
from justlane.model.findings import Severity, Source
from justlane.model.people import Principal, PrincipalKind
from justlane.rules.inspection import Flaw, Inspection, Options

ID = "group-without-people"
SEVERITY = Severity.WARNING
OPTIONS: Options = {}
_HINT = "take it out, or name the group that was meant"


class _State(StrEnum):
    PEOPLED = ""
    EMPTY = "is empty"
    DISABLED = "has only disabled members"


def find(at: Inspection) -> Iterator[Flaw]:
    """One finding for each line that names such a group."""
    index = at.index
    named = list(_named(index))
    known = {(principal, ""): _State.PEOPLED for principal in _peopled(at, {p for _, _, p, _ in named})}
    for source, platform, principal, told in named:
        if principal.kind not in (PrincipalKind.GROUP, PrincipalKind.LOCAL_GROUP):
            continue
        key = principal, platform if principal.kind is PrincipalKind.LOCAL_GROUP else ""
        if key not in known:
            known[key] = _state(at, *key)
        if known[key]:
            yield at.flaw(source, f"{told}, which {known[key]}", _HINT, about=(str(principal),))


def _named(index: EstateIndex) -> Iterator[tuple[Source, str, Principal, str]]:
    """Everything that names a principal: where, on which platform, whom, and what it says of them."""
    for binding in index.estate.bindings:
        done = "given to" if binding.allows else "denied to"
        yield binding.source, binding.scope, binding.principal, f"{binding.role} is {done} {binding.principal}"
    for platform in index.estate.platforms.values():
        yield from _named_on(platform)
    for expectation in index.estate.expectations:
        if isinstance(expectation, OnlyGroupMay):
            principal = Principal(PrincipalKind.GROUP, expectation.group)
            yield expectation.source, "", principal, f"only {principal} is expected to have access"


def _named_on(platform: Platform) -> Iterator[tuple[Source, str, Principal, str]]:
    for local in platform.local_groups.values():
        for member in local.members:
            yield member.source, platform.name, member.member, f"local group {local.name} holds {member.member}"
    for publication in platform.publications:
        principal = Principal(PrincipalKind.GROUP, publication.group)
        yield publication.source, platform.name, principal, f"{publication.scope} has {principal} published to it"
    for ceiling in platform.ceilings:
        yield ceiling.source, platform.name, ceiling.principal, f"a ceiling is set for {ceiling.principal}"


def _peopled(at: Inspection, named: set[Principal]) -> set[Principal]:
    """Those of some groups of the directory by which somebody with an enabled account comes."""
    from justlane.engine.classes.people_by_name import PeopleByName

    groups = [principal for principal in named if principal.kind is PrincipalKind.GROUP]
    return PeopleByName(at.index, "", at.question.dated, groups).standing_for_somebody()


def _state(at: Inspection, principal: Principal, address: str) -> _State:
    """Whether anybody with an enabled account is in a group. Stops at the first one."""
    reached, waiting, somebody = {principal}, [principal], False
    while waiting:
        for member in _members(at.index, waiting.pop(), address):
            if member.kind is PrincipalKind.USER:
                somebody = True
                if at.known.is_active(member.name):
                    return _State.PEOPLED
            elif member not in reached:
                reached.add(member)
                waiting.append(member)
    return _State.DISABLED if somebody else _State.EMPTY


def _members(index: EstateIndex, principal: Principal, address: str) -> Iterator[Principal]:
    if principal.kind is PrincipalKind.LOCAL_GROUP:
        local = index.platform(address).platform.local_groups[principal.name]
        return (m.member for m in local.members)
    return (m.member for m in index.estate.directory.groups[principal.name].members)
