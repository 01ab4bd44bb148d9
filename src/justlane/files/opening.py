"""Opening an estate: from the cache when nothing changed, from its files otherwise."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from justlane.engine.index import EstateIndex
from justlane.files import cache
from justlane.model.errors import EstateError, StorageError
from justlane.model.estate import Estate
from justlane.model.findings import Severity

if TYPE_CHECKING:
    from justlane.files.loading import PeopleReader


def open_estate(folder: Path, read_people: PeopleReader) -> Estate:
    """The estate in a folder, whole. EstateError, with everything that is wrong, if it is not sound."""
    store = cache.recall(folder)
    try:
        return _read(folder, read_people) if store is None else store.whole()
    except StorageError:
        return _read(folder, read_people)


def open_index(folder: Path, read_people: PeopleReader) -> EstateIndex:
    """The estate in a folder, ready for questions; of a kept one only that is read which is asked for."""
    store = cache.recall(folder)
    return EstateIndex(_read(folder, read_people)) if store is None else EstateIndex(store.estate(), store)


def _read(folder: Path, read_people: PeopleReader) -> Estate:
    from justlane.files.loading import load

    loaded = load(folder, read_people)
    if loaded.estate is None:
        raise EstateError([f for f in loaded.findings if f.severity is Severity.ERROR])
    cache.keep(folder, loaded.estate, loaded.digests, loaded.patterns)
    return loaded.estate
