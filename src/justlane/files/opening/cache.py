"""What was read once and has not changed need not be read again.

A sound estate is kept in the user's cache folder (`store`), with a digest of every file that it came from; it counts
only while all of them, and the list of files that `include` matches, are still the same. So are people that were read
from files (`people.store`); those that were pulled are in a snapshot, which belongs to the estate.
"""

from __future__ import annotations

import errno
import hashlib
import os
import sqlite3
import stat
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import msgspec

from justlane import __version__
from justlane.files.allowed.own_settings import cache_folder
from justlane.files.disk.beneath import CLOSED, read
from justlane.files.disk.durable import write_atomically
from justlane.files.disk.tables import Tables
from justlane.files.keeping.store import SCRIPT, Store, write, write_again
from justlane.files.opening.loaded import Loaded, Parts
from justlane.files.people.snapshots import dated_later, newest, open_snapshot
from justlane.files.people.store import SCRIPTS, PeopleStore
from justlane.files.reading.folder import files_included
from justlane.files.reading.named_files import LARGE, digest
from justlane.model.errors import JustLaneError, StorageError
from justlane.model.people import Snapshot

if TYPE_CHECKING:
    from justlane.files.people.population import Population

_FORM = 12
"""Raised whenever the model's values change, so that an estate that an earlier form kept is read anew."""
MOST_BYTES = 2 << 30
"""What all kept estates may take on the disk, together."""
_MADE_BY = f"{__version__}+{_FORM}"


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
    parts: Parts
    later: tuple[str, ...] = ()
    """The snapshots that were dated later than then."""


class KeptEstate(NamedTuple):
    """What is kept of an estate that was sound."""

    store: Store
    people: PeopleStore
    origin: Origin
    changed: tuple[str, ...]
    """The files that are not any more as they were."""
    new_people: bool
    """Whether `people` are from a newer snapshot than its own."""


def recall(folder: Path) -> KeptEstate | None:
    """The estate as it was last read; None if it has to be read again."""
    found = earlier(folder)
    return found if found and not found.changed and not found.new_people else None


def earlier(folder: Path) -> KeptEstate | None:
    """The estate as it was last read, of which some files may have changed since; None if it has to be read again."""
    try:
        store = Store(_tables(folder, "", (SCRIPT,)))
        origin = msgspec.msgpack.decode(store.head(), type=Origin)
        if not _still_true(origin, folder):
            return None
        # another snapshot may have come since, or one with the same name may be another: the time of the
        # reading tells
        people = open_snapshot(folder, newest(folder)) if origin.pulled else kept_people(folder)
        new_people = origin.newest != newest(folder)
        if (
            people is None
            or (people.snapshot.taken != origin.taken) != new_people
            or (new_people and not origin.pulled)
        ):
            return None
        own = set(origin.parts.files)  # these are known by what was read of them, however large
        names = origin.parts.order if new_people else origin.digests
        known = {file: digest(folder, file, whole=file in own) for file in names}
        changed = (file for file, now in known.items() if origin.digests[file] != now)
        return KeptEstate(store, people, origin, tuple(changed), new_people)
    except (OSError, sqlite3.Error, JustLaneError, ValueError, RecursionError):
        return None


def kept_people(folder: Path) -> PeopleStore | None:
    """The people that were last read from an estate's files; None if there are none."""
    try:
        return PeopleStore(_tables(folder, ".people", SCRIPTS))
    except (OSError, sqlite3.Error, StorageError):
        return None


def keep_people(folder: Path, people: Population, snapshot: Snapshot) -> PeopleStore:
    """Remember the people that were read from an estate's files. OSError or sqlite3.Error if that is impossible."""
    from justlane.files.people.snapshot_file import write_people

    path = _place(folder, ".people")
    write_people(path.parent, path.name, people, snapshot, durable=False)
    _noted(path)
    return PeopleStore(Tables(path, SCRIPTS))


def _still_true(origin: Origin, folder: Path) -> bool:
    return (
        origin.version == _MADE_BY
        and origin.later == dated_later(folder)
        and origin.folder == _called(folder)
        and all(files_included(folder, pattern) == files for pattern, files in origin.matches.items())
    )


