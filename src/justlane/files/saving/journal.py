"""The journal of edits: who changed which lines of an estate, by which command, why, and what that did.

One JSON object a line, in `journal/estate/edits.jsonl`. Lines are only ever added, each bound to the one before by its
hash (SHA-256), so that none can be changed or taken out unnoticed, and closed with the seal of whoever made the edit.
An edit is written down before its files are changed, and marked afterwards. The journal is read from its end.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import NamedTuple

import msgspec

from justlane.files.allowed.seals import is_own, sealed
from justlane.files.disk.durable import append_durably, lines_backwards, lines_of
from justlane.files.editing.draft import Hunk
from justlane.model.visible import json_visible

PLACE = "journal/estate/edits.jsonl"
FIRST = "0" * 64
"""What the first line is bound to."""
_EVENTS = ("edit", "saved", "dropped")
_MOST = 1 << 50
"""No edit has such a number, and no file so many lines."""


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
    """In the directory: as they said, or as the estate says."""
    system_login: str = ""
    """Who really sat there, as the system knows them."""
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
    system_login: str
    command: str
    reason: str = ""
    even_so: str = ""
    undoes: int = 0
    names: tuple[str, ...] = ()
    people: int = 0
    gained: int = 0
    lost: int = 0


class JournalLine(NamedTuple):
    """A line of the journal, read."""

    number: int
    """Of the line, from 1."""
    note: Note | None
    """None if it cannot be read."""
    bound: bool
    """Whether it is bound to the line before."""
    own: bool
    """Whether the person at the prompt wrote it, here."""


class Journal:
    """The journal of an estate's edits."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder

    def kept(self) -> Iterator[JournalLine]:
        """Every line, in order."""
        before = FIRST
        for number, line in enumerate(lines_of(self._folder, PLACE), 1):
            if not line.strip():
                continue
            note = _read(line)
            yield JournalLine(number, note, note is not None and note.previous == before, self._is_own(line))
            # a line that cannot be read is passed over, as the writer did: it cannot unbind the rest
            before = _hash(line) if note is not None else before

    def edits(self) -> list[Note]:
        """The edits, in order, those that never came about left out."""
        return [note for note, _ in self.edits_and_owners()]

    def edits_and_owners(self) -> list[tuple[Note, bool]]:
        """The same, with whether each is one's own."""
        notes = [(kept.note, kept.own) for kept in self.kept() if kept.note is not None]
        dropped = {(note.number, own) for note, own in notes if note.event == "dropped"}
        return [(note, own) for note, own in notes if note.event == "edit" and (note.number, own) not in dropped]

    def standing(self) -> Iterator[tuple[Note, bool]]:
        """The edits that were not taken back and take none back themselves, and whether each is one's own; the last one
        first. What others wrote down takes none of one's own back."""
        gone: set[tuple[int, bool]] = set()
        for line in lines_backwards(self._folder, PLACE):
            note, own = _read(line), self._is_own(line)
            if note is None:
                continue
            if note.event == "dropped":
                gone.add((note.number, own))
            elif note.event == "edit" and (note.number, own) not in gone:
                if note.undoes:
                    gone.add((note.undoes, own))
                else:
                    yield note, own

    def begin(self, told: Told, files: Sequence[FileEdit]) -> Note:
        """Write an edit down and wait until the disk has it. StorageError if it cannot be."""
        when = datetime.now(UTC).isoformat(timespec="seconds")
        return self._add(Note("edit", self._next(), self._last(), when, files=tuple(files), **told._asdict()))

    def end(self, number: int) -> None:
        """Mark an edit whose files are changed."""
        self._add(Note("saved", number, self._last()))

    def drop(self, number: int) -> None:
        """Mark an edit that was cut off before any file was changed."""
        self._add(Note("dropped", number, self._last()))

    def unfinished(self) -> Note | None:
        """The last edit of one's own, if its files may not all have been changed."""
        own = (line for line in lines_backwards(self._folder, PLACE) if self._is_own(line))
        note = next(filter(None, map(_read, own)), None)
        return note if note is not None and note.event == "edit" else None

    def _add(self, note: Note) -> Note:
        line = json_visible(msgspec.json.encode(note).decode()).encode()
        append_durably(self._folder, PLACE, sealed(self._folder, PLACE, line))
        return note

    def _is_own(self, line: bytes) -> bool:
        return is_own(self._folder, PLACE, line)

    def _next(self) -> int:
        """The number of the next edit: behind the last line, where that is one's own; otherwise behind all."""
        # a stranger's line with a huge number would make all later numbers theirs: only one's own is believed
        # at a glance
        last = next(lines_backwards(self._folder, PLACE), b"")
        note = _read(last) if self._is_own(last) else None
        lines = (last,) if note else lines_backwards(self._folder, PLACE)
        return max((note.number for note in map(_read, lines) if note is not None), default=0) + 1

    def _last(self) -> str:
        readable = (line for line in lines_backwards(self._folder, PLACE) if _read(line) is not None)
        return next(map(_hash, readable), FIRST)


def _hash(line: bytes) -> str:
    return hashlib.sha256(line.rstrip(b"\n")).hexdigest()


def _read(line: bytes) -> Note | None:
    """A line; None if it is none that this tool could have written."""
    try:
        note = msgspec.json.decode(line, type=Note)
        known = note.event in _EVENTS and 0 < note.number < _MOST and 0 <= note.undoes < note.number
        hunks = [hunk for edit in note.files for hunk in edit.hunks]
        dated = note.event != "edit" or datetime.fromisoformat(note.when).tzinfo is not None
        return note if known and dated and all(0 < hunk.line < _MOST for hunk in hunks) else None
    except (ValueError, RecursionError):  # msgspec's errors and those of text are ValueErrors
        return None
