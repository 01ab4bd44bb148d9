"""The person's own settings: files outside every estate, believed only if nobody else may write there."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable
from pathlib import Path

from platformdirs import user_cache_path, user_config_path

from justlane.files.disk import beneath
from justlane.files.disk.durable import make_once, write_atomically
from justlane.model.errors import StorageError

_HINT = "set HOME, or XDG_CONFIG_HOME, to a folder of your own"


def settings_folder() -> Path | None:
    """The person's own folder for settings; None where the system knows of none, as in a container without a home."""
    return _known(user_config_path)


def cache_folder() -> Path | None:
    """The same for what can be worked out again."""
    return _known(user_cache_path)


def home_folder() -> Path | None:
    """Where the person lives on this machine; None where the system knows of nowhere."""
    try:
        return Path.home()
    except RuntimeError:
        return None


def _known(folder: Callable[..., Path]) -> Path | None:
    try:
        found = folder("justlane", appauthor=False)
    except RuntimeError:  # what some versions raise, and others answer with a relative path
        return None
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
