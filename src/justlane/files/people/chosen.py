"""Which people an estate has: those of a snapshot, or those that its files hold just now.

Directories that have to be asked are read by a pull only. An estate whose directories are all files needs none: they
are read whenever they changed.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from justlane.files.people import snapshots
from justlane.files.people.intake import Intake
from justlane.files.people.population import Naming, Population
from justlane.files.people.store import PeopleStore
from justlane.files.reading.named_files import digest, trouble
from justlane.model.errors import StorageError
from justlane.model.findings import Finding, Severity
from justlane.model.people import Snapshot, SourceRead

if TYPE_CHECKING:
    from justlane.files.reading.directory_shapes import DirectoryShape
    from justlane.files.reading.shapes import EstateFile
    from justlane.files.reading.yamltext import Text

PeopleReader = Callable[[str, "DirectoryShape", Path], Intake]
"""Reads one directory: (its name, how, the estate's folder)."""


def must_be_pulled(root: EstateFile) -> bool:
    """Whether one of the directories has to be asked, so that it is read by a pull only."""
    return any(not shape.files for shape in root.directories.values())


def settings_of(shape: DirectoryShape) -> str:
    """Digest of how a directory is to be read."""
    return hashlib.blake2b(shape.model_dump_json().encode(), digest_size=10).hexdigest()


def missing_files(folder: Path, root: EstateFile, text: Text) -> list[Finding]:
    """The files that directories name and that are not there, or may not be read."""
    hint = "paths are relative to the estate's folder"
    found = []
    for name, shape in root.directories.items():
        for key, file in shape.files:
            wrong = trouble(folder, file)
            if wrong:
                where = ("directories", name, shape.kind, key)
                source = text.source(*where) if where in text.values else text.source(*where[:3])
                found.append(
                    Finding("no-directory", Severity.ERROR, source, f"the file {file!r} cannot be read: {wrong}", hint)
                )
    return found


def read_now(folder: Path, root: EstateFile, read: PeopleReader) -> tuple[Population, Snapshot]:
    """Read all directories. What is wrong is among the findings of the population; OutsideError if one fails."""
    taken = datetime.now(UTC)
    people = Population(root.time_zone)
    for name, shape in root.directories.items():
        before = {file: digest(folder, file) for _, file in shape.files}
        intake = read(name, shape, folder)
        for _, file in shape.files:
            if digest(folder, file) != before[file]:
                intake.wrong(0, f"{file} changed while it was read", "try again when nobody writes to it")
        read_as = SourceRead(
            name, shape.kind, shape.where, settings_of(shape), before, len(intake.logins), len(intake.group_names)
        )
        naming = Naming(shape.login_becomes, shape.group_becomes, same_person=shape.same_login == "same person")
        people.add(intake, read_as, naming)
    return people, Snapshot(taken, tuple(people.sources))


def is_current(snapshot: Snapshot, folder: Path, root: EstateFile) -> bool:
    """Whether people were read from these directories, in this way, and from files that are the same today."""
    return [s.name for s in snapshot.sources] == list(root.directories) and not stale(snapshot, folder, root)


def stale(snapshot: Snapshot, folder: Path, root: EstateFile) -> list[str]:
    """The directories that were to be read in another way, or from files that have changed."""
    found = []
    for source in snapshot.sources:
        shape = root.directories.get(source.name)
        same_files = all(digest(folder, file) == known for file, known in source.files.items())
        if shape and (settings_of(shape) != source.settings or not same_files):
            found.append(source.name)
    return found


def _dated_later(name: str, text: Text) -> Finding:
    message = f"the snapshot {name} is dated later than now: nothing is answered from it"
    hint = "look at this machine's clock, and at who wrote it; then take it out of snapshots/"
    return Finding("not-pulled", Severity.WARNING, text.key("directories"), message, hint)


def chosen_snapshot(
    folder: Path, root: EstateFile, text: Text, pulled_in: Path, name: str
) -> tuple[PeopleStore | None, list[Finding]]:
    """The snapshot that stands for an estate's directories, and what is to be said of it."""
    later = snapshots.dated_later(pulled_in)
    found = [_dated_later(one, text) for one in later]
    if not name:
        source = text.key("directories")
        message = "nobody has been read from the directories yet"
        message += f"; {', '.join(later)} is dated later than now" if later else ""
        return None, [Finding("not-pulled", Severity.ERROR, source, message, "read them: justlane people pull")]
    try:
        store = snapshots.open_snapshot(pulled_in, name)
    except StorageError as error:
        return None, [Finding("damaged", Severity.ERROR, text.key("directories"), error.message, error.hint)]
    missing = set(root.directories) - {source.name for source in store.snapshot.sources}
    for directory in [n for n in root.directories if n in missing]:
        message = f"the directory {directory} is not in the snapshot {name}"
        source, hint = text.key("directories", directory), "read it: justlane people pull"
        found.append(Finding("not-pulled", Severity.ERROR, source, message, hint))
    for directory in stale(store.snapshot, folder, root):
        message = f"the directory {directory} is read in another way, or has changed, since the snapshot {name}"
        source, hint = text.key("directories", directory), "read it anew: justlane people pull"
        found.append(Finding("not-pulled", Severity.WARNING, source, message, hint))
    return store, found
