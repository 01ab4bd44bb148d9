"""Files that an estate names besides its own YAML: people, certificates, keys.

They lie inside its folder, or the person has allowed them.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path, PurePosixPath

from justlane.files.disk import beneath
from justlane.files.disk.beneath import NotBeneathError
from justlane.model.shell import spelt

LARGE = 4 << 20
"""Of a file with more bytes than this, size, time and number are compared rather than its content."""


def is_foreign(name: str) -> bool:
    """Whether a name leads out of the estate's folder: then nothing of the file's content is shown."""
    path = PurePosixPath(name)
    return path.is_absolute() or ".." in path.parts


@contextmanager
def opened(folder: Path, name: str) -> Iterator[int]:
    """A file that an estate in a folder names, open, by its descriptor. OSError (NotBeneathError), with what
    to do, if it may not be."""
    if not is_foreign(name):
        with beneath.opened(folder, name) as handle:
            yield handle
        return
    from justlane.files.allowed.permissions import permissions

    whole = os.path.realpath(folder / name)
    if whole not in permissions().files:
        hint = f"it lies outside the estate, and you have not allowed it: {spelt('trust', 'add', '--file', str(whole))}"
        raise NotBeneathError(1, hint)
    handle = beneath.regular(whole)
    try:
        yield handle
    finally:
        os.close(handle)


def read(folder: Path, name: str) -> bytes:
    """The content of a file that an estate names. OSError if it may not be read."""
    with opened(folder, name) as handle:
        return beneath.content_of(handle)


def path_to(folder: Path, name: str) -> str:
    """Its path, for a library that opens by path. OSError if it may not be read."""
    with opened(folder, name):
        return os.path.realpath(folder / name)


def trouble(folder: Path, name: str) -> str:
    """Why a file cannot be read; empty if it can."""
    try:
        with opened(folder, name):
            return ""
    except FileNotFoundError:
        return "there is no file of that name"
    except OSError as error:
        return error.strerror or str(error)
    except ValueError:
        return "that is no name of a file"


def digest_of(content: bytes) -> str:
    """BLAKE2b (RFC 7693), in hexadecimal."""
    return hashlib.blake2b(content, digest_size=16).hexdigest()


def digest(folder: Path, name: str, *, whole: bool = False) -> str:
    """Digest of a file's content, or, unless the `whole` is asked for, of what the system says about a large one; empty
    if it cannot be read."""
    try:
        with opened(folder, name) as handle:
            known = os.fstat(handle)
            if known.st_size > LARGE and not whole:
                return f"{known.st_size} {known.st_mtime_ns} {known.st_ctime_ns} {known.st_ino}"
            return digest_of(beneath.content_of(handle))
    except (OSError, ValueError):
        return ""
