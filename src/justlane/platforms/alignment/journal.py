"""The journal of a platform: every change, written before it is sent and marked when it is done.

One JSON object a line, in `journal/PLATFORM.jsonl` inside the estate. Lines are only ever added, each closed with the
seal of whoever made it: nothing is ever taken back by what somebody else wrote there.
"""

from __future__ import annotations

from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from uuid import uuid4

import msgspec

from justlane.files.allowed.seals import is_own, sealed
from justlane.files.disk.durable import append_durably, lines_of
from justlane.files.disk.identity import who
from justlane.model.errors import RefusedError, UsageError
from justlane.model.visible import json_visible
from justlane.platforms.interface import Entry

MATCHED = "matched"
"""What it says, beside any run, when a platform was first found to hold just what is declared."""


class RunNote(msgspec.Struct, frozen=True, omit_defaults=True):
    """One line of a journal."""

    run: str
    """Identifier of the align that wrote it."""
    when: str
    """UTC, ISO 8601."""
    who: str
    event: str
    """`started`, `sending`, `done`, `refused`, `stopped` or `finished`; `matched` where the platform was found to hold
    just what is declared, beside any run."""
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


class RunJournal:
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
        note = RunNote(self.run, when, who(), event, step, of, why, part, name, before, after, reading)
        line = json_visible(msgspec.json.encode(note).decode()).encode()
        append_durably(self._folder, self._name, sealed(self._folder, self._name, line))

    def sent_in(self, run: str) -> list[RunNote]:
        """The changes of a run that were sent and of which it is not known that they came about."""
        notes = [note for note, _ in self._notes() if note.run == run]
        done = {note.step for note in notes if note.event == "done"}
        return [note for note in notes if note.event == "sending" and note.step not in done]

    def unfinished(self) -> RunNote | None:
        """The last change that was begun, if the last run did not come to its end."""
        notes = [note for note, _ in self._notes() if note.event != MATCHED]
        if not notes or notes[-1].event == "finished":
            return None
        return next((note for note in reversed(notes) if note.event in ("sending", "done", "started")), None)

    def done_in(self, run: str) -> list[RunNote]:
        """The changes of a run of one's own that came about, in their order; of the last one that changed something if
        it is empty. What somebody else wrote down, or what was written down elsewhere, is none of them.

        UsageError if there is none, RefusedError if it is somebody else's.
        """
        notes = self._notes()
        done = {(note.run, note.step) for note, _ in notes if note.event == "done"}
        own = {(n.run, n.step): n for n, own in notes if own and n.event == "sending" and (n.run, n.step) in done}
        runs = list(dict.fromkeys(run for run, _ in own))
        wanted = run or (runs[-1] if runs else "")
        found = [note for at, note in sorted(own.items()) if at[0] == wanted]
        if found:
            return found
        hint = f"there are: {', '.join(runs[-5:])}" if runs else "align has changed nothing here yet"
        if any(at[0] == run or not run for at in done):
            message = f"{f'run {run!r}' if run else 'what align did here'} is somebody else's, or was made elsewhere"
            raise RefusedError(f"{message}: nothing is taken back by what {self._name} says", hint)
        raise UsageError(f"the journal has no {f'run {run!r}' if run else 'run that changed anything'}", hint)

    def has(self, event: str) -> bool:
        """Whether something was written down by oneself, here: `started`, `sending`, `done` or `finished`."""
        return event in self.own_events()

    def own_events(self) -> set[str]:
        """All that was written down by oneself, here."""
        return {note.event for note, own in self._notes() if own}

    def last_run(self) -> str:
        """The last run of one's own that changed something."""
        notes = self._notes()
        own = {note.run for note, own in notes if own and note.event == "sending"}
        return next((note.run for note, _ in reversed(notes) if note.event == "done" and note.run in own), "")

    def reading_before(self, run: str) -> str:
        """The name of the reading that was kept before a run of one's own; empty if there was none."""
        return next((note.reading for note, own in self._notes() if own and note.run == run and note.reading), "")

    def _notes(self) -> list[tuple[RunNote, bool]]:
        """All lines that can be read, and whether the person at the prompt wrote each, here; a last line that a power
        cut left half-written is passed over."""
        notes: list[tuple[RunNote, bool]] = []
        for line in lines_of(self._folder, self._name):
            with suppress(msgspec.DecodeError, UnicodeDecodeError, RecursionError):
                notes.append((msgspec.json.decode(line, type=RunNote), is_own(self._folder, self._name, line)))
        return notes
