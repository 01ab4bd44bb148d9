"""Saving a draft: under a lock, refused where a file changed meanwhile, and so that a kill at any moment loses nothing.

The order: all new contents are written aside, the edit is written into the journal, the files get their new contents
in one step each, the journal says so. What was cut off before any file was changed never came about. A journal is data,
which a stranger may have written: no file is ever changed by what it says without the person being asked.
"""

from __future__ import annotations

import fcntl
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path

from justlane.files.disk.beneath import open_folder
from justlane.files.disk.durable import replacing
from justlane.files.editing.draft import Changed, carried_out, content_of
from justlane.files.people.snapshots import FOLDER, newest
from justlane.files.reading.folder import ROOT
from justlane.files.reading.named_files import digest, digest_of
from justlane.files.saving.journal import FileEdit, Journal, Note, Told
from justlane.model.errors import RefusedError, StorageError

State = Mapping[str, str]
"""Everything that an estate is read from, each with the digest of what it holds."""


def state_of(folder: Path) -> State:
    """All that an estate is read from, as it is now: its files, and those or the snapshot that the people come from."""
    from justlane.files.reading.estate_files import names_of_files, read_root

    root = read_root(folder)
    named = [file for shape in (root.directories.values() if root else ()) for _, file in shape.files]
    found = {name: digest(folder, name) for name in (*sorted(names_of_files(folder)), *named)}
    return {**found, FOLDER: newest(folder)}


def save(folder: Path, changes: Sequence[Changed], told: Told, state: State) -> Note:
    """Save the files of a draft, whose effect was worked out from a state of the estate. RefusedError if anything is
    not any more what it was, StorageError if something cannot be written; then nothing is changed."""
    with locked(folder):
        _finish(folder)
        _require_state(folder, state)
        require_read(folder, changes)
        _require_unchanged(folder, changes)
        journal = Journal(folder)
        edits = [FileEdit(c.file, digest_of(c.before), digest_of(c.after), c.hunks) for c in changes]
        # the new contents lie beside the files, on the disk, before the journal says that they come: killed
        # here, nothing came about
        with replacing(folder, {c.file: c.after for c in changes}) as let_them_stand:
            note = journal.begin(told, edits)
            let_them_stand()
        journal.end(note.number)
        return note


def finish(folder: Path) -> None:
    """Settle an edit that was cut off, if there is one. RefusedError if only a part of its files was changed."""
    if Journal(folder).unfinished():
        with locked(folder):
            _finish(folder)


def _finish(folder: Path) -> None:
    journal = Journal(folder)
    note = journal.unfinished()
    if note is None:
        return
    # all files as before: it never came about; none: only the mark is missing; some: that is for a person to
    # decide
    left = left_of(folder, note)
    if left and len(left) < len(note.files):
        message = f"edit {note.number} of the journal ({note.command}) was cut off: {left[0].file} was not changed yet"
        raise RefusedError(message, "look at the rest of it, and finish it: `justlane journal finish`")
    if left:
        journal.drop(note.number)
    else:
        journal.end(note.number)


def left_of(folder: Path, note: Note) -> list[Changed]:
    """The files of an edit that still are what they were before it."""
    contents = [(edit, content_of(folder, edit.file)) for edit in note.files]
    return [
        Changed(edit.file, content, carried_out(content, edit.hunks))
        for edit, content in contents
        if digest_of(content) == edit.before
    ]


def carry_on(folder: Path, changes: Sequence[Changed], note: Note, state: State) -> None:
    """Do the rest of an edit that was cut off. RefusedError or StorageError as in saving."""
    with locked(folder):
        _require_state(folder, state)
        require_read(folder, changes)
        _require_unchanged(folder, changes)
        with replacing(folder, {c.file: c.after for c in changes}) as let_them_stand:
            let_them_stand()
        Journal(folder).end(note.number)


def require_read(folder: Path, changes: Sequence[Changed]) -> None:
    """RefusedError for a file that is none of the estate's, whoever named it."""
    from justlane.files.reading.estate_files import names_of_files

    read = names_of_files(folder)
    for change in changes:
        if change.file not in read:
            message = f"{change.file} is no file that the estate reads, and only those are edited"
            raise RefusedError(message, f"see `include` in {ROOT}; nothing was changed")


def _require_state(folder: Path, state: State) -> None:
    now = state_of(folder)
    others = [name for name in {**state, **now} if state.get(name) != now.get(name)]
    if others:
        what = "the people were pulled anew" if others[0] == FOLDER else f"{others[0]} was changed"
        message = f"{what} while you looked at the edit: what it does may be something else now"
        raise RefusedError(message, "try again: the edit is made anew from what stands there now")


def _require_unchanged(folder: Path, changes: Sequence[Changed]) -> None:
    for change in changes:
        if content_of(folder, change.file) != change.before:
            message = f"{change.file} was changed while you looked at the edit"
            raise RefusedError(message, "try again: the edit is made anew from what stands there now")


@contextmanager
def locked(folder: Path) -> Iterator[None]:
    """The estate's folder, while nobody else edits it with this tool; waits for whoever does. StorageError if it cannot
    be locked."""
    try:
        with open_folder(folder) as handle:
            fcntl.flock(handle, fcntl.LOCK_EX)
            try:
                yield
            finally:
                fcntl.flock(handle, fcntl.LOCK_UN)
    except OSError as error:
        reason = error.strerror or os.strerror(error.errno or 0)
        raise StorageError(f"{folder} cannot be locked: {reason}", "see who may write there") from error
