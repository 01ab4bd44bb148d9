"""The person's own settings: files outside every estate, believed only if nobody else may write there."""

from __future__ import annotations

import os
import stat
from pathlib import Path

from platformdirs import user_config_path

from justlane.files.disk import beneath
from justlane.files.disk.storing import make_once, write_atomically
from justlane.model.errors import StorageError

_HINT = "set HOME, or XDG_CONFIG_HOME, to a folder of your own"


def settings_folder() -> Path | None:
    """The person's own folder for settings; None where the system knows of none."""
    found = user_config_path("justlane", appauthor=False)
    return found if found.is_absolute() else None


def read_own(name: str) -> bytes | None:
    """What one of the files holds; None if there is none. StorageError if it cannot be believed."""
    folder = settings_folder()
    if folder is None:
        return None
    path = folder / name
    try:
        handle = beneath.regular(path)
    except (FileNotFoundError, NotADirectoryError):
        return None
    except OSError as error:
        raise StorageError(f"{path} cannot be read: {error.strerror}", "see who may read it") from error
    try:
        for known in (os.fstat(handle), os.stat(folder)):
            if known.st_uid != os.geteuid() or known.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
                message = f"{path} is not believed: others than you may write there"
                raise StorageError(message, f"look at it, then close it: chmod go-w {folder} {path}")
        return beneath.content_of(handle)
    finally:
        os.close(handle)


def write_own(name: str, content: bytes) -> None:
    """Replace one of the files. StorageError if that is impossible."""
    write_atomically(_made(), name, content, beneath.CLOSED)


def write_own_once(name: str, content: bytes) -> None:
    """Make one of the files, unless it is there. StorageError if that is impossible."""
    make_once(_made(), name, content)


def _made() -> Path:
    folder = settings_folder()
    if folder is None:
        raise StorageError("there is no folder for your own settings", _HINT)
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
    except OSError as error:
        raise StorageError(f"{folder} cannot be made: {error.strerror}", _HINT) from error
    return folder
