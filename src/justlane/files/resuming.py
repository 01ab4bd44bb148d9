"""An estate that was found sound before, of which a few files with bindings have changed: only these are read."""

from __future__ import annotations

import sqlite3
from collections.abc import Iterable
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Protocol, TypeVar

from msgspec.structs import replace

from justlane.files.keeping.cache import Earlier
from justlane.files.loaded import Loaded
from justlane.model.errors import StorageError
from justlane.model.estate import Estate
from justlane.model.findings import Finding, Severity, Source

if TYPE_CHECKING:
    from justlane.files.reading.estate_files import DeclaredFiles

_OF_ALL = ("same-binding-twice", "two-lists")
"""Findings about bindings of several files together."""


def resumed(folder: Path, kept: Earlier) -> Loaded | None:
    """The estate with what changed; None if all of it has to be read."""
    if not set(kept.changed) <= set(kept.origin.parts.plain):
        return None
    try:
        estate = replace(kept.store.with_bindings(), directory=kept.people.directory(), people=kept.people.snapshot)
        if not kept.changed:
            return _loaded(kept, estate, list(estate.findings), {})
        return _with_changes(folder, kept, estate)
    except (OSError, sqlite3.Error, StorageError):
        return None


def _loaded(kept: Earlier, estate: Estate, findings: list[Finding], digests: dict[str, str]) -> Loaded:
    sound = not any(f.severity is Severity.ERROR for f in findings)
    found = tuple(sorted(set(findings), key=lambda f: (f.source, f.message)))
    origin = kept.origin
    known = replace(estate, findings=found) if sound else None
    files = {**origin.digests, **digests}
    matches, pull_every = tuple(origin.matches), estate.pull_every
    return Loaded(known, found, files, True, matches, kept.people, pull_every, origin.parts, kept.store, bool(digests))


def _with_changes(folder: Path, kept: Earlier, before: Estate) -> Loaded | None:
    from justlane.files.building.bindings import bindings_of, expectations_of
    from justlane.files.building.checking import check_bindings
    from justlane.files.building.places import Places
    from justlane.files.people import snapshots
    from justlane.files.reading.estate_files import read_some
    from justlane.files.whole import is_plain

    parts, changed = kept.origin.parts, set(kept.changed)
    declared = read_some(folder, [name for name in parts.order if name in changed])
    if not all(is_plain(file.shape) for file in declared.files) or _has_patterns(declared):
        return None
    bundles = {name: tuple(pairs) for name, pairs in parts.bundles.items()}
    new = bindings_of(declared, Places({}), bundles)
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
    standing = [f for f in before.findings if f.source.file not in changed and f.rule not in _OF_ALL]
    findings = [*standing, *declared.findings(), *check_bindings(estate, declared, bundles, former)]
    return _loaded(kept, estate, findings, {file.text.file: file.text.digest for file in declared.files})


def _has_patterns(declared: DeclaredFiles) -> bool:
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