def keep(folder: Path, loaded: Loaded) -> None:
    """Remember an estate that is sound. Where the cache folder cannot be written, do without."""
    if not loaded.changed:
        return
    matches = {pattern: files_included(folder, pattern) for pattern in loaded.patterns}
    estate = loaded.estate
    if estate is None or estate.people is None:
        return
    taken, pulled = estate.people.taken, bool(estate.people.name)
    origin = Origin(
        _MADE_BY,
        _called(folder),
        loaded.digests,
        matches,
        taken,
        pulled,
        newest(folder),
        loaded.parts,
        dated_later(folder),
    )
    try:
        head = msgspec.msgpack.encode(origin)
        if loaded.resumed_from:
            placed = bool(loaded.placed)
            write_again(_place(folder), loaded.resumed_from, head, estate, loaded.cut, placed=placed)
        else:
            write(_place(folder), head, estate, loaded.cut)
        _make_room(_place(folder))
        _noted(_place(folder))
    except (OSError, sqlite3.Error, UnicodeError, StorageError):
        return


def _make_room(kept: Path) -> None:
    """Throw away the estates that were kept longest ago, until all together take no more than they may. OSError."""
    estates: dict[str, list[tuple[Path, os.stat_result]]] = {}
    for path in kept.parent.iterdir():
        if path.suffix in (".sqlite", ".digest"):
            estates.setdefault(path.name.partition(".")[0], []).append((path, path.stat(follow_symlinks=False)))
    left = sum(known.st_size for files in estates.values() for _, known in files)
    for name, files in sorted(estates.items(), key=lambda item: max(known.st_mtime for _, known in item[1])):
        for path, known in files if left > MOST_BYTES and name != kept.stem else ():
            path.unlink(missing_ok=True)
            left -= known.st_size


def _called(folder: Path) -> str:
    """A folder's whole name, in ASCII whatever bytes it has."""
    return os.fsencode(folder.resolve()).decode("ascii", "backslashreplace")


def _place(folder: Path, part: str = "") -> Path:
    """The file in which something of an estate is kept. OSError where there is no folder of ours for it."""
    name = hashlib.blake2b(os.fsencode(folder.resolve()), digest_size=10).hexdigest()
    return _ours() / f"{name}{part}.sqlite"


def _ours() -> Path:
    """The cache folder, made and closed to others. OSError if it is not the person's own: it would not be believed."""
    folder = cache_folder()
    if folder is None:
        raise OSError(errno.ENOENT, "there is no cache folder")
    folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    known = os.stat(folder, follow_symlinks=False)
    if not stat.S_ISDIR(known.st_mode) or known.st_uid != os.geteuid():
        raise OSError(errno.EPERM, "the cache folder is not yours")
    if known.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        raise OSError(errno.EPERM, "others may write into the cache folder")
    if stat.S_IMODE(known.st_mode) != 0o700:
        os.chmod(folder, 0o700)
    return folder


def _tables(folder: Path, part: str, scripts: tuple[str, ...]) -> Tables:
    """What is kept, opened. OSError if there is nothing, or it is not ours."""
    path = _place(folder, part)
    known = os.stat(path, follow_symlinks=False)
    if not stat.S_ISREG(known.st_mode) or known.st_uid != os.geteuid() or known.st_mode & 0o022:
        raise OSError(errno.EPERM, "it is not yours")
    # a large one is not digested each time, which would take longer than the answer: SQLite notices most damage
    # itself
    if known.st_size <= LARGE and read(path.parent, _note(path)).decode() != digest(path.parent, path.name):
        raise OSError(errno.EIO, "it is not what was written")
    return Tables(path, scripts)


def _note(path: Path) -> str:
    """The name of the file that holds the digest of another one."""
    return f"{path.stem}.digest"


def _noted(path: Path) -> None:
    """Remember what was written, so that a file that a failing disk changed is not believed."""
    if path.stat().st_size <= LARGE:
        write_atomically(path.parent, _note(path), digest(path.parent, path.name).encode(), CLOSED)
