"""What an estate declares, in a form that is read only where it is asked: SQLite, one row for each scope and binding.

Its people are kept apart (`people.store`). Rows hold MessagePack. The file is written beside the old one and replaces
it in one step; it is opened for reading.
"""

from __future__ import annotations

import sqlite3
import struct
from collections.abc import Collection, ItemsView, Iterable, Iterator, Mapping, Sequence, ValuesView
from pathlib import Path
from typing import TypeVar, cast

import msgspec
from msgspec.structs import replace

from justlane.engine.arrays.trees import Tree, tree_of
from justlane.files.disk.tables import Tables
from justlane.model.bindings import Binding
from justlane.model.estate import Estate
from justlane.model.findings import Source
from justlane.model.people import Directory, Principal, PrincipalKind
from justlane.model.scopes import Scope, platform_of

T = TypeVar("T")
Cut = Mapping[str, bytes]
"""File -> what it was cut into, as whoever reads it writes that down."""
_Rows = Iterable[tuple[object, ...]]

_TABLES = """
CREATE TABLE head (body BLOB);
CREATE TABLE skeleton (body BLOB);
CREATE TABLE scopes (name TEXT PRIMARY KEY, platform TEXT, place INTEGER, body BLOB) WITHOUT ROWID;
CREATE TABLE trees (platform TEXT PRIMARY KEY, body BLOB) WITHOUT ROWID;
CREATE TABLE gathered (name TEXT, grp TEXT, source BLOB);
CREATE TABLE cut (file TEXT PRIMARY KEY, body BLOB) WITHOUT ROWID;
CREATE TABLE bindings (place INTEGER PRIMARY KEY, platform TEXT, scope TEXT, kind TEXT, name TEXT, body BLOB);
"""
_INDEXES = """
CREATE INDEX scopes_by_place ON scopes (platform, place);
CREATE INDEX gathered_by_name ON gathered (name);
CREATE INDEX bindings_by_scope ON bindings (scope);
CREATE INDEX bindings_by_principal ON bindings (name, kind, platform);
"""
_pack = msgspec.msgpack.encode


SCRIPT = _TABLES + _INDEXES


def write(path: Path, head: bytes, estate: Estate, cut: Cut) -> None:
    """Keep an estate, with something of the caller's in front, and what its files were cut into. OSError or
    sqlite3.Error if that is impossible."""
    from justlane.files.disk.beneath import CLOSED, open_folder
    from justlane.files.disk.durable import unfinished

    with open_folder(path.parent) as folder, unfinished(folder, CLOSED) as written:
        connection = sqlite3.connect(path.parent / written.name)
        connection.execute("PRAGMA journal_mode=OFF")
        connection.execute("PRAGMA synchronous=OFF")
        connection.executescript(_TABLES)
        with connection:
            _fill(connection, head, estate, cut)
        connection.executescript(_INDEXES)
        connection.close()
        written.replace(path.name)


def write_again(path: Path, store: Store, head: bytes, estate: Estate, cut: Cut, *, placed: bool) -> None:
    """Keep an estate of which a store has what it was before; its places are the same, unless it is `placed`
    otherwise, and only some files were cut anew. OSError or sqlite3.Error if that is impossible."""
    from justlane.files.disk.beneath import CLOSED, open_folder
    from justlane.files.disk.durable import unfinished

    with open_folder(path.parent) as folder, unfinished(folder, CLOSED) as written:
        connection = sqlite3.connect(path.parent / written.name)
        store.copy_into(connection)
        connection.execute("PRAGMA journal_mode=OFF")
        connection.execute("PRAGMA synchronous=OFF")
        with connection:
            for table, rows in (_changing(head, estate) | (_places(estate) if placed else {})).items():
                connection.execute(f"DELETE FROM {table}")
                _insert(connection, table, rows)
            connection.executemany("REPLACE INTO cut VALUES (?, ?)", cut.items())
        connection.close()
        written.replace(path.name)


def _fill(connection: sqlite3.Connection, head: bytes, estate: Estate, cut: Cut) -> None:
    for table, values in (_places(estate) | _changing(head, estate) | {"cut": cut.items()}).items():
        _insert(connection, table, values)


