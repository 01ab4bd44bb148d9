"""Opening an estate to ask it: as it is, or as it was at an earlier time."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

from msgspec import Struct

from justlane.engine.facts.index import EstateIndex
from justlane.files.opening.index import open_index, open_people

if TYPE_CHECKING:
    from justlane.files.people.chosen import PeopleReader
    from justlane.model.people import Snapshot


class Opened(Struct, frozen=True):
    """An estate that can be asked."""

    index: EstateIndex
    told: tuple[str, ...] = ()
    """What it is from, where it is as it was at an earlier time."""
    too_old: str = ""
    """That its people are older than the estate allows; empty if they are not."""


def open_for_questions(
    place: Path, read_people: PeopleReader, as_of: str | None = None, *, whole: bool = False
) -> Opened:
    """The estate in a folder, sound and ready for questions, perhaps as of a day, a time or a snapshot.

    With `whole`, all of it at hand as values. EstateError if it is not sound, UsageError if nothing is known of that
    time.
    """
    if as_of is None:
        index = open_index(place, read_people, whole=whole)
        return Opened(index, (), too_old(index.estate.people, index.estate.pull_every))
    from justlane.engine.facts.earlier_names import called_today
    from justlane.files.history.past import as_it_was
    from justlane.files.people import snapshots

    past = as_it_was(place, as_of, read_people)
    told = (f"as of {as_of}: {'; '.join(past.told)}",)
    if past.estate is not None:
        return Opened(past.estate, told)
    # the files are today's, and the people of then have the names of today in them
    then = snapshots.open_snapshot(place, past.snapshot)
    aliases = snapshots.aliases(then, open_people(place, read_people).store)
    people = called_today(then.directory(), then.groups_with, aliases, then.numbered)
    index = open_index(place, read_people, earlier=[people.directory])
    return Opened(index.with_people(people, then.snapshot), told)


def too_old(people: Snapshot | None, pull_every: int) -> str:
    """What is to be said if the people are older than the estate allows, in seconds; empty if they are not."""
    if people is None or not people.name or all(source.files for source in people.sources):
        return ""  # files are read whenever they changed
    age = (datetime.now(UTC) - people.taken).total_seconds()
    if age <= pull_every:
        return ""
    from justlane.reports.text.spans import age_text

    return f"the people are as of {age_text(age)} ago, older than the estate allows: justlane people pull"
