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
from justlane.engine.changes.effect import Effect, effect_of
from justlane.engine.decision.judge import Question
from justlane.engine.facts.earlier_names import called_today
from justlane.engine.facts.index import EstateIndex
from justlane.files.history.past import TODAY, as_it_was
from justlane.files.history.revisions import Commit, commits, written_out
from justlane.files.opening.index import open_index, open_people
from justlane.files.people import snapshots
from justlane.files.people.chosen import PeopleReader
from justlane.files.people.store import PeopleStore
from justlane.files.saving.journal import Journal
from justlane.model.errors import EstateError, StorageError, UsageError


class ChangeInTime(Struct, frozen=True):
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

    turns: tuple[ChangeInTime, ...]
    """The oldest first."""
    unknown: tuple[str, ...]
    """What could not be looked at, and why."""


def over_time(folder: Path, read_people: PeopleReader, last: int) -> OverTime:
    """The last changes of each source. An edit that was committed later stands there twice."""
    unknown: list[str] = []
    turns = [*_of_commits(folder, read_people, last, unknown), *_of_journal(folder, last)]
    turns += _of_people(folder, read_people, last, unknown)
    return OverTime(tuple(sorted(turns, key=lambda turn: turn.when)), tuple(unknown))


def _of_journal(folder: Path, last: int) -> Iterator[ChangeInTime]:
    for note in Journal(folder).edits()[-last:]:
        when = datetime.fromisoformat(note.when)
        yield ChangeInTime(when, "edit", str(note.number), note.people, note.gained, note.lost)


def _of_commits(folder: Path, read_people: PeopleReader, last: int, unknown: list[str]) -> Iterator[ChangeInTime]:
    known = commits(folder, last + 1)
    before: EstateIndex | None = None
    for commit in reversed(known):
        with ExitStack() as rooms:
            index = _at(folder, commit, read_people, rooms, unknown)
        if before is not None and index is not None:
            yield _turn(commit.time, "commit", commit.id[:10], before, index)
        before = index or before


def _at(
    folder: Path, commit: Commit, read_people: PeopleReader, rooms: ExitStack, unknown: list[str]
) -> EstateIndex | None:
    target = Path(rooms.enter_context(TemporaryDirectory(prefix="justlane-")))
    try:
        written_out(commit.id, folder, target)
        return open_index(target, read_people, folder)
    except (EstateError, UsageError, StorageError) as error:
        unknown.append(f"commit {commit.id[:10]}: {error.message}")
        return None


def _of_people(folder: Path, read_people: PeopleReader, last: int, unknown: list[str]) -> Iterator[ChangeInTime]:
    names = snapshots.names(folder)[-(last + 1) :]
    if len(names) < 2:
        return
    today: tuple[EstateIndex, PeopleStore] | None = None
    for earlier, later in pairwise(names):
        try:
            stores = [snapshots.open_snapshot(folder, name) for name in (earlier, later)]
            past = as_it_was(folder, later, read_people)
            index, called_by = past.estate, stores[1]
            if index is None:
                today = today or (open_index(folder, read_people), open_people(folder, read_people).store)
                index, called_by = today
                if TODAY in past.told and TODAY not in unknown:
                    unknown.append(TODAY)
            sides = [_with(index, store, called_by) for store in stores]
            yield _turn(stores[1].snapshot.taken, "people", later, sides[0], sides[1])
        except (EstateError, StorageError, UsageError) as error:
            unknown.append(f"snapshot {later}: {error.message}")


def _with(index: EstateIndex, store: PeopleStore, called_by: PeopleStore) -> EstateIndex:
    """An estate with the people of a reading, by the names that another one has for them."""
    people = called_today(store.directory(), store.groups_with, snapshots.aliases(store, called_by), store.numbered)
    return index.with_people(people, store.snapshot)


def _turn(when: datetime, source: str, name: str, before: EstateIndex, after: EstateIndex) -> ChangeInTime:
    """What changed, judged on the day on which it did: the past does not change with today's files, or date."""
    found: Effect = effect_of(differences((before, after), Question(when)))
    return ChangeInTime(when.astimezone(UTC), source, name, found.people, found.gained, found.lost)
