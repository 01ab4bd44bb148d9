"""What was read once and has not changed need not be read again.

A sound estate is kept in the user's cache folder (`store`), with a digest of every file that it came from; it counts
only while all of them, and the list of files that `include` matches, are still the same. So are people that were read
from files (`people.store`); those that were pulled are in a snapshot, which belongs to the estate.
"""

from __future__ import annotations

import hashlib
import sqlite3
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec
from platformdirs import user_cache_path

from justlane import __version__
from justlane.files.folder import included
from justlane.files.people.snapshots import newest, open_snapshot
from justlane.files.people.store import PeopleStore
from justlane.files.store import Store, write
from justlane.files.tables import Tables
from justlane.model.errors import StorageError
from justlane.model.estate import Estate
from justlane.model.people import Snapshot

if TYPE_CHECKING:
    from justlane.files.people.population import Population

LARGE = 4 << 20
"""Of a file with more bytes than this, size, time and number are compared rather than its content."""


class Origin(msgspec.Struct, frozen=True):
    """What a kept estate was read from."""

    version: str
    folder: str
    digests: dict[str, str]
    """File, relative to the folder -> digest of its content."""
    matches: dict[str, list[str]]
    """Pattern of `include` -> the files that it matched."""
    taken: datetime
    """When its people were read."""
    pulled: bool
    """Whether they are in a snapshot."""
    newest: str
    """The newest snapshot of that time: another one may stand for the files now."""


class Recalled(NamedTuple):
    """What is kept of an estate."""

    store: Store
    people: PeopleStore


def recall(folder: Path) -> Recalled | None:
    """The estate as it was last read; None if it has to be read again."""
    try:
        store = Store(_place(folder))
        origin = msgspec.msgpack.decode(store.head(), type=Origin)
        if not _still_true(origin, folder):
            return None
        people = open_snapshot(folder, origin.newest) if origin.pulled else kept_people(folder)
        return Recalled(store, people) if people and people.snapshot.taken == origin.taken else None
    except (OSError, sqlite3.Error, StorageError, msgspec.DecodeError):
        return None


def kept_people(folder: Path) -> PeopleStore | None:
    """The people that were last read from an estate's files; None if there are none."""
    path = _place(folder, ".people")
    try:
        return PeopleStore(Tables(path))
    except (sqlite3.Error, StorageError):
        return None


def keep_people(folder: Path, people: Population, snapshot: Snapshot) -> PeopleStore:
    """Remember the people that were read from an estate's files. OSError or sqlite3.Error if that is impossible."""
    from justlane.files.people.writing import write_people

    path = _place(folder, ".people")
    write_people(path, people, snapshot, durable=False)
    return PeopleStore(Tables(path))


def _still_true(origin: Origin, folder: Path) -> bool:
    return (
        origin.version == __version__
        and origin.folder == str(folder.resolve())
        and origin.newest == newest(folder)
        and all(included(folder, pattern) == files for pattern, files in origin.matches.items())
        and all(digest(folder / file) == known for file, known in origin.digests.items())
    )


def keep(folder: Path, estate: Estate, digests: dict[str, str], patterns: tuple[str, ...]) -> None:
    """Remember an estate. Where the cache folder cannot be written, do without."""
    matches = {pattern: included(folder, pattern) for pattern in patterns}
    if estate.people is None:
        return
    taken, pulled = estate.people.taken, bool(estate.people.name)
    origin = Origin(__version__, str(folder.resolve()), digests, matches, taken, pulled, newest(folder))
    try:
        write(_place(folder), msgspec.msgpack.encode(origin), estate)
    except (OSError, sqlite3.Error):
        return


def digest_of(content: bytes) -> str:
    """BLAKE2b (RFC 7693), in hexadecimal."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()


def digest(file: Path) -> str:
    """Digest of a file's content, or of what the system says about a large one; empty if it cannot be read."""
    try:
        known = file.stat()
        if known.st_size > LARGE:
            return f"{known.st_size} {known.st_mtime_ns} {known.st_ctime_ns} {known.st_ino}"
        return digest_of(file.read_bytes())
    except OSError:
        return ""


def _place(folder: Path, part: str = "") -> Path:
    name = hashlib.blake2b(str(folder.resolve()).encode(), digest_size=10).hexdigest()
    return user_cache_path("justlane", appauthor=False) / f"{name}{part}.sqlite"
