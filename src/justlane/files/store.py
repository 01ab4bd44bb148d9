"""An estate in a form that is read only where it is asked: SQLite, one row for each user, group, scope and binding.

Rows hold MessagePack. The file is written beside the old one and replaces it in one step; it is opened for reading.
"""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TypeVar, cast

import msgspec
from msgspec.structs import replace

from justlane.model.bindings import Binding
from justlane.model.estate import Estate
from justlane.model.findings import Source
from justlane.model.people import Directory, Group, Principal, PrincipalKind, User
from justlane.model.scopes import Scope, platform_of

T = TypeVar("T")

_TABLES = """
CREATE TABLE head (body BLOB);
CREATE TABLE skeleton (body BLOB);
CREATE TABLE users (name TEXT PRIMARY KEY, place INTEGER, body BLOB) WITHOUT ROWID;
CREATE TABLE groups (name TEXT PRIMARY KEY, place INTEGER, body BLOB) WITHOUT ROWID;
CREATE TABLE members (kind TEXT, name TEXT, grp TEXT, source BLOB);
CREATE TABLE scopes (name TEXT PRIMARY KEY, platform TEXT, place INTEGER, body BLOB) WITHOUT ROWID;
CREATE TABLE gathered (name TEXT, grp TEXT, source BLOB);
CREATE TABLE bindings (place INTEGER PRIMARY KEY, platform TEXT, scope TEXT, kind TEXT, name TEXT, body BLOB);
"""
_INDEXES = """
CREATE INDEX members_by_name ON members (name, kind);
CREATE INDEX scopes_by_place ON scopes (platform, place);
CREATE INDEX gathered_by_name ON gathered (name);
CREATE INDEX bindings_by_scope ON bindings (scope);
CREATE INDEX bindings_by_principal ON bindings (name, kind, platform);
"""
_pack = msgspec.msgpack.encode


def write(path: Path, head: bytes, estate: Estate) -> None:
    """Keep an estate, with something of the caller's in front. OSError or sqlite3.Error if that is impossible."""
    import tempfile

    path.parent.mkdir(parents=True, exist_ok=True)
    handle, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    os.close(handle)
    try:
        connection = sqlite3.connect(name)
        connection.execute("PRAGMA journal_mode=OFF")
        connection.execute("PRAGMA synchronous=OFF")
        connection.executescript(_TABLES)
        with connection:
            _fill(connection, head, estate)
        connection.executescript(_INDEXES)
        connection.close()
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def _fill(connection: sqlite3.Connection, head: bytes, estate: Estate) -> None:
    bare = {name: replace(platform, scopes={}) for name, platform in estate.platforms.items()}
    skeleton = replace(estate, platforms=bare, directory=Directory({}, {}), bindings=())
    groups = estate.directory.groups.values()
    scopes = [scope for platform in estate.platforms.values() for scope in platform.scopes.values()]
    rows: dict[str, Iterable[tuple[object, ...]]] = {
        "head": [(head,)],
        "skeleton": [(_pack(skeleton),)],
        "users": ((u.login, place, _pack(u)) for place, u in enumerate(estate.directory.users.values())),
        "groups": ((g.name, place, _pack(g)) for place, g in enumerate(groups)),
        "members": ((m.member.kind, m.member.name, g.name, _pack(m.source)) for g in groups for m in g.members),
        "scopes": ((s.address, platform_of(s.address), place, _pack(s)) for place, s in enumerate(scopes)),
        "gathered": ((g.address, s.address, _pack(g.source)) for s in scopes for g in s.gathers),
        "bindings": (
            (place, platform_of(b.scope), b.scope, b.principal.kind, b.principal.name, _pack(b))
            for place, b in enumerate(estate.bindings)
        ),
    }
    for table, values in rows.items():
        width = len(connection.execute(f"SELECT * FROM {table}").description)
        connection.executemany(f"INSERT INTO {table} VALUES ({', '.join('?' * width)})", values)


