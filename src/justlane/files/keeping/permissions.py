"""What the person has allowed: which secret may go where, and which files outside an estate may be read.

It is kept with the person's own settings, outside every estate, in a JSON file that only they can write.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path

import msgspec
from platformdirs import user_config_path

from justlane.files.disk import beneath
from justlane.files.disk.storing import write_atomically
from justlane.model.errors import StorageError

FILE = "permissions.json"
_HINT = "set HOME, or XDG_CONFIG_HOME, to a folder of your own"


class Use(msgspec.Struct, frozen=True, order=True):
    """A secret on its way to a service."""

    secret: str
    """`environment NAME`, `keyring NAME`, or `file PATH` with the whole path."""
    host: str
    """In lower case; of a socket its path."""
    port: int
    authority: str = ""
    """SHA-256 of the certificates that are trusted instead of the system's; empty for the system's."""
    readable: bool = False
    """Whether it is sent without encryption."""


class Permissions(msgspec.Struct, frozen=True):
    """Everything that the person has allowed."""

    secrets: tuple[Use, ...] = ()
    files: tuple[str, ...] = ()
    """Whole paths, links resolved."""
    places: tuple[str, ...] = ()
    """Whole paths of files and folders that platforms stand for, and that may be changed."""


def permissions() -> Permissions:
    """What is allowed now. StorageError if the file cannot be believed."""
    folder = _folder()
    if folder is None:
        return Permissions()
    try:
        handle = beneath.regular(folder / FILE)
    except FileNotFoundError:
        return Permissions()
    except OSError as error:
        raise StorageError(f"{folder / FILE} cannot be read: {error.strerror}", "see who may read it") from error
    try:
        for known in (os.fstat(handle), os.stat(folder)):
            if known.st_uid != os.geteuid() or known.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
                message = f"{folder / FILE} is not believed: others than you may write there"
                raise StorageError(message, f"look at it, then close it: chmod go-w {folder} {folder / FILE}")
        return msgspec.json.decode(beneath.content_of(handle), type=Permissions)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        message = f"{folder / FILE} cannot be understood: {error}"
        raise StorageError(message, "take it away; you are asked again then") from error
    finally:
        os.close(handle)


def allow(*, secret: Use | None = None, file: str | None = None, place: str | None = None) -> None:
    """Remember that something is allowed. StorageError if that cannot be kept."""
    now = permissions()
    secrets = now.secrets if secret is None else tuple(sorted({*now.secrets, secret}))
    files = now.files if file is None else tuple(sorted({*now.files, file}))
    places = now.places if place is None else tuple(sorted({*now.places, place}))
    _keep(Permissions(secrets, files, places))


def forget(*, secret: Use | None = None, file: str | None = None, place: str | None = None) -> None:
    """Allow something no more."""
    now = permissions()
    _keep(
        Permissions(
            tuple(s for s in now.secrets if s != secret),
            tuple(f for f in now.files if f != file),
            tuple(p for p in now.places if p != place),
        )
    )


def _folder() -> Path | None:
    """The person's own folder for settings; None where the system knows of none."""
    found = user_config_path("justlane", appauthor=False)
    return found if found.is_absolute() else None


def _keep(new: Permissions) -> None:
    folder = _folder()
    if folder is None:
        raise StorageError("there is no folder for your own settings", _HINT)
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise StorageError(f"{folder} cannot be made: {error.strerror}", _HINT) from error
    content = msgspec.json.format(msgspec.json.encode(new), indent=1)
    write_atomically(folder, FILE, content, beneath.CLOSED)
