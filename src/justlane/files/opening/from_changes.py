"""An estate that was found sound before, of which a few files with bindings have changed: only these are read."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar

from msgspec.structs import replace

from justlane.files.opening.cache import KeptEstate
from justlane.files.opening.loaded import Loaded
from justlane.files.people.store import GROUPS, USERS, PeopleStore
from justlane.model.errors import StorageError
from justlane.model.estate import Estate
from justlane.model.expectations import OnlyGroupMay, UserMay, UserMayNot
from justlane.model.findings import Finding, Severity, Source
from justlane.model.people import Principal, PrincipalKind

if TYPE_CHECKING:
    from justlane.files.reading.estate_files import DeclaredFiles

OF_ALL = ("same-binding-twice", "two-lists")
"""Findings about bindings of several files together."""


def read_changes(folder: Path, kept: KeptEstate) -> Loaded | None:
    """The estate with what changed; None if all of it has to be read."""
    if not set(kept.changed) <= set(kept.origin.parts.plain):
        return None
    try:
        estate = replace(kept.store.with_bindings(), directory=kept.people.directory(), people=kept.people.snapshot)
        of_people = _of_new_people(folder, kept, estate) if kept.new_people else kept.origin.parts.of_people
        if of_people is None:
            return None
        known = [f for f in estate.findings if f not in kept.origin.parts.of_people]
        estate = replace(estate, findings=(*known, *of_people))
        kept = kept._replace(origin=replace(kept.origin, parts=replace(kept.origin.parts, of_people=of_people)))
        if not kept.changed:
            return _loaded(kept, estate, list(estate.findings), {})
        return _with_changes(folder, kept, estate)
    except (OSError, sqlite3.Error, StorageError):
        return None


def _loaded(kept: KeptEstate, estate: Estate, findings: list[Finding], digests: dict[str, str]) -> Loaded:
    sound = not any(f.severity is Severity.ERROR for f in findings)
    found = tuple(sorted(set(findings), key=lambda f: (f.source, f.message)))
    origin = kept.origin
    known = replace(estate, findings=found) if sound else None
    files = {**origin.digests, **digests}
    if kept.new_people:
        files = {file: known for file, known in files.items() if file in origin.parts.order}
        files |= {file: known for source in kept.people.snapshot.sources for file, known in source.files.items()}
    matches, pull_every = tuple(origin.matches), estate.pull_every
    changed = bool(digests) or kept.new_people
    return Loaded(known, found, files, True, matches, kept.people, pull_every, origin.parts, kept.store, changed)


def _of_new_people(folder: Path, kept: KeptEstate, estate: Estate) -> list[Finding] | None:
    """What is to be said of people who were pulled since; None if the estate names somebody whom they do not have."""
    from justlane.files.people.chosen import chosen_snapshot
    from justlane.files.reading.estate_files import read_some
    from justlane.files.reading.folder import ROOT

    declared = read_some(folder, [ROOT])
    if declared.root is None or not _knows_all(kept.people, _named(estate)):
        return None
    store, found = chosen_snapshot(folder, declared.root, declared.files[0].text, folder, kept.people.snapshot.name)
    if store is None or any(f.severity is Severity.ERROR for f in found):
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


def _with_changes(folder: Path, kept: KeptEstate, before: Estate) -> Loaded | None:
    from justlane.files.building.bindings import bindings_of, expectations_of
    from justlane.files.building.name_checks import check_bindings
    from justlane.files.building.places import DeclaredPlaces
    from justlane.files.opening.from_files import is_plain
    from justlane.files.people import snapshots
    from justlane.files.reading.estate_files import read_some

    parts, changed = kept.origin.parts, set(kept.changed)
    declared = read_some(folder, [name for name in parts.order if name in changed])
    if not all(is_plain(file.shape) for file in declared.files) or has_patterns(declared):
        return None
    bundles = {name: tuple(pairs) for name, pairs in parts.bundles.items()}
    new = bindings_of(declared, DeclaredPlaces({}), bundles)
    bindings = _in_order(parts.order, [*(b for b in before.bindings if b.source.file not in changed), *new])
    estate = replace(
        before,
        bindings=(*(b for b in bindings if b.built_in), *(b for b in bindings if not b.built_in)),
        expectations=tuple(
            _in_order(
                parts.order,
                [*(e for e in before.expectations if e.source.file not in changed), *expectations_of(declared)],
            )
        ),
    )
    former = partial(snapshots.former, folder, kept.people)
    standing = [f for f in before.findings if f.source.file not in changed and f.rule not in OF_ALL]
    findings = [*standing, *declared.findings(), *check_bindings(estate, declared, bundles, former)]
    return _loaded(kept, estate, findings, {file.text.file: file.text.digest for file in declared.files})


def has_patterns(declared: DeclaredFiles) -> bool:
    """Whether a binding stands for many places: how many all may stand for is counted over the whole estate."""
    from justlane.files.reading.shapes import FileWithBindings
    from justlane.model.patterns import ANY

    return any(ANY in at for _, file in declared.of(FileWithBindings) for b in file.bindings for at in b.at)


class _Sourced(Protocol):
    @property
    def source(self) -> Source:
        """Where it is written."""


S = TypeVar("S", bound=_Sourced)


def _in_order(order: list[str], items: Iterable[S]) -> list[S]:
    """By the order of the files, and within each as they come."""
    place = {name: number for number, name in enumerate(order)}
    return sorted(items, key=lambda item: place[item.source.file])
