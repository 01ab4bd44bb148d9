"""Keeping people: a snapshot is written beside its place, and gets its name when the disk has all of it."""

from __future__ import annotations

import os
import sqlite3
import time
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from justlane.files.people.store import LAYOUT, PeopleStore
from justlane.files.tables import Tables
from justlane.model.people import Snapshot

if TYPE_CHECKING:
    from justlane.files.people.population import Population

_TABLES = """
CREATE TABLE head (layout INTEGER, body BLOB, shown BLOB, findings BLOB);
CREATE TABLE users (id INTEGER PRIMARY KEY, login TEXT, name TEXT, enabled INTEGER, stable TEXT, source INTEGER,
  line INTEGER, held BLOB);
CREATE TABLE groups (id INTEGER PRIMARY KEY, name TEXT, purpose TEXT, stable TEXT, source INTEGER, line INTEGER,
  members BLOB, held BLOB);
"""
_INDEXES = """
CREATE UNIQUE INDEX users_by_login ON users (login);
CREATE UNIQUE INDEX groups_by_name ON groups (name);
"""
UNFINISHED = ".people."
"""How the names of files begin that are not complete yet."""
_LONG_AGO = 3600.0
"""Seconds after which nobody writes to such a file any more."""


def write_people(path: Path, people: Population, snapshot: Snapshot, *, durable: bool = True) -> None:
    """Keep all people in a file that only its owner can read. OSError or sqlite3.Error if that is impossible.

    A durable one is on the disk before it gets its name, and takes nobody's place: FileExistsError if there is one.
    """
    import tempfile

    path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
    _sweep(path.parent)
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=UNFINISHED)
    os.close(handle)
    try:
        connection = sqlite3.connect(name)
        connection.execute("PRAGMA journal_mode=OFF")
        connection.execute("PRAGMA synchronous=OFF")
        fill(connection, people, snapshot)
        connection.close()
        if durable:
            with open(name, "rb+") as file:
                os.fsync(file.fileno())
            _give_name(name, path)
            _sync_folder(path.parent)
        else:
            os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _give_name(name: str, path: Path) -> None:
    """Let an unfinished file be found under its own name, unless another has it."""
    try:
        os.link(name, path)
    except FileExistsError:
        raise
    except OSError:  # a file system without hard links
        os.replace(name, path)
    else:
        os.unlink(name)


def _sweep(folder: Path) -> None:
    """Take away what a run that was killed long ago had begun to write."""
    for path in folder.glob(f"{UNFINISHED}*"):
        with suppress(OSError):
            if time.time() - path.stat().st_mtime > _LONG_AGO:
                path.unlink()


def _sync_folder(folder: Path) -> None:
    """Wait until the disk knows the new name; only some systems can open a folder for that."""
    if os.name == "posix":
        handle = os.open(folder, os.O_RDONLY)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def fill(connection: sqlite3.Connection, people: Population, snapshot: Snapshot) -> None:
    """Write all people into an empty database."""
    connection.executescript(_TABLES)
    pack = msgspec.msgpack.encode
    users_held, groups_held, members = people.packed()
    with connection:
        head = (LAYOUT, pack(snapshot), pack(people.shown), pack(people.findings))
        connection.execute("INSERT INTO head VALUES (?, ?, ?, ?)", head)
        connection.executemany(
            "INSERT INTO users VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            ((n, *user, users_held[n]) for n, user in enumerate(people.users)),
        )
        connection.executemany(
            "INSERT INTO groups VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
            ((n, *group, members[n], groups_held[n]) for n, group in enumerate(people.groups)),
        )
    connection.executescript(_INDEXES)


def in_memory(people: Population, snapshot: Snapshot) -> PeopleStore:
    """People that are kept nowhere."""
    connection = sqlite3.connect(":memory:")
    fill(connection, people, snapshot)
    return PeopleStore(Tables(None, connection))
