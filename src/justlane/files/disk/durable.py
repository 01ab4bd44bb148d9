"""Writing files so that a reader, or a power cut, sees the old one or the new one and nothing between.

What is written under a name of an estate goes through `beneath`: never through a link. Unfinished files are held by a
lock while somebody writes them; those that nobody holds are swept away by the next who writes there.
"""

from __future__ import annotations

import errno
import fcntl
import os
import pwd
import stat
from collections.abc import Callable, Iterator, Mapping
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from justlane.files.disk import beneath
from justlane.files.disk.beneath import CLOSED, COMMON, content_of, open_folder, parts_of
from justlane.model.errors import StorageError
from justlane.model.interruption import held
from justlane.model.secrecy import bytes_without_secrets

_BLOCK = 1 << 16
"""Bytes that are read at a time, from the end."""
UNFINISHED = ".justlane-unfinished."
"""How the names of files begin that are not complete yet."""


def _told(path: Path, error: OSError) -> StorageError:
    reason = error.strerror or str(error)
    return StorageError(f"{path} cannot be written: {reason}", "make room, or see who may write there")


def write_atomically(top: Path, name: str | Path, content: bytes, mode: int = COMMON) -> None:
    """Replace a file beneath `top` in one step, with its folders made. StorageError if that is impossible.

    A file that is there keeps its owner, group, mode and extended attributes; where `mode` is `CLOSED`, nobody else may
    read it afterwards, whatever it was. A new one of `COMMON` has what the umask leaves. `top` is made too if it is
    missing.
    """
    try:
        *folders, last = parts_of(name)
        top.mkdir(mode=_folder_mode(mode), parents=True, exist_ok=True)
        make = _folder_mode(mode)
        with held(), open_folder(top, tuple(folders), make=make) as folder, unfinished(folder, mode) as written:
            with os.fdopen(os.dup(written.handle), "wb") as file:
                file.write(bytes_without_secrets(content))
                file.flush()
                with suppress(FileNotFoundError, beneath.NotBeneathError):  # whatever else is there makes room
                    written.become(last, closed=mode == CLOSED)
                os.fsync(file.fileno())
            written.replace(last)
    except OSError as error:
        raise _told(top / name, error) from error


@contextmanager
def replacing(top: Path, contents: Mapping[str, bytes]) -> Iterator[Callable[[], None]]:
    """New contents for files beneath `top` that are there already, written aside with the mode of each; they stand when
    the function that is yielded is called. StorageError if that is impossible; then all is as it was.
    """
    ready: list[tuple[Unfinished, str]] = []
    with ExitStack() as open_ones:
        for name, content in contents.items():
            try:
                ready.append(open_ones.enter_context(_aside(top, name, content)))
            except OSError as error:
                raise _told(top / name, error) from error

        def stand() -> None:
            with held():
                for written, last in ready:
                    try:
                        written.replace(last)
                    except OSError as error:
                        raise _told(top / last, error) from error

        yield stand


@contextmanager
def _aside(top: Path, name: str, content: bytes) -> Iterator[tuple[Unfinished, str]]:
    *folders, last = parts_of(name)
    with open_folder(top, tuple(folders)) as folder:
        if not os.stat(last, dir_fd=folder, follow_symlinks=False).st_mode & 0o222:
            raise PermissionError(errno.EACCES, "it is read-only")
        with unfinished(folder, CLOSED) as written:
            with os.fdopen(os.dup(written.handle), "wb") as file:
                file.write(bytes_without_secrets(content))
                file.flush()
                written.become(last)
                os.fsync(file.fileno())
            yield written, last


def write_secret(top: Path, name: str | Path, secret: str) -> None:
    """Write a secret into a file of its own, which only its owner can read. StorageError if that is impossible."""
    try:
        *folders, last = parts_of(name)
        with held(), open_folder(top, tuple(folders), make=0o700) as folder, unfinished(folder, CLOSED) as written:
            os.write(written.handle, secret.encode() + b"\n")
            os.fsync(written.handle)
            written.replace(last)
    except OSError as error:
        raise _told(top / name, error) from error


def make_once(top: Path, name: str, content: bytes) -> None:
    """Make a file that is closed to others, unless there is one of that name. StorageError if that is impossible."""
    try:
        with held(), open_folder(top) as folder, unfinished(folder, CLOSED) as written:
            os.write(written.handle, content)
            os.fsync(written.handle)
            with suppress(FileExistsError):
                written.take(name)
    except OSError as error:
        raise _told(top / name, error) from error


def _folder_mode(mode: int) -> int:
    return 0o700 if mode == CLOSED else 0o755


