"""What was read once and has not changed need not be read again.

A sound estate is kept as MessagePack in the user's cache folder, with a digest of every file that it came
from; it counts only while all of them, and the list of files that `include` matches, are still the same.
"""

from __future__ import annotations

import hashlib
from pathlib import Path

import msgspec
from platformdirs import user_cache_path

from justlane import __version__
from justlane.files.folder import included
from justlane.files.storing import write_atomically
from justlane.model.errors import StorageError
from justlane.model.estate import Estate


class Kept(msgspec.Struct, frozen=True):
    """One estate as it was read, and what it was read from."""

    version: str
    folder: str
    digests: dict[str, str]
    """File, relative to the folder -> digest of its content."""
    matches: dict[str, list[str]]
    """Pattern of `include` -> the files that it matched."""
    estate: bytes


def recall(folder: Path) -> Estate | None:
    """The estate as it was last read; None if it has to be read again."""
    try:
        kept = msgspec.msgpack.decode(_place(folder).read_bytes(), type=Kept)
        if kept.version != __version__ or kept.folder != str(folder.resolve()):
            return None
        if any(included(folder, pattern) != files for pattern, files in kept.matches.items()):
            return None
        if any(digest(folder / file) != known for file, known in kept.digests.items()):
            return None
        return msgspec.msgpack.decode(kept.estate, type=Estate)
    except (OSError, msgspec.DecodeError):
        return None


def keep(folder: Path, estate: Estate, digests: dict[str, str], patterns: tuple[str, ...]) -> None:
    """Remember an estate. Where the cache folder cannot be written, do without."""
    matches = {pattern: included(folder, pattern) for pattern in patterns}
    content = msgspec.msgpack.encode(estate)
    kept = Kept(__version__, str(folder.resolve()), digests, matches, content)
    try:
        write_atomically(_place(folder), msgspec.msgpack.encode(kept), mode=0o600)
    except StorageError:
        return


def digest_of(content: bytes) -> str:
    """BLAKE2b (RFC 7693), in hexadecimal."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()


def digest(file: Path) -> str:
    """Digest of a file's content; empty if it cannot be read."""
    try:
        return digest_of(file.read_bytes())
    except OSError:
        return ""


def _place(folder: Path) -> Path:
    name = hashlib.blake2b(str(folder.resolve()).encode(), digest_size=10).hexdigest()
    return user_cache_path("justlane", appauthor=False) / f"{name}.msgpack"
