"""What was read once and has not changed need not be read again.

A sound estate is kept in the user's cache folder (`store`), with a digest of every file that it came from; it counts
only while all of them, and the list of files that `include` matches, are still the same.
"""

from __future__ import annotations

import hashlib
import sqlite3
from pathlib import Path

import msgspec
from platformdirs import user_cache_path

from justlane import __version__
from justlane.files.folder import included
from justlane.files.store import Store, write
from justlane.model.errors import StorageError
from justlane.model.estate import Estate

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


def recall(folder: Path) -> Store | None:
    """The estate as it was last read; None if it has to be read again."""
    try:
        store = Store(_place(folder))
        origin = msgspec.msgpack.decode(store.head(), type=Origin)
        return store if _still_true(origin, folder) else None
    except (OSError, sqlite3.Error, StorageError, msgspec.DecodeError):
        return None


def _still_true(origin: Origin, folder: Path) -> bool:
    return (
        origin.version == __version__
        and origin.folder == str(folder.resolve())
        and all(included(folder, pattern) == files for pattern, files in origin.matches.items())
        and all(digest(folder / file) == known for file, known in origin.digests.items())
    )


def keep(folder: Path, estate: Estate, digests: dict[str, str], patterns: tuple[str, ...]) -> None:
    """Remember an estate. Where the cache folder cannot be written, do without."""
    matches = {pattern: included(folder, pattern) for pattern in patterns}
    origin = Origin(__version__, str(folder.resolve()), digests, matches)
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


def _place(folder: Path) -> Path:
    name = hashlib.blake2b(str(folder.resolve()).encode(), digest_size=10).hexdigest()
    return user_cache_path("justlane", appauthor=False) / f"{name}.sqlite"
