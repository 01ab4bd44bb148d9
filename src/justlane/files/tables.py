"""Files of tables (SQLite) that are opened for reading, and what happens when one is damaged."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator
from pathlib import Path
from typing import Any, TypeVar

import msgspec

from justlane.model.errors import StorageError

T = TypeVar("T")


class Tables:
    """A file of tables, opened for reading.

    Where it turns out to be damaged, that is a StorageError; a file that can be made again is thrown away as well.
    """

    def __init__(self, path: Path | None, connection: sqlite3.Connection | None = None, *, keep: bool = False) -> None:
        self._path = path
        self._keep = keep
        self._connection = connection or sqlite3.connect(f"file:{_quoted(path)}?mode=ro&immutable=1", uri=True)

    @property
    def name(self) -> str:
        """What the file is kept as; empty if it is not kept for good."""
        return self._path.stem if self._path and self._keep else ""

    def rows(self, query: str, *given: object) -> list[Any]:
        """All rows of a query."""
        try:
            return self._connection.execute(query, given).fetchall()
        except sqlite3.Error as error:
            raise self.damaged() from error

    def stream(self, query: str, *given: object) -> Iterator[Any]:
        """The rows of a query, one by one."""
        try:
            yield from self._connection.execute(query, given)
        except sqlite3.Error as error:
            raise self.damaged() from error

    def decoded(self, body: bytes, kind: type[T]) -> T:
        """One row's content, from MessagePack."""
        try:
            return msgspec.msgpack.decode(body, type=kind)
        except (msgspec.DecodeError, UnicodeDecodeError) as error:
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