def _places(estate: Estate) -> dict[str, _Rows]:
    """The tables that are others when a place is."""
    scopes = [scope for platform in estate.platforms.values() for scope in platform.scopes.values()]
    return {
        "scopes": ((s.address, platform_of(s.address), place, _pack(s)) for place, s in enumerate(scopes)),
        "trees": ((name, _pack(tree_of(platform.scopes))) for name, platform in estate.platforms.items()),
        "gathered": ((g.address, s.address, _pack(g.source)) for s in scopes for g in s.gathers),
    }


def _changing(head: bytes, estate: Estate) -> dict[str, _Rows]:
    """The tables that are others when anything is."""
    bare = {name: replace(platform, scopes={}) for name, platform in estate.platforms.items()}
    skeleton = replace(estate, platforms=bare, directory=Directory({}, {}), bindings=())
    return {
        "head": [(head,)],
        "skeleton": [(_pack(skeleton),)],
        "bindings": (
            (place, platform_of(b.scope), b.scope, b.principal.kind, b.principal.name, _pack(b))
            for place, b in enumerate(estate.bindings)
        ),
    }


def _insert(connection: sqlite3.Connection, table: str, rows: _Rows) -> None:
    width = len(connection.execute(f"SELECT * FROM {table}").description)
    connection.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * width)})", rows)


def _within(body: bytes, least: int, end: int) -> bool:
    """Whether all numbers (32 bits, little-endian) are from the least on and before the end."""
    numbers = struct.unpack(f"<{len(body) // 4}i", body)
    return not numbers or (min(numbers) >= least and max(numbers) < end)


class Store:
    """A kept estate. StorageError, at any time, if the file turns out to be damaged."""

    def __init__(self, tables: Tables) -> None:
        self._tables = tables
        self._on: dict[str, StoredBindings] = {}

    def copy_into(self, connection: sqlite3.Connection) -> None:
        """Copy all of it into an empty database."""
        self._tables.copy_into(connection)

    def head(self) -> bytes:
        """What the caller put in front."""
        return self._one("SELECT body FROM head")

    def _one(self, query: str, *given: object) -> bytes:
        rows = self._tables.rows(query, (bytes,), *given)
        return cast(bytes, rows[0][0]) if rows else b""

    def cut(self, file: str) -> bytes:
        """What a file was cut into."""
        return self._one("SELECT body FROM cut WHERE file = ?", file)

    def estate(self) -> Estate:
        """The estate; its scopes are read when they are asked for; its people and bindings are not in it."""
        skeleton = self._tables.decoded(self._one("SELECT body FROM skeleton"), Estate)
        platforms = {
            name: replace(platform, scopes=Rows(self._tables, "scopes", Scope, name))
            for name, platform in skeleton.platforms.items()
        }
        return replace(skeleton, platforms=platforms)

    def with_bindings(self) -> Estate:
        """The estate with its bindings; its scopes are read when they are asked for; its people are not in it."""
        rows = self._tables.rows("SELECT body FROM bindings ORDER BY place", (bytes,))
        return replace(self.estate(), bindings=tuple(self._tables.decoded(body, Binding) for (body,) in rows))

    def whole(self) -> Estate:
        """The estate, read to the last row; its people are not in it."""
        lazy = self.with_bindings()
        platforms = {name: replace(p, scopes=dict(p.scopes.items())) for name, p in lazy.platforms.items()}
        return replace(lazy, platforms=platforms)

    def bindings_on(self, platform: str) -> StoredBindings:
        """The bindings of a platform."""
        if platform not in self._on:
            self._on[platform] = StoredBindings(self._tables, platform)
        return self._on[platform]

    def tree(self, platform: str) -> Tree:
        """All scopes of a platform, in short."""
        rows = self._tables.rows("SELECT body FROM trees WHERE platform = ?", (bytes,), platform)
        if not rows:
            raise self._tables.damaged()
        tree = self._tables.decoded(rows[0][0], Tree)
        count = len(tree.addresses)
        sound = 4 * count == len(tree.parents) == len(tree.kind)
        if not sound or not _within(tree.parents, -1, count) or not _within(tree.kind, 0, len(tree.kinds)):
            raise self._tables.damaged()
        return tree

    def gathering(self, address: str) -> Sequence[tuple[str, Source]]:
        """The resource groups that gather a scope."""
        rows = self._tables.rows(
            "SELECT grp, source FROM gathered WHERE name = ? ORDER BY rowid", (str, bytes), address
        )
        return [(name, self._tables.decoded(source, Source)) for name, source in rows]