class Store:
    """A kept estate. sqlite3.Error or msgspec.DecodeError if the file is damaged."""

    def __init__(self, path: Path) -> None:
        self._connection = sqlite3.connect(f"file:{_quoted(path)}?mode=ro&immutable=1", uri=True)
        self._on: dict[str, StoredBindings] = {}

    def head(self) -> bytes:
        """What the caller put in front."""
        return cast(bytes, self._connection.execute("SELECT body FROM head").fetchone()[0])

    def estate(self) -> Estate:
        """The estate; its users, groups and scopes are read when they are asked for, its bindings are not in it."""
        body = self._connection.execute("SELECT body FROM skeleton").fetchone()[0]
        skeleton = msgspec.msgpack.decode(body, type=Estate)
        platforms = {
            name: replace(platform, scopes=Rows(self._connection, "scopes", Scope, name))
            for name, platform in skeleton.platforms.items()
        }
        users, groups = Rows(self._connection, "users", User), Rows(self._connection, "groups", Group)
        return replace(skeleton, platforms=platforms, directory=Directory(users, groups))

    def whole(self) -> Estate:
        """The estate, read to the last row."""
        lazy = self.estate()
        platforms = {name: replace(p, scopes=dict(p.scopes.items())) for name, p in lazy.platforms.items()}
        directory = Directory(dict(lazy.directory.users.items()), dict(lazy.directory.groups.items()))
        rows = self._connection.execute("SELECT body FROM bindings ORDER BY place")
        bindings = tuple(msgspec.msgpack.decode(body, type=Binding) for (body,) in rows)
        return replace(lazy, platforms=platforms, directory=directory, bindings=bindings)

    def bindings_on(self, platform: str) -> StoredBindings:
        """The bindings of a platform."""
        if platform not in self._on:
            self._on[platform] = StoredBindings(self._connection, platform)
        return self._on[platform]

    def groups_with(self, member: Principal) -> Sequence[tuple[Principal, Source]]:
        """The groups that hold a user or a group directly."""
        query = "SELECT grp, source FROM members WHERE name = ? AND kind = ? ORDER BY rowid"
        rows = self._connection.execute(query, (member.name, member.kind))
        return [(Principal(PrincipalKind.GROUP, name), msgspec.msgpack.decode(s, type=Source)) for name, s in rows]

    def gathering(self, address: str) -> Sequence[tuple[str, Source]]:
        """The resource groups that gather a scope."""
        rows = self._connection.execute("SELECT grp, source FROM gathered WHERE name = ? ORDER BY rowid", (address,))
        return [(name, msgspec.msgpack.decode(source, type=Source)) for name, source in rows]


def _quoted(path: Path) -> str:
    """A path inside an URI, for SQLite; urllib is not worth its import here."""
    return "".join(
        f"%{byte:02X}" if chr(byte) in "%?#" or byte > 127 else chr(byte) for byte in os.fsencode(path.resolve())
    )


class Rows(Mapping[str, T]):
    """A table as a mapping; each row is read when it is asked for, and kept."""

    def __init__(self, connection: sqlite3.Connection, table: str, kind: type[T], platform: str | None = None) -> None:
        self._connection = connection
        self._table = table
        self._kind = kind
        self._where = " WHERE platform = ?" if platform else ""
        self._given = (platform,) if platform else ()
        self._known: dict[str, T] = {}

    def __getitem__(self, name: str) -> T:
        if name not in self._known:
            query = f"SELECT body FROM {self._table} WHERE name = ?"
            row = self._connection.execute(query, (name,)).fetchone()
            if row is None or (self._given and platform_of(name) != self._given[0]):
                raise KeyError(name)
            self._known[name] = msgspec.msgpack.decode(row[0], type=self._kind)
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        query = f"SELECT name FROM {self._table}{self._where} ORDER BY place"
        return (name for (name,) in self._connection.execute(query, self._given).fetchall())

    def __len__(self) -> int:
        count = self._connection.execute(f"SELECT count(*) FROM {self._table}{self._where}", self._given)
        return int(count.fetchone()[0])


class StoredBindings:
    """The bindings of one platform; each is read once, so that the same one is the same object."""

    def __init__(self, connection: sqlite3.Connection, platform: str) -> None:
        self._connection = connection
        self._platform = platform
        self._known: dict[int, Binding] = {}
        self._places: dict[int, int] = {}

    def __iter__(self) -> Iterator[Binding]:
        return iter(self._selected("platform = ?", (self._platform,)))

    def at(self, scope: str) -> Sequence[Binding]:
        """Those at a scope."""
        return self._selected("scope = ?", (scope,))

    def of(self, principal: Principal) -> Sequence[Binding]:
        """Those to a principal."""
        where = "name = ? AND kind = ? AND platform = ?"
        return self._selected(where, (principal.name, principal.kind, self._platform))

    def principals(self) -> Collection[Principal]:
        """Everything that one of them names."""
        query = "SELECT DISTINCT kind, name FROM bindings WHERE platform = ?"
        rows = self._connection.execute(query, (self._platform,))
        return [Principal(PrincipalKind(kind), name) for kind, name in rows]

    def place(self, binding: Binding) -> int:
        """Where one stands in the order; after all others if it is none of them."""
        return self._places.get(id(binding), 1 << 62)

    def _selected(self, where: str, given: tuple[object, ...]) -> list[Binding]:
        rows = self._connection.execute(f"SELECT place, body FROM bindings WHERE {where} ORDER BY place", given)
        return [self._binding(place, body) for place, body in rows.fetchall()]

    def _binding(self, place: int, body: bytes) -> Binding:
        if place not in self._known:
            self._known[place] = msgspec.msgpack.decode(body, type=Binding)
            self._places[id(self._known[place])] = place
        return self._known[place]
