"""The journal of edits: who changed which lines of an estate, by which command, why, and what that did.

One JSON object a line, in `journal/estate/edits.jsonl`. Lines are only ever added, each bound to the one before by its
hash (SHA-256), so that none can be changed or taken out unnoticed. An edit is written down before its files are
changed, and marked afterwards.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

import msgspec

from justlane.files.disk.storing import append_durably, lines_of
from justlane.files.editing.draft import Hunk
from justlane.model.showing import json_visible

PLACE = "journal/estate/edits.jsonl"
FIRST = "0" * 64
"""What the first line is bound to."""


class FileEdit(msgspec.Struct, frozen=True):
    """What an edit did to one file."""

    file: str
    before: str
    """Digest of its content before."""
    after: str
    hunks: tuple[Hunk, ...]


class Note(msgspec.Struct, frozen=True, omit_defaults=True):
    """One line of the journal."""

    event: str
    """`edit`, before its files are changed; `saved` afterwards, or `dropped` if that never came about."""
    number: int
    """Of the edit, from 1."""
    previous: str
    """Hash of the line before."""
    when: str = ""
    """UTC, ISO 8601."""
    who: str = ""
    command: str = ""
    reason: str = ""
    even_so: str = ""
    """Why it was made although it was refused first."""
    undoes: int = 0
    """The number of the edit that it takes back; 0 for none."""
    files: tuple[FileEdit, ...] = ()
    names: tuple[str, ...] = ()
    """The people, groups and scopes that it is about."""
    people: int = 0
    """For how many something changed."""
    gained: int = 0
    """Cells."""
    lost: int = 0


class Told(NamedTuple):
    """What an edit says of itself."""

    who: str
    command: str
    reason: str = ""
    even_so: str = ""
    undoes: int = 0
    names: tuple[str, ...] = ()
    people: int = 0
    gained: int = 0
    lost: int = 0


class Kept(NamedTuple):
    """A line of the journal, read."""

    number: int
    """Of the line, from 1."""
    note: Note | None
    """None if it cannot be read."""
    bound: bool
    """Whether it is bound to the line before."""


class Journal:
    """The journal of an estate's edits."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def kept(self) -> Iterator[Kept]:
        """Every line, in order."""
        before = FIRST
        for number, line in enumerate(lines_of(self._folder, PLACE), 1):
            if not line.strip():
                continue
            note = _read(line)
            yield Kept(number, note, note is not None and note.previous == before)
            before = _hash(line) if note is not None else before

    def notes(self) -> list[Note]:
        """All that can be read."""
        return [kept.note for kept in self.kept() if kept.note is not None]

    def edits(self) -> list[Note]:
        """The edits, in order, those that never came about left out."""
        notes = self.notes()
        dropped = {note.number for note in notes if note.event == "dropped"}
        return [note for note in notes if note.event == "edit" and note.number not in dropped]

    def begin(self, told: Told, files: Sequence[FileEdit]) -> Note:
        """Write an edit down and wait until the disk has it. StorageError if it cannot be."""
        when = datetime.now(UTC).isoformat(timespec="seconds")
        number = max((note.number for note in self.notes()), default=0) + 1
        return self._add(Note("edit", number, self._last(), when, files=tuple(files), **told._asdict()))

    def end(self, number: int) -> None:
        """Mark an edit whose files are changed."""
        self._add(Note("saved", number, self._last()))

    def drop(self, number: int) -> None:
        """Mark an edit that was cut off before any file was changed."""
        self._add(Note("dropped", number, self._last()))

    def unfinished(self) -> Note | None:
        """The last edit, if its files may not all have been changed."""
        notes = self.notes()
        return notes[-1] if notes and notes[-1].event == "edit" else None

    def _add(self, note: Note) -> Note:
        append_durably(self._folder, PLACE, json_visible(msgspec.json.encode(note).decode()).encode())
        return note

    def _last(self) -> str:
        readable = (line for line in reversed(lines_of(self._folder, PLACE)) if _read(line) is not None)
        return next(map(_hash, readable), FIRST)


def standing(edits: Sequence[Note]) -> list[Note]:
    """Those edits that were not taken back, and do not take one back themselves."""
    undone = {note.undoes for note in edits}
    return [note for note in edits if note.number not in undone and not note.undoes]


def _hash(line: bytes) -> str:
    return hashlib.sha256(line.rstrip(b"\n")).hexdigest()


def _read(line: bytes) -> Note | None:
    try:
        return msgspec.json.decode(line, type=Note)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None
