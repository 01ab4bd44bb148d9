"""Opening what lies beneath a folder: never through a link, and only regular files.

The folder is named by the person and may be reached in any way; the name inside it comes from the estate, and so from a
stranger. Every step goes from one open folder to the next, so that nothing can be put in between.
"""

from __future__ import annotations

import errno
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath

from justlane.model.interruption import held

_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_FILE = os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC | os.O_NOCTTY
CLOSED, COMMON = 0o600, 0o644
"""Modes of files: for their owner alone, and for whoever the umask lets read."""


class NotBeneathError(OSError):
    """A name leads out of the folder, through a link, or to something that is no file."""


def _refused(what: str) -> NotBeneathError:
    return NotBeneathError(errno.EPERM, what)


def parts_of(name: str | Path) -> tuple[str, ...]:
    """The steps of a name inside a folder. NotBeneathError if it leads out."""
    path = PurePosixPath(name)
    if path.is_absolute() or ".." in path.parts or not path.parts or "\0" in str(name):
        raise _refused("it does not lie inside the estate's folder")
    return path.parts


@contextmanager
def open_folder(top: Path, parts: tuple[str, ...] = (), *, make: int | None = None) -> Iterator[int]:
    """A folder beneath `top`, open, by its descriptor. With `make`, missing ones are made with this mode.

    OSError if it is not there, NotBeneathError if a step is a link.
    """
    with held():  # cut between closing one and naming the next, the first would be closed twice
        handle = _descended(top, parts, make)
    try:
        yield handle
    finally:
        os.close(handle)


def _descended(top: Path, parts: tuple[str, ...], make: int | None) -> int:
    handle = os.open(top, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    for part in parts:
        try:
            inner = _step(handle, part, make)
        finally:
            os.close(handle)
        handle = inner
    return handle


def _step(handle: int, part: str, make: int | None) -> int:
    if make is not None:
        with suppress(FileExistsError):
            os.mkdir(part, make, dir_fd=handle)
    try:
        return os.open(part, _FOLDER, dir_fd=handle)
    except OSError as error:
        raise _named(error, handle, part) from error


def _named(error: OSError, handle: int, part: str) -> OSError:
    """The error, or a better one where a link was in the way."""
    try:
        mode = os.stat(part, dir_fd=handle, follow_symlinks=False).st_mode
    except OSError:
        return error
    if stat.S_ISLNK(mode):
        return _refused(f"{part} is a link, and links are not followed")
    return error


@contextmanager
def opened(top: Path, name: str | Path, flags: int = os.O_RDONLY, mode: int = CLOSED) -> Iterator[int]:
    """A regular file beneath `top`, open, by its descriptor.

    OSError if that is impossible, NotBeneathError if it is a link, a pipe, a device or a folder.
    """
    *folders, last = parts_of(name)
    with open_folder(top, tuple(folders)) as folder:
        handle = regular(last, flags, mode, folder)
        try:
            yield handle
        finally:
            os.close(handle)


def regular(name: str | Path, flags: int = os.O_RDONLY, mode: int = CLOSED, folder: int | None = None) -> int:
    """Open a regular file, itself no link; the folders on the way are the caller's business."""
    try:
        handle = os.open(name, flags | _FILE, mode, dir_fd=folder)
    except OSError as error:
        if folder is None:
            raise
        raise _named(error, folder, str(name)) from error
    kind = os.fstat(handle).st_mode
    if not stat.S_ISREG(kind):
        os.close(handle)
        raise _refused("it is a folder, a pipe or a device, expected a file")
    return handle


def read(top: Path, name: str | Path) -> bytes:
    """The content of a regular file beneath `top`."""
    with opened(top, name) as handle:
        return content_of(handle)


def read_typed(path: Path, most: int) -> bytes:
    """What a file that the person named holds, at most so many bytes and one more. OSError if it cannot be read."""
    handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    with os.fdopen(handle, "rb") as file:
        return file.read(most + 1)


def content_of(handle: int) -> bytes:
    """All that an open file holds."""
    with os.fdopen(os.dup(handle), "rb") as file:
        return file.read()


def is_file(top: Path, name: str | Path) -> bool:
    """Whether there is a regular file of that name beneath `top`, reached without a link."""
    try:
        with opened(top, name):
            return True
    except (OSError, ValueError):
        return False


def path_to(top: Path, name: str | Path) -> Path:
    """The path of a regular file beneath `top`, for a library that opens by path. OSError if there is none."""
    with opened(top, name):
        return top.joinpath(*parts_of(name))