class Rows(Mapping[str, T]):
    """A table as a mapping; each row is read when it is asked for, and kept."""

    def __init__(self, tables: Tables, table: str, kind: type[T], platform: str | None = None) -> None:
        self._tables = tables
        self._table = table
        self._kind = kind
        self._where = " WHERE platform = ?" if platform else ""
        self._given = (platform,) if platform else ()
        self._known: dict[str, T] = {}

    def __getitem__(self, name: str) -> T:
        if name not in self._known:
            rows = self._tables.rows(f"SELECT body FROM {self._table} WHERE name = ?", (bytes,), name)
            if not rows or (self._given and platform_of(name) != self._given[0]):
                raise KeyError(name)
            self._known[name] = self._tables.decoded(rows[0][0], self._kind)
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        query = f"SELECT name FROM {self._table}{self._where} ORDER BY place"
        return (name for (name,) in self._tables.rows(query, (str,), *self._given))

    def beginning(self, text: str, most: int) -> list[tuple[str, T]]:
        """Those whose name begins with a text, in the order of the table; where they are more than the most, the first
        by name."""
        given = f"{text}\U0010ffff", *self._given, most + 1
        where = f"name >= ? AND name < ?{' AND platform = ?' if self._given else ''}"
        query = f"SELECT place, name, body FROM {self._table} WHERE {where} ORDER BY name LIMIT ?"
        rows = self._tables.rows(query, (int, str, bytes), text, *given)
        some = sorted(rows) if len(rows) <= most else rows[:most]
        return [(name, self._tables.decoded(body, self._kind)) for _, name, body in some]

    def items(self) -> ItemsView[str, T]:
        """All, read in one go."""
        query = f"SELECT name, body FROM {self._table}{self._where} ORDER BY place"
        rows = self._tables.rows(query, (str, bytes), *self._given)
        known, decoded, kind = self._known, self._tables.decoded, self._kind
        for name, body in rows:
            if name not in known:
                known[name] = decoded(body, kind)
        return {name: known[name] for name, _ in rows}.items()

    def values(self) -> ValuesView[T]:
        """All, read in one go."""
        return dict(self.items()).values()

    def __len__(self) -> int:
        query = f"SELECT count(*) FROM {self._table}{self._where}"
        return int(self._tables.rows(query, (int,), *self._given)[0][0])


class StoredBindings:
    """The bindings of one platform; each is read once, so that the same one is the same object."""

    def __init__(self, tables: Tables, platform: str) -> None:
        self._tables = tables
        self._platform = platform
        self._known: dict[int, Binding] = {}
        self._all: list[Binding] | None = None
        self._at: dict[str, list[Binding]] = {}
        self._of: dict[Principal, list[Binding]] = {}
        self._places: dict[int, int] = {}

    def __iter__(self) -> Iterator[Binding]:
        if self._all is None:
            self._all = self._selected("platform = ?", self._platform)
        return iter(self._all)

    def at(self, scope: str) -> Sequence[Binding]:
        """Those at a scope."""
        if scope not in self._at:
            self._at[scope] = self._selected("scope = ?", scope)
        return self._at[scope]

    def of(self, principal: Principal) -> Sequence[Binding]:
        """Those to a principal."""
        if principal not in self._of:
            where = "name = ? AND kind = ? AND platform = ?"
            self._of[principal] = self._selected(where, principal.name, principal.kind, self._platform)
        return self._of[principal]

    def principals(self) -> Collection[Principal]:
        """Everything that one of them names."""
        query = "SELECT DISTINCT kind, name FROM bindings WHERE platform = ?"
        rows = self._tables.rows(query, (str, str), self._platform)
        if not {kind for kind, _ in rows} <= set(PrincipalKind):
            raise self._tables.damaged()
        return [Principal(PrincipalKind(kind), name) for kind, name in rows]

    def place(self, binding: Binding) -> int:
        """Where one stands in the order; after all others if it is none of them."""
        return self._places.get(id(binding), 1 << 62)

    def _selected(self, where: str, *given: object) -> list[Binding]:
        query = f"SELECT place, body FROM bindings WHERE {where} ORDER BY place"
        rows = self._tables.rows(query, (int, bytes), *given)
        return [self._binding(place, body) for place, body in rows]

    def _binding(self, place: int, body: bytes) -> Binding:
        if place not in self._known:
            self._known[place] = self._tables.decoded(body, Binding)
            self._places[id(self._known[place])] = place
        return self._known[place]
