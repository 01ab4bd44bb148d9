"""Keeping people: a snapshot is written beside its place, and gets its name when the disk has all of it."""

from __future__ import annotations

import os
import sqlite3
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from justlane.files.disk.beneath import CLOSED, open_folder, parts_of
from justlane.files.disk.durable import unfinished
from justlane.files.disk.tables import Tables
from justlane.files.people.arrays import arrays_of
from justlane.files.people.store import ARRAYS, INDEXES, LAYOUT, SCRIPTS, TABLES, PeopleStore
from justlane.model.people import Snapshot

if TYPE_CHECKING:
    from justlane.files.people.population import Population


def write_people(top: Path, name: str, people: Population, snapshot: Snapshot, *, durable: bool = True) -> None:
    """Keep all people in a file beneath `top`, for their owner alone. OSError or sqlite3.Error if that is impossible.

    A durable one is on the disk before it gets its name, and takes nobody's place: FileExistsError if there is one.
    """
    *folders, last = parts_of(name)
    with open_folder(top, tuple(folders), make=0o700) as folder, unfinished(folder, CLOSED) as written:
        connection = sqlite3.connect(top.joinpath(*folders, written.name))
        try:
            connection.execute("PRAGMA journal_mode=OFF")
            connection.execute("PRAGMA synchronous=OFF")
            fill(connection, people, snapshot)
        finally:
            connection.close()
        if durable:
            os.fsync(written.handle)
            written.take(last)
        else:
            written.replace(last)


def fill(connection: sqlite3.Connection, people: Population, snapshot: Snapshot) -> None:
    """Write all people into an empty database."""
    connection.executescript(TABLES + ARRAYS)
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
        connection.executemany("INSERT INTO arrays VALUES (?, ?)", arrays_of(people))
    connection.executescript(INDEXES)


def in_memory(people: Population, snapshot: Snapshot) -> PeopleStore:
    """People that are kept nowhere."""
    connection = sqlite3.connect(":memory:")
    fill(connection, people, snapshot)
    return PeopleStore(Tables(None, SCRIPTS, connection))
