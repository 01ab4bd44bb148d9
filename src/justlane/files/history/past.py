"""An estate as it was at an earlier time: the people of a snapshot, the files of a commit, the edits of the journal.

Nobody knows more than was kept: what an answer is from, and what cannot be known, is said with it.
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

from justlane.engine.facts.index import EstateIndex
from justlane.files.disk.beneath import is_file
from justlane.files.disk.durable import write_atomically
from justlane.files.editing.draft import carried_out, content_of, taken_back
from justlane.files.history.revisions import commit_before, written_out
from justlane.files.people import snapshots
from justlane.files.people.chosen import PeopleReader
from justlane.files.people.store import PeopleStore
from justlane.files.reading.folder import ROOT
from justlane.files.reading.named_files import digest_of
from justlane.files.saving.journal import FileEdit, Journal, Note
from justlane.model.errors import EstateError, RefusedError, UsageError
from justlane.model.findings import Severity

_SHORT = 10


class Past(NamedTuple):
    """An estate of an earlier time."""

    estate: EstateIndex | None
    """None if its files were then what they are today."""
    snapshot: str
    """The name of the snapshot that the people are from; empty if they come with the files."""
    told: tuple[str, ...]
    """What it is from, and what cannot be known."""


def as_it_was(estate: Path, when: str, read_people: PeopleReader) -> Past:
    """The estate at a time: a day or a time in UTC, or the name of a snapshot. UsageError if nothing is known of it."""
    moment = moment_named(when)
    try:
        name = snapshots.find_snapshot(estate, when)
    except UsageError:
        if moment is None:
            raise
        name = ""
    people = snapshots.open_snapshot(estate, name) if name else None
    then = people.snapshot.taken if people is not None and moment is None else moment
    assert then is not None
    commit = commit_before(estate, then)
    with TemporaryDirectory(prefix="justlane-") as temporary:
        folder = Path(temporary) / "estate"
        folder.mkdir()
        told = [f"the people of the snapshot {name}"] if name else []
        if commit is not None:
            written_out(commit.id, estate, folder)
            told.append(f"the files of commit {commit.id[:_SHORT]} ({commit.time:%Y-%m-%d %H:%M} UTC)")
            told += _forward(estate, folder, commit.time, then)
        else:
            without = _backward(estate, folder, then)
            told += without or [TODAY]
            if not without and not name:
                snapshots.find_snapshot(estate, when)  # which says that there is none
            if not without:
                return Past(None, name, tuple(told))
        if not name:
            told.append(f"the people as {'that commit' if commit else 'the directory of today'} has them")
        return Past(_loaded(folder, estate, people, read_people, when), name, tuple(told))


TODAY = "the files as they are today: neither a commit nor the journal knows them then"


def moment_named(when: str) -> datetime | None:
    """The end of a day, or a time, in UTC; None for what is neither."""
    for form, rest in (("%Y-%m-%d", "T23:59:59"), ("%Y-%m-%dT%H:%M", ":59"), ("%Y-%m-%dT%H:%M:%S", "")):
        text = when.strip().rstrip("Z").replace(" ", "T")
        try:
            datetime.strptime(text, form)
        except ValueError:
            continue
        return datetime.fromisoformat(text + rest).replace(tzinfo=UTC)
    return None


def _forward(estate: Path, folder: Path, since: datetime, upto: datetime) -> list[str]:
    """Carry out the edits that were made after a commit, on its files; what is to be said of that."""
    done = 0
    for note in Journal(estate).edits():
        if since < _when(note) <= upto:
            contents = {edit.file: _after(folder, edit) for edit in note.files}
            if None in contents.values():
                return [*_counted(done), f"edit {note.number} of the journal does not fit these files: it is left out"]
            for file, content in contents.items():
                write_atomically(folder, file, content or b"")
            done += 1
    return [*_counted(done), "edits by hand that were not committed then cannot be known"]


def _counted(done: int) -> list[str]:
    return [f"{done} edit{'s' * (done != 1)} of the journal after it"] if done else []


def _after(folder: Path, edit: FileEdit) -> bytes | None:
    """A file after an edit; None if it is not the file that was edited."""
    if not is_file(folder, edit.file):
        return None
    content = content_of(folder, edit.file)
    if digest_of(content) == edit.after:
        return content
    return carried_out(content, edit.hunks) if digest_of(content) == edit.before else None


def _backward(estate: Path, folder: Path, then: datetime) -> list[str]:
    """Write out today's files without the edits that were made since; what is to be said of that, nothing if there are
    none."""
    since = [note for note in Journal(estate).edits() if _when(note) > then]
    if not since:
        return []
    contents: dict[str, bytes] = {}
    for note in reversed(since):
        for edit in note.files:
            content = contents.get(edit.file) or content_of(estate, edit.file)
            try:
                contents[edit.file] = taken_back(edit.file, content, edit.hunks, edit.after)
            except RefusedError as error:
                message = f"the files of {then:%Y-%m-%d} cannot be known: {error.message}, after edit {note.number}"
                raise UsageError(message, "keep the estate in git, then every day is known") from error
    _write_all(estate, folder, contents)
    count = f"the {len(since)} edits" if len(since) > 1 else "the edit"
    return [
        f"the files of today without {count} of the journal made since",
        "changes by hand since then cannot be known",
    ]


def _write_all(estate: Path, folder: Path, contents: Mapping[str, bytes]) -> None:
    """All files of an estate, some with another content."""
    from justlane.files.reading.estate_files import read_all

    declared = read_all(estate)
    named = [file for shape in (declared.root.directories.values() if declared.root else ()) for _, file in shape.files]
    for file in (ROOT, *(one.text.file for one in declared.files), *named):
        write_atomically(folder, file, contents[file] if file in contents else content_of(estate, file))


def _when(note: Note) -> datetime:
    return datetime.fromisoformat(note.when)


def _loaded(
    folder: Path, estate: Path, people: PeopleStore | None, read_people: PeopleReader, when: str
) -> EstateIndex:
    from justlane.files.opening.from_files import load_whole

    loaded = load_whole(folder, read_people, estate, everybody=people)
    if loaded.estate is None:
        errors = [finding for finding in loaded.findings if finding.severity is Severity.ERROR]
        first = f": {errors[0].source}: {errors[0].message}" if errors else ""
        message = f"the estate of {when} is not sound{first}"
        raise UsageError(message, "name another time, or the people of then: --as-of SNAPSHOT") from EstateError(errors)
    return loaded.ready