class Unfinished:
    """A file without its name yet, in an open folder."""

    def __init__(self, folder: int, handle: int, name: str) -> None:
        self.folder, self.handle, self.name = folder, handle, name

    def become(self, name: str, *, closed: bool = False) -> None:
        """Take on who owns a file that is there, its mode and extended attributes (its access control list is one).

        FileNotFoundError if there is none, NotBeneathError if it is no regular file, OSError if that is impossible.
        """
        with os.fdopen(beneath.regular(name, os.O_RDONLY, folder=self.folder), "rb") as there:
            known_by = there.fileno()
            known, own = os.fstat(known_by), os.fstat(self.handle)
            if (known.st_uid, known.st_gid) != (own.st_uid, own.st_gid):
                self._owned_like(known)
            os.fchmod(self.handle, CLOSED if closed else stat.S_IMODE(known.st_mode))
            for attribute in () if closed else _attributes(known_by):
                os.setxattr(self.handle, attribute, os.getxattr(known_by, attribute))

    def _owned_like(self, known: os.stat_result) -> None:
        """Its owner's and its group's; where only its owner could stay, whoever had it must be able to use it still."""
        try:
            os.fchown(self.handle, known.st_uid, known.st_gid)
        except PermissionError as error:
            owners, groups = known.st_mode >> 6 & 7, known.st_mode >> 3 & 7
            if owners & ~groups & ~(known.st_mode & 7):
                message = f"it would be taken from its owner, {_called(known.st_uid)}, who could not use it any more"
                raise PermissionError(errno.EPERM, message) from error
            os.fchown(self.handle, -1, known.st_gid)

    def replace(self, name: str) -> None:
        """Let it have a name, whoever had it before."""
        os.replace(self.name, name, src_dir_fd=self.folder, dst_dir_fd=self.folder)
        os.fsync(self.folder)

    def take(self, name: str) -> None:
        """Let it have a name that nobody has. FileExistsError if somebody does."""
        try:
            os.link(self.name, name, src_dir_fd=self.folder, dst_dir_fd=self.folder, follow_symlinks=False)
        except FileExistsError:
            raise
        except OSError:  # a file system without hard links
            self.replace(name)
        else:
            os.fsync(self.folder)


def _attributes(handle: int) -> list[str]:
    """The extended attributes that a file has and a copy can have: not those that the system itself looks after."""
    with suppress(OSError, AttributeError):  # a file system, or a system, without any
        return [name for name in os.listxattr(handle) if not name.startswith(("security.", "trusted."))]
    return []


def _called(number: int) -> str:
    try:
        return pwd.getpwuid(number).pw_name
    except KeyError:
        return f"user {number}"


@contextmanager
def unfinished(folder: int, mode: int) -> Iterator[Unfinished]:
    """A new file in an open folder, held by a lock; it is gone afterwards unless it got a name."""
    sweep(folder)
    written = _made(folder, mode)
    try:
        yield written
    finally:
        with suppress(FileNotFoundError):
            os.unlink(written.name, dir_fd=folder)
        os.close(written.handle)


def _made(folder: int, mode: int) -> Unfinished:
    while True:
        name = f"{UNFINISHED}{os.urandom(8).hex()}"
        handle = os.open(name, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, mode, dir_fd=folder)
        fcntl.flock(handle, fcntl.LOCK_EX)
        if os.fstat(handle).st_nlink:  # nobody swept it away before it was held
            if mode == CLOSED:
                os.fchmod(handle, CLOSED)
            return Unfinished(folder, handle, name)
        os.close(handle)


def sweep(folder: int) -> None:
    """Take away what somebody who was killed had begun to write."""
    for name in os.listdir(folder):
        if name.startswith(UNFINISHED):
            with suppress(OSError):
                handle = beneath.regular(name, folder=folder)
                try:
                    fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                    os.unlink(name, dir_fd=folder)
                finally:
                    os.close(handle)


def append_durably(top: Path, name: str | Path, line: bytes) -> None:
    """Add one line to the end of a file beneath `top`, closed to others, and wait until the disk has it.

    A line before it that was cut short, by a full disk or a power cut, is closed first. StorageError if that is
    impossible.
    """
    try:
        *folders, last = parts_of(name)
        with held(), open_folder(top, tuple(folders), make=0o700) as folder:
            handle = beneath.regular(last, os.O_RDWR | os.O_CREAT | os.O_APPEND, CLOSED, folder)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX)
                os.fchmod(handle, CLOSED)
                _append(handle, bytes_without_secrets(line).rstrip(b"\n") + b"\n")
                os.fsync(handle)
                os.fsync(folder)
            finally:
                os.close(handle)
    except OSError as error:
        raise _told(top / name, error) from error


def _append(handle: int, line: bytes) -> None:
    """All of it, or nothing."""
    size = os.fstat(handle).st_size
    if size and os.pread(handle, 1, size - 1) != b"\n":
        line = b"\n" + line
    try:
        while line:
            line = line[os.write(handle, line) :]
    except OSError:
        with suppress(OSError):
            os.ftruncate(handle, size)
        raise


def lines_backwards(top: Path, name: str | Path) -> Iterator[bytes]:
    """The lines of a file beneath `top` from the last to the first, without their ends and without empty ones; none if
    there is no file. No more is read than is asked for. StorageError if it cannot be read."""
    try:
        with beneath.opened(top, name) as handle:
            at, ends = os.fstat(handle).st_size, [b""]  # of a line whose beginning stands in a block before
            while at:
                start = max(at - _BLOCK, 0)
                first, *lines = os.pread(handle, at - start, start).split(b"\n")
                if lines:
                    lines[-1] += b"".join(reversed(ends))
                    yield from filter(None, reversed(lines))
                    ends = []
                ends.append(first)
                at = start
            yield from filter(None, (b"".join(reversed(ends)),))
    except FileNotFoundError:
        return
    except OSError as error:
        raise StorageError(f"{top / name} cannot be read: {error.strerror}", "see who may read it") from error


def lines_of(top: Path, name: str | Path) -> list[bytes]:
    """The lines of a file beneath `top`; none if there is no file. StorageError if it cannot be read."""
    try:
        with beneath.opened(top, name) as handle:
            return content_of(handle).split(b"\n")
    except FileNotFoundError:
        return []
    except OSError as error:
        raise StorageError(f"{top / name} cannot be read: {error.strerror}", "see who may read it") from error
