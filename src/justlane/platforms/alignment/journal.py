"""The journal of a platform: every change, written before it is sent and marked when it is done.

One JSON object a line, in `journal/PLATFORM.jsonl` inside the estate. Lines are only ever added.
"""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from uuid import uuid4

import msgspec

from justlane.files.disk.identity import who
from justlane.files.disk.storing import append_durably, lines_of
from justlane.model.errors import UsageError
from justlane.model.showing import json_visible
from justlane.platforms.interface import Entry


class Note(msgspec.Struct, frozen=True, omit_defaults=True):
    """One line of a journal."""

    run: str
    """Identifier of the align that wrote it."""
    when: str
    """UTC, ISO 8601."""
    who: str
    event: str
    """`started`, `sending`, `done`, `refused`, `stopped` or `finished`."""
    step: int = 0
    """Number of the change, from 1; 0 for the run itself."""
    of: int = 0
    """How many changes the run has."""
    why: str = ""
    part: str = ""
    name: str = ""
    before: Entry | None = None
    after: Entry | None = None
    reading: str = ""
    """Of the run itself: under which name the reading from before it is kept."""


class Journal:
    """The journal of one platform."""

    def __init__(self, folder: Path, platform: str, run: str = "") -> None:
        self._folder, self._name = folder, f"journal/{platform}.jsonl"
        self.run = run or uuid4().hex[:12]
        """Identifier of what is written from now on."""

    def write(
        self,
        event: str,
        step: int = 0,
        of: int = 0,
        *,
        why: str = "",
        part: str = "",
        name: str = "",
        before: Entry | None = None,
        after: Entry | None = None,
        reading: str = "",
    ) -> None:
        """Add a line and wait until the disk has it."""
        when = datetime.now(UTC).isoformat(timespec="seconds")
        note = Note(self.run, when, who(), event, step, of, why, part, name, before, after, reading)
        append_durably(self._folder, self._name, json_visible(msgspec.json.encode(note).decode()).encode())

    def sent_in(self, run: str) -> list[Note]:
        """The changes of a run that were sent and of which it is not known that they came about."""
        notes = [note for note in self._notes() if note.run == run]
        done = {note.step for note in notes if note.event == "done"}
        return [note for note in notes if note.event == "sending" and note.step not in done]

    def unfinished(self) -> Note | None:
        """The last change that was begun, if the last run did not come to its end."""
        notes = self._notes()
        if not notes or notes[-1].event == "finished":
            return None
        return next((note for note in reversed(notes) if note.event in ("sending", "done", "started")), None)

    def done_in(self, run: str) -> list[Note]:
        """The changes of a run that came about, in their order; of the last run that changed something if it is empty.

        UsageError if there is none.
        """
        notes = self._notes()
        done = {(note.run, note.step) for note in notes if note.event == "done"}
        runs = list(dict.fromkeys(note.run for note in notes if (note.run, note.step) in done))
        wanted = run or (runs[-1] if runs else "")
        sent = {(n.run, n.step): n for n in notes if n.run == wanted and n.event == "sending"}
        found = [n for at, n in sorted(sent.items()) if at in done]
        if not found:
            what = f"run {run!r}" if run else "run that changed anything"
            hint = f"there are: {', '.join(runs[-5:])}" if runs else "align has changed nothing here yet"
            raise UsageError(f"the journal has no {what}", hint)
        return found

    def last_run(self) -> str:
        """The last run that changed something."""
        return next((note.run for note in reversed(self._notes()) if note.event == "done"), "")

    def reading_before(self, run: str) -> str:
        """The name of the reading that was kept before a run; empty if there was none."""
        return next((note.reading for note in self._notes() if note.run == run and note.reading), "")

    def _notes(self) -> list[Note]:
        """All lines that can be read; a last line that a power cut left half-written is passed over."""
        notes: list[Note] = []
        for line in lines_of(self._folder, self._name):
            try:
                notes.append(msgspec.json.decode(line, type=Note))
            except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                continue
        return notes
