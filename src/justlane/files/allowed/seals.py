"""Seals: what this person wrote down in this folder, told apart from what came into it from somebody else.

A journal, a reading, a probe under way are files of an estate, and so data, whoever wrote them. Each of their lines is
closed with a seal, made with a key that is kept in the person's own settings (HMAC with SHA-256, RFC 2104) over the
line, what it is for and the folder in which it was written. Nothing that has no seal of one's own is ever carried out.
"""

from __future__ import annotations

import hashlib
import hmac
import os
import re
import secrets
from contextlib import suppress
from functools import cache
from pathlib import Path

from justlane.files.allowed.own_settings import read_own, settings_folder, write_own_once
from justlane.files.disk.beneath import read as read_beneath
from justlane.model.errors import StorageError
from justlane.model.secrecy import bytes_without_secrets

_FILE = "seal.key"
_BYTES = 32
_CLOSED = re.compile(rb'^(?P<line>\{.*),"seal":"(?P<seal>[0-9a-f]{64})"\}$', re.DOTALL)


def sealed(folder: Path, purpose: str, line: bytes) -> bytes:
    """A JSON object on a line, closed with the person's seal; as it is where they have no settings of their own.

    Secrets in force are taken out first, so that what is sealed is what is written. `purpose` says what the line is
    for: a seal for one purpose is none for another.
    """
    clean = bytes_without_secrets(line).rstrip(b"\n")
    key = _key(make=True)
    return clean if key is None else clean[:-1] + b',"seal":"' + _seal(key, folder, purpose, clean) + b'"}'


def can_seal() -> bool:
    """Whether the person has a key, so that what was written down is known as theirs."""
    return _key(make=False) is not None


def is_own(folder: Path, purpose: str, line: bytes) -> bool:
    """Whether a line was sealed by this person, in this folder, for this purpose, and not changed since."""
    found = _CLOSED.match(line.rstrip(b"\n"))
    key = _key(make=False)
    if found is None or key is None:
        return False
    return hmac.compare_digest(_seal(key, folder, purpose, found["line"] + b"}"), found["seal"])


def _seal(key: bytes, folder: Path, purpose: str, line: bytes) -> bytes:
    # the folder is a part of it: a journal that somebody copied elsewhere is not one's own there
    said = b"\0".join((os.fsencode(os.path.realpath(folder)), purpose.encode(), line))
    return hmac.new(key, said, hashlib.sha256).hexdigest().encode()


def _key(*, make: bool) -> bytes | None:
    """The person's key, made the first time; None if they have none. StorageError if it cannot be believed."""
    folder = settings_folder()
    return None if folder is None else _kept_key(folder) or (_made_key(folder) if make else None)


def _made_key(folder: Path) -> bytes | None:
    with suppress(StorageError):  # somebody without a home can work all the same, and undoes by hand
        write_own_once(_FILE, secrets.token_hex(_BYTES).encode() + b"\n")
    _kept_key.cache_clear()
    return _kept_key(folder)


@cache
def _kept_key(folder: Path) -> bytes | None:
    del folder  # what it is kept under
    content = read_own(_FILE)
    if content is None:
        return None
    key = content.strip()
    if len(key) != 2 * _BYTES:
        hint = "take it away; a new one is made, and what was sealed with this one is not yours any more"
        raise StorageError(f"{settings_folder()}/{_FILE} holds no key", hint)
    return key


def read_sealed(folder: Path, purpose: str, name: str) -> bytes | None:
    """A file of one sealed line beneath a folder; None if it is not this person's. OSError if it cannot be read."""
    line = read_beneath(folder, name)
    return line if is_own(folder, purpose, line) else None
