"""Files of tables (SQLite) that are opened for reading, and what happens when one is damaged or a stranger's."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from justlane.model import interruption
from justlane.model.errors import StorageError

T = TypeVar("T")
Kinds = tuple[type, ...]
"""The types that the columns of a query have."""

_AT_ONCE = 1_000_000
_MOST_TIMES = 5_000
"""A query that takes more than so many times a million instructions, about a minute, is none of ours."""
_LARGEST = 1 << 28
"""Bytes of one value."""


@cache
def _schema(script: str) -> frozenset[str]:
    """What SQLite remembers of the statements of a script."""
    connection = sqlite3.connect(":memory:")
    connection.executescript(script)
    return frozenset(sql for (sql,) in connection.execute(_STATEMENTS))


_STATEMENTS = "SELECT sql FROM sqlite_master WHERE sql IS NOT NULL"


class Tables:
    """A file of tables, opened for reading, that holds what one of some scripts makes, and nothing else.

    Where it turns out to be damaged, that is a StorageError; a file that can be made again is thrown away as well.
    """

    def __init__(
        self,
        path: Path | None,
        scripts: tuple[str, ...],
        connection: sqlite3.Connection | None = None,
        *,
        keep: bool = False,
    ) -> None:
        self._path = path
        self._keep = keep
        self._connection = connection or sqlite3.connect(f"file:{_quoted(path)}?mode=ro&immutable=1", uri=True)
        self._connection.execute("PRAGMA trusted_schema=OFF")
        self._connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LARGEST)
        self._connection.set_progress_handler(self._goes_on, _AT_ONCE)
        self._times = 0
        found = [sql for (sql,) in self.rows(f"{_STATEMENTS} LIMIT 100", (str,))]
        if sorted(found) not in (sorted(_schema(script)) for script in scripts):
            raise self.damaged()

    def copy_into(self, connection: sqlite3.Connection) -> None:
        """Copy all tables into an empty database. sqlite3.Error if that is impossible."""
        self._times = 0
        self._connection.backup(connection)

    def has(self, table: str) -> bool:
        """Whether there is a table of that name."""
        return bool(self.rows("SELECT 1 FROM sqlite_master WHERE name = ?", (int,), table))

    def count(self, table: str) -> int:
        """How many rows a table has."""
        return int(self.rows(f"SELECT count(*) FROM {table}", (int,))[0][0])

    def _goes_on(self) -> bool:
        """Called by SQLite now and then: whether it shall stop."""
        self._times += 1
        return self._times > _MOST_TIMES

    def _spoilt(self) -> StorageError:
        """The error for a query that failed."""
        interruption.check()  # one that came while SQLite called us back
        return self.damaged()

    @property
    def name(self) -> str:
        """What the file is kept as; empty if it is not kept for good."""
        return self._path.stem if self._path and self._keep else ""

    def rows(self, query: str, of: Kinds, *given: object) -> list[Any]:
        """All rows of a query, whose columns are of these types."""
        self._times = 0
        try:
            found = self._connection.execute(query, given).fetchall()
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise self._spoilt() from error
        except UnicodeEncodeError:
            return []  # what was asked for is no text, and so in no table
        for row in found:
            if tuple(map(type, row)) != of:
                raise self.damaged()
        return found

    def stream(self, query: str, of: Kinds, *given: object) -> Iterator[Any]:
        """The rows of a query, one by one."""
        self._times = 0
        try:
            for row in self._connection.execute(query, given):
                if tuple(map(type, row)) != of:
                    raise self.damaged()
                yield row
        except (sqlite3.Error, UnicodeDecodeError) as error:
            raise self._spoilt() from error
        except UnicodeEncodeError:
            return

    def decoded(self, body: bytes, kind: type[T]) -> T:
        """One row's content, from MessagePack."""
        try:
            return msgspec.msgpack.decode(body, type=kind)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
            raise self.damaged() from error

    def damaged(self) -> StorageError:
        """The error for a file that does not hold what it should."""
        if self._keep:
            name = self._path.name if self._path else "in memory"
            hint = "remove that file, and `justlane people pull` reads everybody anew"
            return StorageError(f"the snapshot of the people {name} is damaged", hint)
        self._connection.close()
        if self._path:
            self._path.unlink(missing_ok=True)
        hint = "run the command again: it reads the estate's files afresh"
        return StorageError("what was kept of the estate was damaged, and has been thrown away", hint)


def _quoted(path: Path | None) -> str:
    """A path inside an URI, for SQLite; urllib is not worth its import here."""
    return "".join(
        f"%{byte:02X}" if chr(byte) in "%?#" or byte > 127 else chr(byte)
        for byte in os.fsencode(path.resolve() if path else "")
    )
