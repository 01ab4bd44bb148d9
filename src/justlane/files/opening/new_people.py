"""People who were pulled since an estate was read: whether they have all whom the estate names."""

from __future__ import annotations

from pathlib import Path

from justlane.files.opening.cache import KeptEstate
from justlane.files.people.store import GROUPS, USERS, PeopleStore
from justlane.model.estate import Estate
from justlane.model.expectations import OnlyGroupMay, UserMay, UserMayNot
from justlane.model.findings import Finding, has_errors
from justlane.model.people import Principal, PrincipalKind


def findings_of_new_people(folder: Path, kept: KeptEstate, estate: Estate) -> list[Finding] | None:
    """What is to be said of people who were pulled since; None if the estate names somebody whom they do not have."""
    from justlane.files.people.chosen import chosen_snapshot
    from justlane.files.reading.estate_files import read_some
    from justlane.files.reading.folder import ROOT

    declared = read_some(folder, [ROOT])
    if declared.root is None or not _knows_all(kept.people, _named(estate)):
        return None
    store, found = chosen_snapshot(folder, declared.root, declared.files[0].text, folder, kept.people.snapshot.name)
    if store is None or has_errors(found):
        return None
    return [*found, *store.findings]


def _named(estate: Estate) -> set[Principal]:
    """All that an estate names."""
    found = {b.principal for b in estate.bindings} | {account.account for account in estate.break_glass}
    found |= {principal for delegation in estate.delegations for principal in (*delegation.groups, delegation.by)}
    found |= {*estate.owners.values(), *(Principal(PrincipalKind.GROUP, group) for group in estate.owners)}
    if estate.acting_as:
        found.add(Principal(PrincipalKind.USER, estate.acting_as))
    for platform in estate.platforms.values():
        found |= set(platform.capped)
        found |= {member.member for local in platform.local_groups.values() for member in local.members}
        found |= {Principal(PrincipalKind.GROUP, publication.group) for publication in platform.publications}
        found |= {setting.principal for setting in platform.settings}
        found |= {scope.owner for scope in platform.scopes.values() if scope.owner}
        found |= {role.owner for role in platform.roles.values() if role.owner}
    for expectation in estate.expectations:
        if isinstance(expectation, OnlyGroupMay):
            found.add(Principal(PrincipalKind.GROUP, expectation.group))
        elif isinstance(expectation, (UserMay, UserMayNot)) and expectation.user != PrincipalKind.ANONYMOUS:
            found.add(Principal(PrincipalKind.USER, expectation.user))
    return found


def _knows_all(people: PeopleStore, named: set[Principal]) -> bool:
    tables = {PrincipalKind.USER: USERS, PrincipalKind.GROUP: GROUPS}
    return all(people.has(tables[p.kind], p.name) for p in named if p.kind in tables)
