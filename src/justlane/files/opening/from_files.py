"""Reading a whole estate from its files: everything that is wrong with it, in one run."""

from __future__ import annotations

import sqlite3
from collections import ChainMap
from collections.abc import Sequence
from functools import partial
from pathlib import Path
from typing import Any, cast

import msgspec

from justlane.files.building.bindings import bundles_of
from justlane.files.building.estate import build, seconds
from justlane.files.building.name_checks import check_names
from justlane.files.opening import cache
from justlane.files.opening.loaded import FileKnown, Loaded, Parts
from justlane.files.people import snapshots
from justlane.files.people.chosen import (
    PeopleReader,
    chosen_snapshot,
    is_current,
    missing_files,
    must_be_pulled,
    read_now,
)
from justlane.files.people.snapshot_file import in_memory
from justlane.files.people.store import PeopleStore
from justlane.files.reading.estate_files import DeclaredFiles, read_all
from justlane.files.reading.file_parts import packed
from justlane.files.reading.folder import ROOT
from justlane.files.reading.shapes import (
    FILE_KINDS,
    BindingsFile,
    EstateFile,
    FileWithBindings,
    PlatformFile,
    RolesFile,
)
from justlane.files.reading.vocabulary import Shape
from justlane.model.errors import StorageError
from justlane.model.estate import Estate
from justlane.model.findings import Finding, Severity, Source, has_errors
from justlane.model.people import Directory

LARGE = 5_000
"""From so many users on they are read one by one where they are asked for, and not all of them beforehand."""


def load_whole(
    folder: Path,
    read_people: PeopleReader,
    pulled_in: Path | None = None,
    earlier: Sequence[Directory] = (),
    everybody: PeopleStore | None = None,
) -> Loaded:
    """Read an estate with its people from its files and check everything in it.

    `pulled_in` is the estate whose snapshots count, where it is another one, such as that of which this is a revision.
    Users and groups of `earlier` times may be named too: the question is about them. Where `everybody` is
    known already, nobody is read.
    """
    declared = read_all(folder)
    digests = {file.text.file: file.text.digest for file in declared.files}
    estate: Estate | None = None
    findings: list[Finding] = []
    of_people: list[Finding] = []
    people: PeopleStore | None = None
    checked = False
    if declared.root is not None:
        if everybody is not None:
            people, of_people = everybody, everybody.findings
        else:
            people, of_people = _people(folder, declared, declared.root, read_people, pulled_in)
        findings = [*of_people]
        if people is not None:
            digests |= {file: known for source in people.snapshot.sources for file, known in source.files.items()}
        if declared.complete and people is not None and not has_errors(findings):
            checked = True
            estate = build(declared, declared.root, _directory(people))
            former = partial(snapshots.former, pulled_in or folder, people)
            named = msgspec.structs.replace(estate, directory=_together([estate.directory, *earlier]))
            findings += check_names(named, declared, former)
    findings = sorted({*declared.findings(), *findings}, key=lambda f: (f.source, f.message))
    if not checked and not has_errors(findings):
        findings.insert(0, Finding("not-read", Severity.ERROR, Source(ROOT), "a part of the estate was not read"))
    if estate is not None and people is not None and not has_errors(findings):
        estate = msgspec.structs.replace(estate, findings=tuple(findings), people=people.snapshot)
    else:
        estate = None
    pull_every = seconds(declared.root.people.pull_every) if declared.root else 0
    known = {file.text.file: known_of(file.shape) for file in declared.files}
    parts = Parts(known, dict(bundles_of(declared)), of_people)
    cut = {file.text.file: packed(file.text.parts) for file in declared.files}
    return Loaded(estate, tuple(findings), digests, checked, declared.patterns, people, pull_every, parts, cut)


def known_of(shape: Shape | None) -> FileKnown:
    """What has to be known of a file to read it again."""
    kind = next((key for key, kind in FILE_KINDS.items() if isinstance(shape, kind)), "")
    if isinstance(shape, RolesFile):
        return FileKnown(kind, shape.roles_for)
    if not isinstance(shape, FileWithBindings):
        return FileKnown(kind)
    return FileKnown(
        kind,
        shape.platform if isinstance(shape, PlatformFile) else "",
        tuple(shape.bundles),
        tuple(shape.situations),
        isinstance(shape, BindingsFile) and shape.only is not None,
    )


def _together(directories: Sequence[Directory]) -> Directory:
    """Whoever is in one of them."""
    if len(directories) == 1:
        return directories[0]
    users: Any = ChainMap(*cast(Any, [directory.users for directory in directories]))
    return Directory(users, ChainMap(*cast(Any, [directory.groups for directory in directories])))


def _directory(people: PeopleStore) -> Directory:
    return people.directory() if people.count("users") > LARGE else people.whole()


def _people(
    folder: Path, declared: DeclaredFiles, root: EstateFile, read: PeopleReader, pulled_in: Path | None
) -> tuple[PeopleStore | None, list[Finding]]:
    """Everybody, from the snapshot or the files that hold now; and what is wrong with them."""
    text = declared.files[0].text
    where = pulled_in or folder
    name = snapshots.newest(where)
    if must_be_pulled(root):
        store, found = chosen_snapshot(folder, root, text, where, name)
        return store, [*found, *(store.findings if store else ())]
    for kept in (_snapshot(folder), cache.kept_people(folder)):
        if kept is not None and is_current(kept.snapshot, folder, root):
            return kept, kept.findings
    missing = missing_files(folder, root, text)
    if missing:
        return None, missing
    people, snapshot = read_now(folder, root, read)
    if has_errors(people.findings):
        return None, people.findings
    if pulled_in is not None:
        return in_memory(people, snapshot), people.findings
    try:
        return cache.keep_people(folder, people, snapshot), people.findings
    except (OSError, sqlite3.Error, UnicodeError):
        return in_memory(people, snapshot), people.findings


def _snapshot(folder: Path) -> PeopleStore | None:
    """The newest snapshot, if there is one that can be read."""
    name = snapshots.newest(folder)
    try:
        return snapshots.open_snapshot(folder, name) if name else None
    except StorageError:
        return None
