"""Estates as they stand in other folders, and in the revisions of the git repository that an estate lies in.

A revision is read object by object, exactly as it was committed. A repository is data: nothing in it runs, nothing is
fetched (`disk.git`), and links are written down as links, which nobody follows.
"""

from __future__ import annotations

import os
import re
import stat
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

from justlane.files.disk.beneath import open_folder, parts_of
from justlane.files.disk.durable import write_atomically
from justlane.files.disk.git import GitRepository, repository_of
from justlane.files.reading.folder import ROOT, holds_root, included_among
from justlane.model.errors import StorageError, UsageError


@contextmanager
def folder_named(text: str, estate: Path) -> Iterator[Path]:
    """A folder with the estate that a text names: a folder, its root file, or a revision of the estate's repository.

    A revision is written out for as long as the context lasts. UsageError if the text names none of them.
    """
    path = Path(text)
    if path.name == ROOT and os.path.isfile(path):
        yield path.parent
    elif holds_root(path):
        yield path
    elif os.path.isdir(path):
        raise UsageError(f"{text!r} holds no {ROOT}", f"name a folder that holds {ROOT}, or a revision in git")
    else:
        with TemporaryDirectory(prefix="justlane-") as temporary:
            folder = Path(temporary) / "estate"
            folder.mkdir()
            written_out(text, estate, folder)
            yield folder


class Commit(NamedTuple):
    """A commit of the repository that an estate lies in."""

    id: str
    time: datetime
    """When it was committed, in UTC."""


def commit_before(estate: Path, moment: datetime) -> Commit | None:
    """The last commit of the current branch at a time or before; None if there is none, or no repository."""
    words = ("rev-list", "-1", "--first-parent", f"--before={int(moment.timestamp())}", "--format=%ct", "HEAD")
    try:
        with repository_of(estate) as repository:
            told = repository.said(*words) if repository else None
            lines = (told or b"").decode("ascii", "replace").split()
            if repository is None or len(lines) != 3:
                return None
            if repository.said("cat-file", "-e", f"{lines[1]}:{repository.prefix}{ROOT}") is None:
                return None
            return Commit(lines[1], datetime.fromtimestamp(int(lines[2]), UTC))
    except StorageError:
        return None


def commits(estate: Path, most: int) -> list[Commit]:
    """The last commits of the current branch that touched the estate, the newest first; none where there is no
    repository."""
    words = ("rev-list", f"-{most}", "--first-parent", "--format=%ct", "HEAD", "--")
    try:
        with repository_of(estate) as repository:
            told = repository.said(*words, *filter(None, (repository.prefix,))) if repository else None
    except StorageError:
        return []
    found = (told or b"").decode("ascii", "replace").split()  # `commit`, its name and its time, again and again
    return [
        Commit(name, datetime.fromtimestamp(int(time), UTC))
        for name, time in zip(found[1::3], found[2::3], strict=False)
    ]


def written_out(commit: str, estate: Path, target: Path) -> None:
    """Write the estate's files of a commit into a folder. UsageError if there is no such commit."""
    hint = f"name a folder that holds {ROOT}, or a revision of the git repository that the estate lies in"
    if commit.startswith("-") or "\0" in commit:
        raise UsageError(f"{commit!r} is neither a folder nor a revision", hint)
    with repository_of(estate) as repository:
        if repository is None:
            raise UsageError(f"{commit!r} is no folder, and the estate is not in git", hint)
        found = repository.said("rev-parse", "--verify", "--quiet", f"{commit}^{{commit}}")
        if found is None:
            raise UsageError(f"{commit!r} is neither a folder nor a revision of the estate's repository", hint)
        _write_out(_Revision(commit, repository, found.decode("ascii").strip()), target)


class _Blob(NamedTuple):
    mode: int
    id: str


def _write_out(revision: _Revision, target: Path) -> None:
    """Write those files of a revision that belong to the estate: the root file, then what it names."""
    from justlane.files.reading.estate_files import read_root

    blobs = revision.blobs()
    if ROOT not in blobs:
        raise UsageError(f"the estate did not exist in {revision.name!r}", "name a later revision")
    revision.write({ROOT: blobs[ROOT]}, target)
    root = read_root(target)
    if root is not None:
        wanted = {name for pattern in root.include for name in included_among(blobs, pattern)}
        wanted |= {file for shape in root.directories.values() for _, file in shape.files}
        revision.write({name: blobs[name] for name in wanted & blobs.keys() - {ROOT}}, target)


