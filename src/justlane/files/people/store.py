"""All people in a form that is read only where it is asked: SQLite, one row for each user and each group.

A row holds its memberships itself, as pairs of numbers (little-endian, 32 bits): what a group holds, what holds it, and
the line that says so.
"""

from __future__ import annotations

import sys
from array import array
from collections.abc import Callable, Collection, ItemsView, Iterator, Mapping, Sequence, ValuesView
from datetime import date
from functools import cache
from typing import TYPE_CHECKING, Any, NamedTuple, TypeVar

from msgspec.structs import replace

from justlane.files.disk.tables import Tables
from justlane.files.people.citation import Citation
from justlane.model.findings import Finding, Source
from justlane.model.names import fitting
from justlane.model.people import Directory, Group, Membership, Principal, PrincipalKind, Snapshot, User

if TYPE_CHECKING:
    from justlane.engine.arrays.directory import NumberedDirectory
    from justlane.engine.facts.group_sizes import GroupHoldings, Size

T = TypeVar("T")

TABLES = """
CREATE TABLE head (layout INTEGER, body BLOB, shown BLOB, findings BLOB);
CREATE TABLE users (id INTEGER PRIMARY KEY, login TEXT, name TEXT, enabled INTEGER, stable TEXT, source INTEGER,
  line INTEGER, held BLOB);
CREATE TABLE groups (id INTEGER PRIMARY KEY, name TEXT, purpose TEXT, stable TEXT, source INTEGER, line INTEGER,
  members BLOB, held BLOB);
"""
ARRAYS = """
CREATE TABLE arrays (name TEXT, body BLOB);
"""
"""What `numbered` is made of; files of earlier versions are without."""
INDEXES = """
CREATE UNIQUE INDEX users_by_login ON users (login);
CREATE UNIQUE INDEX groups_by_name ON groups (name);
"""
SCRIPTS = (TABLES + ARRAYS + INDEXES, TABLES + INDEXES)
"""What such a file is made by, and what it was made by in earlier versions."""
LAYOUT = 1
"""Raised whenever the tables change; a file of another layout is not read."""

USERS, GROUPS = "users", "groups"
"""The two tables, for those who ask for one of them."""
_NAMED = {USERS: "login", GROUPS: "name"}
_KEPT = {USERS: "login, name, enabled, stable", GROUPS: "name, purpose, 1, stable"}
_MANY = 20_000
"""From so many on, the whole table is passed over rather than each looked up."""
_USER = "login, name, enabled, source, line, stable"
_OF_USER = (str, str, int, int, int, str)
_GROUP = "name, purpose, source, line, members, stable"
_OF_GROUP = (str, str, int, int, bytes, str)


