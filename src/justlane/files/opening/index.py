"""Opening an estate: from the cache when nothing changed, from its files otherwise."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from msgspec.structs import replace

from justlane.engine.facts.index import EstateIndex
from justlane.files.opening import cache
from justlane.model.errors import EstateError, StorageError
from justlane.model.estate import Estate
from justlane.model.findings import Severity

if TYPE_CHECKING:
    from justlane.files.opening.loaded import Loaded
    from justlane.files.people.chosen import PeopleReader
    from justlane.files.people.store import PeopleStore
    from justlane.model.people import Directory


def open_index(
    folder: Path,
    read_people: PeopleReader,
    pulled_in: Path | None = None,
    earlier: Sequence[Directory] = (),
    *,
    whole: bool = False,
) -> EstateIndex:
    """The estate in a folder, sound and ready for questions. EstateError, with everything that is wrong, otherwise.

    Of a kept one only that is read which is asked for, unless `whole` asks for all of it as values, which whoever goes
    through everything needs. A revision takes the people that were `pulled_in` another folder; users and groups of
    `earlier` times may be named in it.
    """
    kept = None if pulled_in else cache.recall(folder)
    if whole:
        return EstateIndex(_whole(folder, read_people, pulled_in, kept))
    if kept is None:
        loaded = _read(folder, read_people, pulled_in, earlier)
        kept = cache.recall(folder) if loaded.resumed_from else None
        if kept is None:
            return loaded.ready
    store, people = kept.store, kept.people
    estate = replace(store.estate(), directory=people.directory(), people=people.snapshot)
    return EstateIndex(estate, store, people.groups_with, people.numbered)


def _whole(folder: Path, read_people: PeopleReader, pulled_in: Path | None, kept: cache.KeptEstate | None) -> Estate:
    if kept is not None:
        try:
            return replace(kept.store.whole(), directory=kept.people.whole(), people=kept.people.snapshot)
        except StorageError:
            pass  # what is kept is damaged further in: the files have all of it
    loaded = _read(folder, read_people, pulled_in)
    assert loaded.estate is not None
    assert loaded.people is not None
    whole = isinstance(loaded.estate.directory.users, dict)
    return loaded.estate if whole else replace(loaded.estate, directory=loaded.people.whole())


class Everybody(NamedTuple):
    """The people of an estate, whether or not the rest of it is sound."""

    store: PeopleStore
    pull_every: int
    """Seconds after which a snapshot of them is too old."""


def open_people(folder: Path, read_people: PeopleReader) -> Everybody:
    """Everybody. EstateError if they cannot be had."""
    kept = cache.recall(folder)
    if kept is not None:
        return Everybody(kept.people, kept.store.estate().pull_every)
    from justlane.files.opening.load import load

    loaded = load(folder, read_people)
    if loaded.people is None:
        raise EstateError([f for f in loaded.findings if f.severity is Severity.ERROR])
    if loaded.estate is not None:
        cache.keep(folder, loaded)
    return Everybody(loaded.people, loaded.pull_every)


def _read(folder: Path, read_people: PeopleReader, pulled_in: Path | None, earlier: Sequence[Directory] = ()) -> Loaded:
    from justlane.files.opening.load import load

    loaded = load(folder, read_people, pulled_in)
    sound = loaded.estate is not None
    if not sound and earlier:
        loaded = load(folder, read_people, pulled_in, earlier)
    if loaded.estate is None:
        raise EstateError([f for f in loaded.findings if f.severity is Severity.ERROR])
    if pulled_in is None and sound:
        cache.keep(folder, loaded)
    return loaded
