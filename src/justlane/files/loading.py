"""From a folder to an estate with its people, and everything that is wrong with it, in one run."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import msgspec

from justlane.files.building import build
from justlane.files.cache import digest
from justlane.files.checking import check_names
from justlane.files.declared import DeclaredFiles, read_all
from justlane.files.lookup import error
from justlane.files.shapes import EstateFile
from justlane.model.estate import Estate
from justlane.model.findings import Finding, Severity
from justlane.model.people import Directory

_CHANGED = "changed while it was read"

PeopleReader = Callable[[str, Path, str], tuple[Directory, list[Finding]]]
"""Reads one directory: (kind of source, path, the path as findings shall show it)."""


class Loaded(NamedTuple):
    """What reading a folder gave."""

    estate: Estate | None
    """None if there is any error."""
    findings: tuple[Finding, ...]
    """Errors and warnings, by file and line."""
    digests: dict[str, str]
    """Every file that was read, relative to the folder, with the digest of what was read."""
    names_checked: bool
    """Whether all files could be read, so that what they name could be looked up."""
    patterns: tuple[str, ...]
    """What `include` names: a new file that matches changes the estate."""


def load(folder: Path, read_people: PeopleReader) -> Loaded:
    """Read an estate with its people and check everything in it."""
    declared = read_all(folder)
    digests = {file.text.file: file.text.digest for file in declared.files}
    estate: Estate | None = None
    findings: list[Finding] = []
    checked = False
    if declared.root is not None:
        people = [shape.ldif for shape in declared.root.directories.values()]
        digests |= {file: digest(folder / file) for file in people}
        directory, findings = _people(folder, declared, declared.root, read_people)
        digests |= {file: _CHANGED for file in people if digest(folder / file) != digests[file]}
        if declared.complete and not _wrong(findings):
            checked = True
            estate = build(declared, declared.root, directory)
            findings += check_names(estate, declared)
    findings = sorted({*declared.findings(), *findings}, key=lambda f: (f.source, f.message))
    if estate is not None and not _wrong(findings):
        estate = msgspec.structs.replace(estate, findings=tuple(findings))
    else:
        estate = None
    return Loaded(estate, tuple(findings), digests, checked, declared.patterns)


def _wrong(findings: list[Finding]) -> bool:
    return any(f.severity is Severity.ERROR for f in findings)


def _people(
    folder: Path, declared: DeclaredFiles, root: EstateFile, read_people: PeopleReader
) -> tuple[Directory, list[Finding]]:
    """All directories in one; a login or a group that two of them have is an error."""
    everyone = Directory({}, {})
    findings: list[Finding] = []
    for name, shape in root.directories.items():
        source = declared.files[0].text.source("directories", name, "ldif")
        if not (folder / shape.ldif).is_file():
            findings.append(
                error(
                    "no-directory",
                    source,
                    f"there is no file {shape.ldif!r}",
                    "paths are relative to the estate's folder",
                )
            )
            continue
        read, found = read_people("ldif", folder / shape.ldif, shape.ldif)
        findings += found
        for what, mine, theirs in (("user", everyone.users, read.users), ("group", everyone.groups, read.groups)):
            for twice in mine.keys() & theirs.keys():
                first = mine[twice].source.line_address
                findings.append(
                    error(
                        "same-name-twice",
                        theirs[twice].source,
                        f"the {what} {twice!r} is in two directories",
                        f"it is at {first} already",
                    )
                )
        everyone = Directory({**read.users, **everyone.users}, {**read.groups, **everyone.groups})
    return everyone, findings