class _Revision:
    """One revision of a repository."""

    def __init__(self, name: str, repository: GitRepository, commit: str) -> None:
        self.name = name
        self._repository = repository
        self._tree = f"{commit}:{repository.prefix.rstrip('/')}"

    def blobs(self) -> dict[str, _Blob]:
        """Every file and link beneath the estate's folder, by name."""
        listed = self._repository.said("ls-tree", "-r", "-z", "--full-tree", self._tree)
        found: dict[str, _Blob] = {}
        for line in (listed or b"").split(b"\0"):
            told, _, name = line.partition(b"\t")
            mode, _, rest = told.decode("ascii", "replace").partition(" ")
            if rest.startswith("blob "):
                found[os.fsdecode(name)] = _Blob(int(mode, 8), rest.removeprefix("blob "))
        return found

    def write(self, blobs: Mapping[str, _Blob], target: Path) -> None:
        """Write files and links beneath a folder. UsageError for a name that would lie outside."""
        found = self._contents({blob.id for blob in blobs.values()})
        try:
            for name, blob in blobs.items():
                if stat.S_ISLNK(blob.mode):
                    _link(target, name, found[blob.id])
                else:
                    write_atomically(target, name, found[blob.id])
        except (OSError, ValueError, StorageError) as error:
            reason = getattr(error, "message", str(error))
            raise UsageError(f"{self.name!r} cannot be written out: {reason}", "see whether it is damaged") from error

    def _contents(self, ids: set[str]) -> dict[str, bytes]:
        """The content of some objects. StorageError if one is missing, as in a repository that holds only a part."""
        listed = sorted(ids)
        given = "".join(f"{one}\n" for one in listed).encode()
        told = self._repository.said("cat-file", "--batch", given=given) or b""
        found: dict[str, bytes] = {}
        for one in listed:
            head, _, told = told.partition(b"\n")
            words = head.split(b" ")
            if len(words) != 3 or words[1] != b"blob":
                message = f"a part of the estate in {self.name!r} is not in the repository"
                raise StorageError(message, "fetch it with git, then again: nothing is fetched from here")
            size = int(words[2])
            found[one], told = told[:size], told[size + 1 :]
        return found


def _link(target: Path, name: str, content: bytes) -> None:
    """A link as it was committed: data, which nobody follows."""
    *folders, last = parts_of(name)
    with open_folder(target, tuple(folders), make=0o700) as folder, suppress(FileExistsError):
        os.symlink(content, last.encode("utf-8", "surrogateescape"), dir_fd=folder)


class Touched(NamedTuple):
    """When a line of a file was changed last."""

    day: str
    """YYYY-MM-DD, UTC."""
    author: str
    commit: str


def line_authors(estate: Path, file: str) -> dict[int, Touched]:
    """Line of a file, as it was committed last -> when, and by whom; nothing where no repository knows it.

    Only objects are looked at: no filter and no program of the repository's configuration runs.
    """
    try:
        with repository_of(estate) as repository:
            words = ("blame", "--no-textconv", "--line-porcelain", "HEAD", "--")
            told = repository.said(*words, f"{repository.prefix}{file}") if repository else None
    except StorageError:
        return {}
    found: dict[int, Touched] = {}
    commit, number, author, day = "", 0, "", ""
    for row in (told or b"").decode("utf-8", "replace").split("\n"):
        if re.match(r"^[0-9a-f]{40,64} \d+ \d+", row):
            commit, _, number = row.split()[0], *map(int, row.split()[1:3])
        elif row.startswith("author "):
            author = row.removeprefix("author ")
        elif row.startswith("author-time "):
            moment = int(row.removeprefix("author-time "))
            day = f"{datetime.fromtimestamp(min(max(moment, 0), 32_503_680_000), UTC):%Y-%m-%d}"
        elif row.startswith("\t"):
            found[number] = Touched(day, author, commit[:10])
    return found


def committed_file(estate: Path, file: str) -> bytes | None:
    """A file as it was committed last; None if it was not."""
    try:
        with repository_of(estate) as repository:
            return repository.said("cat-file", "blob", f"HEAD:{repository.prefix}{file}") if repository else None
    except StorageError:
        return None
