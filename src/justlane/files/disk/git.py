"""The one door to git: a repository's objects and the names of its commits, with a configuration that is given whole.

A repository is data. git is started in a folder of our own, whose configuration says nothing but how the objects are
stored, and which only points to the repository's objects and references: no program that its configuration or its
attributes name can run, nothing is fetched, nothing stands for something else.
"""

from __future__ import annotations

import os
import re
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from tempfile import TemporaryDirectory

from justlane.files.disk import beneath
from justlane.model.errors import StorageError

_DEAF = {
    "GIT_ALLOW_PROTOCOL": "none",
    "GIT_ATTR_NOSYSTEM": "1",
    "GIT_CONFIG_GLOBAL": os.devnull,
    "GIT_CONFIG_NOSYSTEM": "1",
    "GIT_LITERAL_PATHSPECS": "1",
    "GIT_NO_LAZY_FETCH": "1",
    "GIT_NO_REPLACE_OBJECTS": "1",
    "GIT_OPTIONAL_LOCKS": "0",
    "GIT_TERMINAL_PROMPT": "0",
    "LC_ALL": "C",
}
_PATIENCE_SECONDS = 120
_MOST_BYTES = 4096
"""So long a file is that says where a repository is."""
_REFERENCES = ("refs", "packed-refs", "reftable", "logs")
_HEADS = ("ORIG_HEAD", "FETCH_HEAD", "MERGE_HEAD")


class GitRepository:
    """The repository that a folder lies in."""

    def __init__(self, prefix: str, environment: dict[str, str]) -> None:
        self.prefix = prefix
        """The folder inside the repository, with a `/` at its end; empty if it is its top."""
        self._environment = environment

    def said(self, *words: str, given: bytes = b"") -> bytes | None:
        """What git says; None if it says no. StorageError if it is not there, or does not answer."""
        done = _run(["git", "--no-pager", *words], self._environment, given)
        return None if done.returncode else done.stdout


@contextmanager
def repository_of(folder: Path) -> Iterator[GitRepository | None]:
    """The repository that a folder lies in, as long as the context lasts; None if it lies in none."""
    place = folder.resolve()
    top = next((one for one in (place, *place.parents) if os.path.lexists(one / ".git")), None)
    own = None if top is None else _own_folder(top / ".git")
    if top is None or own is None:
        yield None
        return
    inside = place.relative_to(top).as_posix()
    with TemporaryDirectory(prefix="justlane-") as temporary:
        environment = _surroundings(own, Path(temporary))
        yield None if environment is None else GitRepository("" if inside == "." else f"{inside}/", environment)


def _own_folder(named: Path) -> Path | None:
    """Where a repository keeps what is its own: `.git`, or where a file of that name says."""
    if named.is_dir():
        return named
    said = re.match(r"gitdir: ?(.+?)\n*$", _text(named))
    return named.parent / said[1] if said else None


def _surroundings(own: Path, room: Path) -> dict[str, str] | None:
    """What git is started with: a folder in which nothing of the repository's configuration counts."""
    common = own / (_text(own / "commondir").strip() or ".")
    head = _head(own)
    if not head:
        return None
    (room / "objects").mkdir()
    (room / "HEAD").write_text(head, errors="surrogateescape")
    for path in (*(common / name for name in _REFERENCES), *(own / name for name in _HEADS)):
        if os.path.lexists(path):
            (room / path.name).symlink_to(path.resolve())
    if not (room / "refs").exists():
        (room / "refs").mkdir()
    kept = {key: value for key, value in os.environ.items() if not key.startswith("GIT_")}
    said = {**kept, **_DEAF}
    stored = {key: _setting(common, f"extensions.{key}", said) for key in ("objectFormat", "refStorage")}
    lines = [f"\t{key} = {value}\n" for key, value in stored.items() if value.isalnum()]
    extensions = f"[extensions]\n{''.join(lines)}" if lines else ""
    version = 1 if lines else 0
    (room / "config").write_text(f"[core]\n\trepositoryformatversion = {version}\n\tbare = true\n{extensions}")
    places = {"GIT_DIR": room, "GIT_OBJECT_DIRECTORY": (common / "objects").resolve()}
    if os.path.lexists(common / "shallow"):
        places["GIT_SHALLOW_FILE"] = (common / "shallow").resolve()
    return {**said, **{key: str(path) for key, path in places.items()}}


def _head(own: Path) -> str:
    """What the repository stands at; empty if it says nothing."""
    path = own / "HEAD"
    with suppress(OSError):
        if path.is_symlink():
            return f"ref: {os.readlink(path)}\n"
    return _text(path)


def _setting(common: Path, key: str, environment: dict[str, str]) -> str:
    """One word of a repository's configuration, read as the file that it is; empty if it does not say."""
    words = ["git", "config", "--file", str((common / "config").resolve()), "--no-includes", "--get", key]
    return _run(words, environment, b"").stdout.decode("ascii", "replace").strip()


def _text(path: Path) -> str:
    """The beginning of a small file; empty if it cannot be read."""
    try:
        handle = beneath.regular(path)
    except (OSError, ValueError):
        return ""
    try:
        return os.read(handle, _MOST_BYTES).decode("utf-8", "surrogateescape")
    finally:
        os.close(handle)


def _run(words: list[str], environment: dict[str, str], given: bytes) -> subprocess.CompletedProcess[bytes]:
    try:
        return subprocess.run(
            words, env=environment, input=given, capture_output=True, check=False, timeout=_PATIENCE_SECONDS, cwd="/"
        )
    except FileNotFoundError as error:
        raise StorageError("git is not installed", "install it, or name a folder") from error
    except (subprocess.TimeoutExpired, ValueError, OSError) as error:
        raise StorageError(f"git did not answer: {type(error).__name__}", "see what is wrong with it") from error