def _pairs(body: bytes) -> Iterator[tuple[int, int]]:
    numbers = array("I")
    numbers.frombytes(body[: len(body) // 8 * 8])
    if sys.byteorder == "big":
        numbers.byteswap()
    return zip(numbers[::2], numbers[1::2], strict=True)


class KeptRow(NamedTuple):
    """A user or a group as a row keeps it."""

    name: str
    """The login, or the group's name."""
    title: str
    enabled: int
    """0 no, 1 yes, more: until that day (date.toordinal)."""
    stable: str
    held: bytes

    def groups(self) -> list[int]:
        """The numbers of the groups that hold it."""
        return [group for group, _ in _pairs(self.held)]


class PeopleStore:
    """Kept people. StorageError, at any time, if the file turns out to be damaged."""

    def __init__(self, tables: Tables) -> None:
        self._tables = tables
        self._names: dict[int, tuple[str, int]] = {}
        rows = tables.rows("SELECT layout, body, shown FROM head LIMIT 2", (int, bytes, bytes))
        if not rows or rows[0][0] != LAYOUT:
            raise tables.damaged()
        self.snapshot = replace(tables.decoded(rows[0][1], Snapshot), name=tables.name)
        """When and from where they were read."""
        self._shown = tables.decoded(rows[0][2], list[Citation])

    @property
    def findings(self) -> list[Finding]:
        """What reading them found that is worth a warning."""
        return self._tables.decoded(self._tables.rows("SELECT findings FROM head", (bytes,))[0][0], list[Finding])

    def directory(self) -> Directory:
        """Users and groups, each read when it is asked for."""
        users = _Entries(self, USERS, self.user, self.users)
        return Directory(users, _Entries(self, GROUPS, self.group, self.groups))

    def whole(self) -> Directory:
        """Users and groups, read to the last one."""
        return Directory(dict(self.users()), dict(self.groups()))

    def groups_with(self, member: Principal) -> Sequence[tuple[Principal, Source]]:
        """The groups that hold a user or a group directly, each with the line that says so."""
        table = USERS if member.kind is PrincipalKind.USER else GROUPS
        rows = self._tables.rows(f"SELECT held FROM {table} WHERE {_NAMED[table]} = ?", (bytes,), member.name)
        found = []
        for number, line in _pairs(rows[0][0]) if rows else ():
            name, source = self._group_name(number)
            found.append((Principal(PrincipalKind.GROUP, name), self._cited(source).group(name, line)))
        return found

    def numbered(self) -> NumberedDirectory:
        """Everybody in numbers."""
        from justlane.files.people.arrays import read_numbered

        return read_numbered(self._tables)

    def _cited(self, source: int) -> Citation:
        """How entries of a source are cited."""
        if not 0 <= source < len(self._shown):
            raise self._tables.damaged()
        return self._shown[source]

    def _group_name(self, number: int) -> tuple[str, int]:
        if number not in self._names:
            rows = self._tables.rows("SELECT name, source FROM groups WHERE id = ?", (str, int), number)
            if not rows:
                raise self._tables.damaged()
            self._names[number] = rows[0]
        return self._names[number]

    def user(self, login: str) -> User | None:
        """One user, or None."""
        rows = self._tables.rows(f"SELECT {_USER} FROM users WHERE login = ?", _OF_USER, login)
        return self._user(rows[0]) if rows else None

    def _user(self, row: Sequence[Any]) -> User:
        login, name, enabled, source, line, stable = row
        last_day = self._day(enabled) if enabled > 1 else None
        return User(login, name, bool(enabled), self._cited(source).user(login, line), stable, last_day)

    def _day(self, number: int) -> date:
        """The day that a row keeps as a number."""
        try:
            return date.fromordinal(number)
        except (ValueError, OverflowError):
            raise self._tables.damaged() from None

    def users(self, pattern: str = "") -> Iterator[tuple[str, User]]:
        """All users by login, or those whose login or name fits a pattern, in the order of reading."""
        where, given = "", list[str]()
        if pattern.isascii() and "*" not in pattern:
            where, given = "WHERE instr(lower(login), ?1) OR instr(lower(name), ?1)", [pattern.lower()]
        fits = fitting(pattern)
        for row in self._tables.stream(f"SELECT {_USER} FROM users {where} ORDER BY id", _OF_USER, *given):
            if where or fits(row[0]) or fits(row[1]):
                yield row[0], self._user(row)

    def group(self, name: str) -> Group | None:
        """One group with its members, or None."""
        rows = self._tables.rows(f"SELECT {_GROUP} FROM groups WHERE name = ?", _OF_GROUP, name)
        return self._group(rows[0], {}) if rows else None

    def groups(self) -> Iterator[tuple[str, Group]]:
        """All groups by name, in the order of reading."""
        logins = dict(self._tables.stream("SELECT id, login FROM users", (int, str)))
        named = self._tables.stream("SELECT id, name, source FROM groups", (int, str, int))
        self._names = {n: (name, source) for n, name, source in named}
        known: dict[int, Principal] = {}
        for row in self._tables.stream(f"SELECT {_GROUP} FROM groups ORDER BY id", _OF_GROUP):
            yield row[0], self._group(row, known, logins)

    def _group(self, row: Sequence[Any], known: dict[int, Principal], logins: Mapping[int, str] | None = None) -> Group:
        name, purpose, source, line, body, stable = row
        pairs = list(_pairs(body))
        if logins is None:
            logins = self._logins([code >> 1 for code, _ in pairs if not code & 1])
        members = []
        for code, at in pairs:
            principal = known.get(code)
            if principal is None:
                if not code & 1 and code >> 1 not in logins:
                    raise self._tables.damaged()
                principal = known[code] = (
                    Principal(PrincipalKind.GROUP, self._group_name(code >> 1)[0])
                    if code & 1
                    else Principal(PrincipalKind.USER, logins[code >> 1])
                )
            members.append(Membership(principal, self._cited(source).group(name, at)))
        return Group(name, purpose, tuple(members), self._cited(source).group(name, line), stable)

    def _logins(self, numbers: list[int]) -> dict[int, str]:
        if len(numbers) > 1000:
            wanted = set(numbers)
            return {
                n: login for n, login in self._tables.stream("SELECT id, login FROM users", (int, str)) if n in wanted
            }
        found = {}
        for n in numbers:
            for (login,) in self._tables.rows("SELECT login FROM users WHERE id = ?", (str,), n):
                found[n] = login
        return found

    def kept(self, table: str, names: Collection[str]) -> list[KeptRow]:
        """Some users or groups with the groups that hold them, sorted by name."""
        wanted = set(names)
        if len(wanted) > _MANY:
            query = f"SELECT {_KEPT[table]}, held FROM {table} ORDER BY 1"
            rows = self._tables.stream(query, (str, str, int, str, bytes))
            return [KeptRow._make(row) for row in rows if row[0] in wanted]
        query = f"SELECT {_KEPT[table]}, held FROM {table} WHERE {_NAMED[table]} = ?"
        found = (self._tables.rows(query, (str, str, int, str, bytes), name) for name in sorted(wanted))
        return [KeptRow._make(rows[0]) for rows in found if rows]

    def entries(self, table: str) -> set[tuple[str, str, int, str]]:
        """Users or groups without the groups that hold them: name, title, whether enabled, stable id."""
        return set(self._tables.rows(f"SELECT {_KEPT[table]} FROM {table}", (str, str, int, str)))

    def groups_by_number(self) -> Iterator[tuple[str, str]]:
        """Names and stable ids of the groups, by the numbers that rows call them by."""
        return self._tables.stream("SELECT name, stable FROM groups ORDER BY id", (str, str))

    def sizes(self, pattern: str = "") -> list[tuple[Group, Size]]:
        """Groups whose names fit a pattern, without their members but with the numbers of them, by name."""
        from justlane.engine.facts.group_sizes import sizes

        fits = fitting(pattern)
        names = {name: n for n, name in self._tables.stream("SELECT id, name FROM groups", (int, str)) if fits(name)}
        off = {number for (number,) in self._tables.stream("SELECT id FROM users WHERE NOT enabled", (int,))}
        wanted = sorted(names)
        found = sizes(cache(self._held), [names[name] for name in wanted], lambda number: number not in off)
        return [(self._bare(name), found[names[name]]) for name in wanted]

    def _held(self, number: int) -> GroupHoldings:
        """What a group holds, by number."""
        from justlane.engine.facts.group_sizes import GroupHoldings

        rows = self._tables.rows("SELECT members FROM groups WHERE id = ?", (bytes,), number)
        codes = [code for code, _ in _pairs(rows[0][0])] if rows else []
        users = array("I", [code >> 1 for code in codes if not code & 1])
        return GroupHoldings(users, [code >> 1 for code in codes if code & 1])

    def _bare(self, name: str) -> Group:
        query = "SELECT name, purpose, source, line, stable FROM groups WHERE name = ?"
        rows = self._tables.rows(query, (str, str, int, int, str), name)
        if not rows:
            raise self._tables.damaged()  # only its index does not know it
        _, purpose, source, line, stable = rows[0]
        return Group(name, purpose, (), self._cited(source).group(name, line), stable)

    def names(self, table: str) -> Iterator[str]:
        """All logins or group names, in the order of reading."""
        kept = self._tables.has("arrays") and self._tables.rows(
            "SELECT body FROM arrays WHERE name = ?", (bytes,), "logins" if table == USERS else "group names"
        )
        if kept:
            return iter(self._tables.decoded(kept[0][0], list[str]))
        query = f"SELECT {_NAMED[table]} FROM {table} ORDER BY id"
        return (name for (name,) in self._tables.stream(query, (str,)))

    def beginning(self, table: str, text: str, most: int) -> dict[str, str]:
        """The first logins or group names that begin with a text, with what people know them by."""
        name, title = (_NAMED[table], "name" if table == USERS else "purpose")
        query = f"SELECT {name}, {title} FROM {table} WHERE {name} >= ? AND {name} < ? ORDER BY 1 LIMIT ?"
        return dict(self._tables.rows(query, (str, str), text, text + "\U0010ffff", most))

    def require_missing(self, table: str, name: str) -> None:
        """StorageError if a name is there after all, and only its index does not know it."""
        if self._tables.rows(f"SELECT 1 FROM {table} NOT INDEXED WHERE {_NAMED[table]} = ? LIMIT 1", (int,), name):
            raise self._tables.damaged()

    def require_groups_below(self, table: str, count: int) -> None:
        """StorageError if one of these is said to be in a group of a number that no group has."""
        for (held,) in self._tables.stream(f"SELECT held FROM {table} WHERE held <> x''", (bytes,)):
            if any(number >= count for number, _ in _pairs(held)):
                raise self._tables.damaged()

    def has(self, table: str, name: str) -> bool:
        """Whether there is a user or a group of a name."""
        if self._tables.rows(f"SELECT 1 FROM {table} WHERE {_NAMED[table]} = ?", (int,), name):
            return True
        self.require_missing(table, name)
        return False

    def count(self, table: str) -> int:
        """How many users or groups there are."""
        return int(self._tables.rows(f"SELECT count(*) FROM {table}", (int,))[0][0])

    def named_by_id(self, table: str, stable: str) -> str:
        """The login or the group name that has a stable id today; empty if there is none, or the id is empty."""
        query = f"SELECT {_NAMED[table]} FROM {table} WHERE stable = ?"
        rows = self._tables.rows(query, (str,), stable) if stable else []
        return str(rows[0][0]) if len(rows) == 1 else ""

    def stable_id(self, table: str, name: str) -> str | None:
        """The stable id of a user or a group; empty if it has none, None if there is no such user or group."""
        rows = self._tables.rows(f"SELECT stable FROM {table} WHERE {_NAMED[table]} = ?", (str,), name)
        return str(rows[0][0]) if rows else None


class _Entries(Mapping[str, T]):
    """Users or groups by name; each is read when it is asked for, and kept."""

    def __init__(
        self,
        store: PeopleStore,
        table: str,
        one: Callable[[str], T | None],
        every: Callable[[], Iterator[tuple[str, T]]],
    ) -> None:
        self._store, self._table, self._one, self._every = store, table, one, every
        self._known: dict[str, T] = {}

    def __getitem__(self, name: str) -> T:
        if name not in self._known:
            found = self._one(name)
            if found is None:
                self._store.require_missing(self._table, name)
                raise KeyError(name)
            self._known[name] = found
        return self._known[name]

    def __contains__(self, name: object) -> bool:
        return name in self._known or (isinstance(name, str) and self._store.has(self._table, name))

    def __iter__(self) -> Iterator[str]:
        return self._store.names(self._table)

    def __len__(self) -> int:
        return self._store.count(self._table)

    def items(self) -> ItemsView[str, T]:
        """All, read in one go."""
        return dict(self._every()).items()

    def values(self) -> ValuesView[T]:
        """All, read in one go."""
        return dict(self._every()).values()
