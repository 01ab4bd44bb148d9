"""An estate that was found sound before, of which some files changed since: only what is another way there is read.

Files that are as they were are not opened, of long ones only the parts that are others are parsed (`file_parts`).
Whatever stands as it did keeps its meaning and its findings; where a change could make something wrong that stands
elsewhere, or gives an error in what others name, the whole is read, which tells it at its line.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol, TypeVar, cast

from msgspec.structs import replace

from justlane.files.opening.cache import KeptEstate
from justlane.files.opening.loaded import FileKnown, Loaded, Parts
from justlane.files.opening.new_people import findings_of_new_people
from justlane.files.reading.folder import ROOT
from justlane.model.errors import StorageError
from justlane.model.estate import Estate, Platform
from justlane.model.findings import Finding, Source, has_errors
from justlane.model.scopes import Scope, platform_of

if TYPE_CHECKING:
    from justlane.files.reading.estate_files import DeclaredFile, DeclaredFiles
    from justlane.files.reading.file_parts import Standing
    from justlane.model.roles import Role

_OF_ALL = ("same-binding-twice", "two-lists")
"""Findings about bindings of several files together."""


class _Sourced(Protocol):
    @property
    def source(self) -> Source:
        """Where it is written."""


S = TypeVar("S", bound=_Sourced)


def read_again(folder: Path, kept: KeptEstate, place: Path | None = None) -> Loaded | None:
    """The estate with what changed; None if all of it has to be read. The changed files are read from another `place`
    if they are not saved yet."""
    parts = kept.origin.parts
    if not set(kept.changed) <= set(parts.order) or ROOT in kept.changed:
        return None
    try:
        estate = replace(kept.store.with_bindings(), directory=kept.people.directory(), people=kept.people.snapshot)
        of_people = findings_of_new_people(folder, kept, estate) if kept.new_people else parts.of_people
        if of_people is None:
            return None
        estate = replace(estate, findings=(*(f for f in estate.findings if f not in parts.of_people), *of_people))
        known = kept._replace(origin=replace(kept.origin, parts=replace(parts, of_people=of_people)))
        if not kept.changed:
            return _loaded(known, estate, list(estate.findings), known.origin.parts)
        return _Changes(folder, known, place or folder, estate).loaded()
    except (OSError, sqlite3.Error, StorageError):
        return None


def _loaded(
    kept: KeptEstate,
    estate: Estate,
    findings: list[Finding],
    parts: Parts,
    read: DeclaredFiles | None = None,
    placed: frozenset[str] = frozenset(),
) -> Loaded:
    from justlane.files.reading.file_parts import packed

    found = tuple(sorted(set(findings), key=lambda f: (f.source, f.message)))
    origin, texts = kept.origin, [file.text for file in read.files] if read else []
    files = {**origin.digests, **{text.file: text.digest for text in texts}}
    if kept.new_people:
        files = {file: known for file, known in files.items() if file in origin.parts.order}
        files |= {file: known for source in kept.people.snapshot.sources for file, known in source.files.items()}
    return Loaded(
        None if has_errors(found) else replace(estate, findings=found),
        found,
        files,
        names_checked=True,
        patterns=tuple(origin.matches),
        people=kept.people,
        pull_every=estate.pull_every,
        parts=parts,
        cut={text.file: packed(text.parts) for text in texts},
        resumed_from=kept.store,
        changed=bool(texts) or kept.new_people,
        placed=placed,
    )


@dataclass
class _Changes:
    """What changed of an estate, on its way into it."""

    folder: Path
    kept: KeptEstate
    place: Path
    before: Estate

    def loaded(self) -> Loaded | None:
        from justlane.files.opening.from_files import known_of

        parts = self.kept.origin.parts
        declared = self._read(self.kept.changed)
        bundles = self._bundles(declared)
        altered = {name for name, pairs in parts.bundles.items() if bundles.get(name) != pairs}
        if altered:  # what they bring stands at the lines that give them: those files have to be read too
            giving = {b.source.file for b in self.before.bindings if b.bundle in altered}
            rest = [file for file in declared.files if file.text.file not in giving]
            declared.files = self._in_order([*rest, *self._read(giving, whole=True).files])
        now = {file.text.file: known_of(file.shape) for file in declared.files if file.shape is not None}
        if len(now) < len(declared.files) or not all(_stands(parts.files[name], known) for name, known in now.items()):
            return None
        if _has_patterns(declared):
            return None
        return self._with(declared, replace(parts, files={**parts.files, **now}, bundles=bundles))

    def _read(self, files: Iterable[str], *, whole: bool = False) -> DeclaredFiles:
        """Some files, changed or not: of long ones what is another way now, unless the whole is asked for."""
        from justlane.files.reading.estate_files import DeclaredFiles, read_some
        from justlane.files.reading.file_parts import unpacked

        found: list[DeclaredFile] = []
        for name in files:
            known = {} if whole else {name: unpacked(self.kept.store.cut(name))}
            found += read_some(self.place if name in self.kept.changed else self.folder, [name], known).files
        return DeclaredFiles(self._in_order(found), ())

    def _in_order(self, files: Iterable[DeclaredFile]) -> list[DeclaredFile]:
        order = self.kept.origin.parts.order
        return sorted(files, key=lambda file: order.index(file.text.file))

    def _bundles(self, declared: DeclaredFiles) -> dict[str, tuple[tuple[str, str], ...]]:
        from justlane.files.building.bindings import bundles_of

        parts, read = self.kept.origin.parts, {file.text.file for file in declared.files}
        names = [name for file, known in parts.files.items() if file not in read for name in known.bundles]
        return {**{name: parts.bundles[name] for name in names}, **bundles_of(declared)}

    def _with(self, declared: DeclaredFiles, parts: Parts) -> Loaded | None:
        from justlane.files.building.bindings import bindings_of, expectations_of, situations_of
        from justlane.files.building.name_checks import check_bindings
        from justlane.files.building.places import DeclaredPlaces
        from justlane.files.building.platform_checks import check_platforms
        from justlane.files.people import snapshots

        before, bundles = self.before, parts.bundles
        again = _Again(parts.order, {file.text.file: file.text.standing for file in declared.files})
        platforms, placed = self._platforms(declared, again)
        if platforms is None:
            return None
        bindings = again.merged(before.bindings, bindings_of(declared, DeclaredPlaces({}), bundles))
        situations = {**before.situations, **situations_of(declared, before.time_zone)}
        estate = replace(
            before,
            platforms={**before.platforms, **platforms},
            bindings=(*(b for b in bindings if b.built_in), *(b for b in bindings if not b.built_in)),
            expectations=tuple(again.merged(before.expectations, expectations_of(declared))),
            situations={n: situations[n] for file in parts.files.values() for n in file.situations},
            bundles={name: frozenset(platform_of(scope) for _, scope in pairs) for name, pairs in bundles.items()},
        )
        former = partial(snapshots.former, self.folder, self.kept.people)
        found = [f for f in again.standing(before.findings) if f.rule not in _OF_ALL]
        found += declared.findings()
        unmoved = {name: self.kept.store.tree(name).kinds for name in {*platforms} - placed}
        found += check_platforms(estate, declared, former, platforms, unmoved)
        found += check_bindings(estate, declared, bundles, former)
        others_name_it = platforms or bundles != self.kept.origin.parts.bundles
        if others_name_it and (has_errors(found) or not _still_hold(before, estate, platforms, placed)):
            return None
        return _loaded(self.kept, estate, found, parts, declared, frozenset(placed))

    def _platforms(self, declared: DeclaredFiles, again: _Again) -> tuple[dict[str, Platform] | None, set[str]]:
        """The platforms that are declared another way, and those of them whose places are; none if that cannot be
        told."""
        from justlane.files.building.bindings import break_glass_ceilings
        from justlane.files.building.estate import platform_in, roles_in
        from justlane.files.reading.file_parts import PLACES
        from justlane.files.reading.shapes import PlatformFile, RolesFile

        found: dict[str, Platform] = {}
        placed: set[str] = set()
        new: dict[str, list[Role]] = {}
        for text, shape in declared.of(PlatformFile):
            name, old = shape.platform, self.before.platforms[shape.platform]
            platform = platform_in(text, shape, break_glass_ceilings(self.before.break_glass))
            if text.standing is not None and text.standing.keeps(PLACES):
                lines = again.lines_of_places(old.scopes, name)
                if lines or platform.scopes[name] != old.scopes[name]:
                    placed.add(name)
                    scopes = {address: _moved(scope, lines) for address, scope in old.scopes.items()}
                    platform = replace(platform, scopes={**scopes, **platform.scopes})
                else:
                    platform = replace(platform, scopes=old.scopes)
            else:
                placed.add(name)
            found[name] = platform
            new.setdefault(name, []).extend(roles_in(text, shape))
        for text, of_roles in declared.of(RolesFile):
            found.setdefault(of_roles.roles_for, self.before.platforms[of_roles.roles_for])
            new.setdefault(of_roles.roles_for, []).extend(roles_in(text, of_roles))
        for name, platform in found.items():
            roles = again.merged(self.before.platforms[name].roles.values(), new[name], first=platform.source.file)
            found[name] = replace(platform, roles={role.name: role for role in roles})
            if len(found[name].roles) < len(roles):
                return None, placed  # one is declared twice
        return found, placed


@dataclass
class _Again:
    """What stands in files that were read again, in part or not at all."""

    order: list[str]
    moves: Mapping[str, Standing | None]

    def standing(self, items: Iterable[S]) -> list[S]:
        """Those that were not read again, with the lines at which they stand now."""
        found = []
        for item in items:
            file = item.source.file
            if file not in self.moves:
                found.append(item)
                continue
            standing = self.moves[file]
            lines = standing.moved(item.source.line) if standing else None
            if lines is not None:
                found.append(_moved(item, lines))
        return found

    def lines_of_places(self, scopes: Mapping[str, Scope], platform: str) -> int:
        """By how many lines the places of a platform that were not read again have moved; its root is not among
        them."""
        some = iter(scopes)
        first = next((address for address in some if address != platform), None)
        if first is None:
            return 0
        source = scopes[first].source
        standing = self.moves[source.file]
        lines = standing.moved(source.line) if standing else None
        assert lines is not None, "they were not read"
        return lines

    def merged(self, before: Iterable[S], new: Iterable[S], first: str = "") -> list[S]:
        """What stands, and what was read, in the order in which all of it stands."""
        place = {name: number for number, name in enumerate(self.order)}
        if first:
            place[first] = -1
        return sorted([*self.standing(before), *new], key=lambda i: (place[i.source.file], i.source.line))


def _moved(one: S, lines: int) -> S:
    """A thing with all that is written in it, so many lines further down."""
    if not lines:
        return one
    thing: Any = one
    said = {name: getattr(thing, name) for name in thing.__struct_fields__}
    return cast(S, replace(thing, **{name: _lower(value, lines) for name, value in said.items()}))


def _lower(value: Any, lines: int) -> Any:
    if isinstance(value, Source):
        return Source(value.file, value.line + lines, value.column)
    if isinstance(value, tuple) and value and hasattr(value[0], "source"):
        return tuple(_moved(one, lines) for one in value)
    return value


def _stands(before: FileKnown, now: FileKnown) -> bool:
    """Whether a file still is of its kind, and has whatever others may name in it."""
    of = (before.kind, before.platform, before.confined) == (now.kind, now.platform, now.confined)
    return of and not now.confined and {*before.names} <= {*now.names}


def _has_patterns(declared: DeclaredFiles) -> bool:
    """Whether a binding stands for many places: how many all may stand for is counted over the whole estate."""
    from justlane.files.reading.shapes import FileWithBindings
    from justlane.model.patterns import ANY

    return any(ANY in at for _, file in declared.of(FileWithBindings) for b in file.bindings for at in b.at)


def _still_hold(before: Estate, after: Estate, changed: Iterable[str], placed: Collection[str]) -> bool:
    """Whether what other files say of changed platforms can be nothing but right, as it was before."""
    from justlane.files.building.delegation import reaches_beyond

    if any(b.pattern and platform_of(b.scope) in placed for b in after.bindings):
        return False
    return all(
        _same_names(before.platforms[name], after.platforms[name], name in placed) for name in changed
    ) and not reaches_beyond(after)


def _same_names(before: Platform, now: Platform, placed: bool) -> bool:
    """Whether a platform has all that it had, and what lines have to obey is as it was."""
    bare = [replace(p.habits, lines={}, sign_in="", on_the_way="", open_role="") for p in (before, now)]
    applies = all(
        name in now.actions and now.actions[name].applies_to == a.applies_to for name, a in before.actions.items()
    )
    names = {*before.roles} <= {*now.roles} and {*before.local_groups} <= {*now.local_groups}
    kinds = not placed or all(a in now.scopes and now.scopes[a].kind == s.kind for a, s in before.scopes.items())
    return bare[0] == bare[1] and applies and names and kinds
