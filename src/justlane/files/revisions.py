"""Estates as they stand in other folders, and in the revisions of the git repository that an estate lies in."""

from __future__ import annotations

import io
import subprocess
import tarfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from tempfile import TemporaryDirectory

from justlane.files.folder import ROOT
from justlane.model.errors import StorageError, UsageError


@contextmanager
def folder_named(text: str, estate: Path) -> Iterator[Path]:
    """A folder with the estate that a text names: a folder, its root file, or a revision of the estate's repository.

    A revision is written out for as long as the context lasts. UsageError if the text names none of them.
    """
    path = Path(text)
    if path.name == ROOT and path.is_file():
        yield path.parent
    elif (path / ROOT).is_file():
        yield path
    elif path.is_dir():
        raise UsageError(f"{text!r} holds no {ROOT}", f"name a folder that holds {ROOT}, or a revision in git")
    else:
        with TemporaryDirectory(prefix="justlane-") as temporary:
            _write_out(text, estate, Path(temporary))
            yield Path(temporary)


def _write_out(revision: str, estate: Path, target: Path) -> None:
    hint = f"name a folder that holds {ROOT}, or a revision of the git repository that the estate lies in"
    if revision.startswith("-"):
        raise UsageError(f"{revision!r} is neither a folder nor a revision", hint)
    prefix = _git(
        estate, "rev-parse", "--show-prefix", why=f"{revision!r} is no folder, and the estate is not in git", hint=hint
    )
    commit = _git(
        estate,
        "rev-parse",
        "--verify",
        "--quiet",
        f"{revision}^{{commit}}",
        why=f"{revision!r} is neither a folder nor a revision of the estate's repository",
        hint=hint,
    )
    tree = f"{commit.decode().strip()}:{prefix.decode().strip()}"
    archive = _git(
        estate,
        "archive",
        "--format=tar",
        tree,
        why=f"the estate did not exist in {revision!r}",
        hint="name a later revision",
    )
    with tarfile.open(fileobj=io.BytesIO(archive)) as content:
        content.extractall(target, filter="data")
    if not (target / ROOT).is_file():
        raise UsageError(f"the estate did not exist in {revision!r}", "name a later revision")


def _git(estate: Path, *words: str, why: str, hint: str) -> bytes:
    try:
        done = subprocess.run(["git", "-C", str(estate), *words], capture_output=True, check=False)
    except FileNotFoundError as error:
        raise StorageError("git is not installed", "install it, or name a folder") from error
    if done.returncode:
        raise UsageError(why, hint)
    return done.stdout
