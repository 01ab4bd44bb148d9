"""An estate's folder: where it is, and which files its root file includes. Kept free of heavy imports."""

from __future__ import annotations

import os
import stat
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path, PurePosixPath
from typing import Protocol

from justlane.files.disk.beneath import open_folder
from justlane.model.errors import UsageError
from justlane.model.patterns import ANY, is_like

Steps = tuple[str, ...]
"""The names that lead from one folder to another."""

ROOT = "estate.yaml"
_ANY_DEPTH = "**"
_MOST_NAMES = 200_000
"""So many names are looked at for one line of `include`."""
_MOST_STEPS = 60
"""So many steps a line of `include` may have."""


def find_root(start: Path) -> Path:
    """The folder of the estate that `start` lies in. UsageError if there is none."""
    for folder in (start, *start.parents):
        if holds_root(folder):
            return folder
    raise UsageError(
        f"there is no {ROOT} in {start} or above it",
        "go to an estate's folder, name one with --estate FOLDER, or make one with `justlane new FOLDER`",
    )


def holds_root(folder: Path) -> bool:
    """Whether a folder has a root file; what is wrong with it is said when it is read."""
    try:
        return os.path.lexists(folder / ROOT)
    except ValueError:
        return False


def files_included(folder: Path, pattern: str) -> list[str]:
    """What one line of `include` stands for, relative to the folder, in the order of the names.

    Nothing outside the folder is included. A link in the way, or at the end of it, is among the names, so that reading
    it says so. `*` stands for any run of characters in a name, `**` as a whole step for any folders; names that begin
    with a dot are meant only where the pattern has the dot.
    """
    return sorted(_Walk(_Disk(folder)).matches(_steps_of(pattern)))


def included_among(files: Mapping[str, _File], pattern: str) -> list[str]:
    """The same among files that lie elsewhere, by name, as in a revision."""
    return sorted(_Walk(_Listed(files)).matches(_steps_of(pattern)))


def _steps_of(pattern: str) -> Steps:
    """The steps of a pattern; none if it leads out of the folder, or is none at all."""
    path = PurePosixPath(pattern)
    if path.is_absolute() or ".." in path.parts or "\0" in pattern or len(path.parts) > _MOST_STEPS:
        return ()
    return path.parts


class _File(Protocol):
    @property
    def mode(self) -> int:
        """What it is, as the system says it."""


class _Names(Protocol):
    """Where names can be looked up."""

    def all(self, here: Steps) -> Iterable[tuple[str, int]]:
        """What lies in a folder, each with its kind."""

    def one(self, here: Steps, name: str) -> Iterable[tuple[str, int]]:
        """What has a name in a folder, if anything does."""


class _Disk:
    """A folder on the disk."""

    def __init__(self, top: Path) -> None:
        self._top = top

    def all(self, here: Steps) -> Iterable[tuple[str, int]]:
        """What lies in a folder, each with its kind."""
        with suppress(OSError, ValueError), open_folder(self._top, here) as handle:
            for name in os.listdir(handle):
                yield from _kind(name, handle)

    def one(self, here: Steps, name: str) -> Iterable[tuple[str, int]]:
        """What has a name in a folder, if anything does."""
        with suppress(OSError, ValueError), open_folder(self._top, here) as handle:
            yield from _kind(name, handle)


class _Listed:
    """A list of names."""

    def __init__(self, files: Mapping[str, _File]) -> None:
        self._inside: dict[Steps, dict[str, int]] = {}
        for name, file in files.items():
            steps = tuple(name.split("/"))
            self._inside.setdefault(steps[:-1], {})[steps[-1]] = file.mode
            for end in range(1, len(steps)):
                self._inside.setdefault(steps[: end - 1], {}).setdefault(steps[end - 1], stat.S_IFDIR)

    def all(self, here: Steps) -> Iterable[tuple[str, int]]:
        """What lies in a folder, each with its kind."""
        return self._inside.get(here, {}).items()

    def one(self, here: Steps, name: str) -> Iterable[tuple[str, int]]:
        """What has a name in a folder, if anything does."""
        found = self._inside.get(here, {})
        return [(name, found[name])] if name in found else []


class _Walk:
    """Looks for the names that a pattern matches."""

    def __init__(self, names: _Names) -> None:
        self._names = names
        self._seen = 0

    def matches(self, pattern: Steps) -> set[str]:
        found: set[str] = set()
        waiting: set[tuple[Steps, Steps]] = {((), pattern)} if pattern else set()
        done = set(waiting)
        while waiting:
            here, left = waiting.pop()
            for names, rest, mode in self._steps(here, left):
                if stat.S_ISLNK(mode) or (not rest and not stat.S_ISDIR(mode)):
                    found.add("/".join(names))
                elif rest and stat.S_ISDIR(mode) and (names, rest) not in done:
                    done.add((names, rest))
                    waiting.add((names, rest))
        return found

    def _steps(self, here: Steps, left: Steps) -> Iterator[tuple[Steps, Steps, int]]:
        """What lies in a folder and fits the next step of a pattern, with the steps that are left, and its kind."""
        step, rest = left[0], left[1:]
        for name, mode in self._inside(here, step):
            if step == _ANY_DEPTH:
                if stat.S_ISDIR(mode) or (stat.S_ISLNK(mode) and rest):
                    yield (*here, name), left, mode
            elif is_like(step, name):
                yield (*here, name), rest, mode
        if step == _ANY_DEPTH and rest:
            yield from self._steps(here, rest)

    def _inside(self, here: Steps, step: str) -> Iterator[tuple[str, int]]:
        """The names in a folder that a step may mean, each with its kind; a file's own name needs no look around."""
        for name, mode in self._names.all(here) if ANY in step else self._names.one(here, step):
            self._seen += 1
            if self._seen > _MOST_NAMES:
                message = f"a line of `include` goes over more than {_MOST_NAMES:,} files"
                raise UsageError(message, "name the folders in which the estate's files are")
            if step.startswith(".") or not name.startswith("."):
                yield name, mode


def _kind(name: str, handle: int) -> Iterator[tuple[str, int]]:
    """A name with the mode of what has it in an open folder; nothing if nothing has it."""
    with suppress(OSError):
        yield name, os.stat(name, dir_fd=handle, follow_symlinks=False).st_mode
