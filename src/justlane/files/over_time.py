"""How access changed over time, from what was kept: commits, edits of the journal, snapshots of the people."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from itertools import pairwise
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec import Struct

from justlane.engine.changes.comparison import differences
from justlane.engine.changes.effect import Effect, summed
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.earlier_names import called_today
from justlane.engine.facts.index import EstateIndex
from justlane.files.opening import open_index, open_people
from justlane.files.people import snapshots
from justlane.files.people.populating import PeopleReader
from justlane.files.revisions import Commit, commits, written_out
from justlane.files.saving.journal import Journal
from justlane.model.errors import EstateError, StorageError, UsageError


class Turn(Struct, frozen=True):
    """A moment at which access changed."""

    when: datetime
    source: str
    """`commit`, `edit` or `people`."""
    name: str
    """The commit, the number of the edit, or the snapshot."""
    people: int
    """For how many something changed."""
    gained: int
    """(user, action, scope) cells."""
    lost: int


class OverTime(Struct, frozen=True):
    """What is known."""

    turns: tuple[Turn, ...]
    """The oldest first."""
    unknown: tuple[str, ...]
    """What could not be looked at, and why."""


def over_time(folder: Path, read_people: PeopleReader, last: int, moment: datetime) -> OverTime:
    """The last changes of each source. An edit that was committed later stands there twice."""
    unknown: list[str] = []
    turns = [*_of_commits(folder, read_people, last, moment, unknown), *_of_journal(folder, last)]
    turns += _of_people(folder, read_people, last, moment, unknown)
    return OverTime(tuple(sorted(turns, key=lambda turn: turn.when)), tuple(unknown))


def _of_journal(folder: Path, last: int) -> Iterator[Turn]:
    for note in Journal(folder).edits()[-last:]:
        when = datetime.fromisoformat(note.when)
        yield Turn(when, "edit", str(note.number), note.people, note.gained, note.lost)


def _of_commits(
    folder: Path, read_people: PeopleReader, last: int, moment: datetime, unknown: list[str]
) -> Iterator[Turn]:
    known = commits(folder, last + 1)
    before: EstateIndex | None = None
    for commit in reversed(known):
        with ExitStack() as rooms:
            index = _at(folder, commit, read_people, rooms, unknown)
        if before is not None and index is not None:
            yield _turn(commit.time, "commit", commit.id[:10], before, index, moment)
        before = index or before


def _at(
    folder: Path, commit: Commit, read_people: PeopleReader, rooms: ExitStack, unknown: list[str]
) -> EstateIndex | None:
    room = Path(rooms.enter_context(TemporaryDirectory(prefix="justlane-")))
    target = room / "estate"
    target.mkdir()
    try:
        written_out(commit.id, folder, room, target)
        return open_index(target, read_people, folder)
    except (EstateError, UsageError, StorageError) as error:
        unknown.append(f"commit {commit.id[:10]}: {error.message}")
        return None


def _of_people(
    folder: Path, read_people: PeopleReader, last: int, moment: datetime, unknown: list[str]
) -> Iterator[Turn]:
    names = snapshots.names(folder)[-(last + 1) :]
    if len(names) < 2:
        return
    index, today = open_index(folder, read_people), open_people(folder, read_people).store
    for earlier, later in pairwise(names):
        try:
            sides = []
            for name in (earlier, later):
                then = snapshots.open_snapshot(folder, name)
                people = called_today(then.directory(), then.groups_with, snapshots.aliases(then, today), then.roll)
                sides.append(index.with_people(people, then.snapshot))
            taken = snapshots.open_snapshot(folder, later).snapshot.taken
            yield _turn(taken, "people", later, sides[0], sides[1], moment)
        except StorageError as error:
            unknown.append(f"snapshot {later}: {error.message}")


def _turn(when: datetime, source: str, name: str, before: EstateIndex, after: EstateIndex, moment: datetime) -> Turn:
    found: Effect = summed(differences((before, after), Question(moment)))
    return Turn(when.astimezone(UTC), source, name, found.people, found.gained, found.lost)
