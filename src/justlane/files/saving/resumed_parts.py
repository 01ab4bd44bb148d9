"""The estate after an edit of a few entries of a long file: only these are read, the rest is as it was known."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable, Sequence
from functools import partial
from pathlib import Path
from typing import Any, TypeVar

from msgspec.structs import replace

from justlane.files.building.bindings import bindings_of, expectations_of
from justlane.files.building.estate import roles_of
from justlane.files.building.lookup import Lookup
from justlane.files.building.name_checks import check_bindings
from justlane.files.building.places import DeclaredPlaces
from justlane.files.building.platform_checks import check_roles
from justlane.files.disk.durable import write_atomically
from justlane.files.in_place.window import Window
from justlane.files.opening.cache import KeptEstate
from justlane.files.opening.from_changes import OF_ALL, has_patterns
from justlane.files.opening.from_files import is_plain
from justlane.files.opening.loaded import Loaded
from justlane.files.people import snapshots
from justlane.files.reading.estate_files import read_some
from justlane.files.reading.named_files import digest_of
from justlane.model.errors import StorageError
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Finding, Severity, Source
from justlane.model.roles import Role

S = TypeVar("S", bound=Any)


def resumed_around(folder: Path, place: Path, kept: KeptEstate, window: Window) -> Loaded | None:
    """The estate in a folder with what a window changes; None if more has to be read. `place` is an empty folder to
    read from."""
    try:
        estate = replace(kept.store.with_bindings(), directory=kept.people.directory(), people=kept.people.snapshot)
        if window.section == "bindings":
            return _with_bindings(folder, place, kept, estate, window)
        return _with_roles(folder, place, kept, estate, window)
    except (OSError, sqlite3.Error, StorageError):
        return None


def _with_bindings(folder: Path, place: Path, kept: KeptEstate, before: Estate, window: Window) -> Loaded | None:
    parts, file = kept.origin.parts, window.file
    if file not in parts.plain:
        return None
    write_atomically(place, file, window.alone("bindings:\n\n"))
    declared = read_some(place, [file])
    if not all(is_plain(one.shape) for one in declared.files) or has_patterns(declared):
        return None
    bundles = {name: tuple(pairs) for name, pairs in parts.bundles.items()}
    new = bindings_of(declared, DeclaredPlaces({}), bundles)
    others = [binding for binding in before.bindings if binding.source.file != file]
    order = {name: number for number, name in enumerate(parts.order)}
    bindings = [*others, *_around([b for b in before.bindings if b.source.file == file], window), *new]
    bindings.sort(key=lambda b: (order[b.source.file], b.source.line))
    mine = [e for e in before.expectations if e.source.file == file]
    expectations = [*(e for e in before.expectations if e.source.file != file), *_around(mine, window)]
    expectations += expectations_of(declared)
    expectations.sort(key=lambda e: (order[e.source.file], e.source.line))
    estate = replace(
        before,
        bindings=(*(b for b in bindings if b.built_in), *(b for b in bindings if not b.built_in)),
        expectations=tuple(expectations),
    )
    found = [f for f in before.findings if f.source.file != file and f.rule not in OF_ALL]
    found += _around([f for f in before.findings if f.source.file == file and f.rule not in OF_ALL], window)
    former = partial(snapshots.former, folder, kept.people)
    findings = [*found, *declared.findings(), *check_bindings(estate, declared, bundles, former)]
    return _loaded(kept, estate, findings, window, keepable=True)


def _around(some: Sequence[S], window: Window) -> list[S]:
    """What stands above a window as it is, what stands below it by as many lines moved."""
    found: list[S] = []
    for one in some:
        line = _line(one)
        if line <= window.span.first:
            found.append(one)
        elif line > window.span.last:
            found.append(_moved(one, window.longer))
    return found


def _line(one: Any) -> int:
    source: Source = one.source
    return source.line


def _moved(one: S, lines: int) -> S:
    source: Source = one.source
    return replace(one, source=replace(source, line=source.line + lines)) if lines else one


def _with_roles(folder: Path, place: Path, kept: KeptEstate, before: Estate, window: Window) -> Loaded | None:
    file = window.file
    names = {p.name for p in before.platforms.values() for role in p.roles.values() if role.source.file == file}
    if len(names) != 1 or before.delegations:
        return None
    platform = before.platforms[names.pop()]
    if window.longer and _stands_below(before, platform, window):
        return None
    write_atomically(place, file, window.alone(f"roles for: {platform.name}\nroles:\n"))
    declared = read_some(place, [file])
    new = dict(roles_of(declared))
    others = [role for role in platform.roles.values() if role.source.file != file]
    mine = _around([role for role in platform.roles.values() if role.source.file == file], window)
    roles = {role.name: role for role in _in_order(platform, [*others, *map(partial(_patterns, window), mine)], new)}
    changed = replace(platform, roles=roles)
    estate = replace(before, platforms={**before.platforms, platform.name: changed})
    former = partial(snapshots.former, folder, kept.people)
    wrong = [*declared.findings(), *check_roles(Lookup(estate, declared, former), changed)]
    gone = {*platform.roles} - {*roles}
    return None if gone else _loaded(kept, estate, [*before.findings, *wrong], window, keepable=False)


def _patterns(window: Window, role: Role) -> Role:
    """A role with the lines of its patterns moved like the role itself."""
    if role.source.line <= window.span.first or not window.longer:
        return role
    moved = {
        key: tuple(replace(p, source=replace(p.source, line=p.source.line + window.longer)) for p in getattr(role, key))
        for key in ("allows", "excepts", "builds_on", "ships_with")
    }
    said = role.owner_source
    owner = replace(said, line=said.line + window.longer) if said else None
    return replace(role, owner_source=owner, **moved)


def _in_order(platform: Platform, known: Iterable[Role], new: dict[str, Role]) -> list[Role]:
    """All roles in the order in which they are declared; new ones behind the one that they stand behind."""
    roles = {role.name: role for role in known} | new
    first = next(iter(platform.roles.values())).source.file
    order = {
        file: n for n, file in enumerate(dict.fromkeys([first, *(r.source.file for r in platform.roles.values())]))
    }
    return sorted(roles.values(), key=lambda role: (order[role.source.file], role.source.line))


def _stands_below(estate: Estate, platform: Platform, window: Window) -> bool:
    """Whether something else in the file stands below the window, so that its lines would have to be moved too."""
    some: list[Source] = [*platform.habits.lines.values(), *(a.source for a in platform.actions.values())]
    some += [local.source for local in platform.local_groups.values()]
    more: list[Any] = [*platform.publications, *platform.ceilings, *platform.settings]
    some += [platform.administration.source] if platform.administration else []
    some += [platform.connection.source] if platform.connection else []
    root = platform.scopes[platform.name].owner_source
    some += [root] if root else []
    some += [one.source for one in (*more, *estate.bindings, *estate.expectations, *estate.findings)]
    addresses = iter(platform.scopes)
    some += [platform.scopes[address].source for address in (next(addresses), next(addresses, platform.name))]
    return any(source.file == window.file and source.line > window.span.last for source in some)


def _loaded(kept: KeptEstate, estate: Estate, findings: list[Finding], window: Window, *, keepable: bool) -> Loaded:
    sound = not any(finding.severity is Severity.ERROR for finding in findings)
    found = tuple(sorted(set(findings), key=lambda f: (f.source, f.message)))
    known = replace(estate, findings=found) if sound else None
    digests = {**kept.origin.digests, window.file: digest_of(window.content)}
    matches, every = tuple(kept.origin.matches), estate.pull_every
    return Loaded(known, found, digests, True, matches, kept.people, every, kept.origin.parts, kept.store, keepable)
