"""`new` and `schema`: a first estate, and what an editor needs to check one."""

from __future__ import annotations

import fcntl
import os
import shutil
import tempfile
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from importlib.resources import as_file, files
from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.terminal import say, tell
from justlane.files.disk.durable import UNFINISHED
from justlane.model.errors import StorageError, UsageError
from justlane.model.shell import spelt


def copy_sample(name: str, folder: Path, prepare: Callable[[Path], None] = lambda copy: None) -> None:
    """Copy one of the estates that ship with the tool into a new folder, `prepare` it, and give it its name.

    All of it appears in one step; what a run that was killed left behind is swept away.

    UsageError if the folder is there already, StorageError if it cannot be made.
    """
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"FOLDER: {str(folder)!r} exists and is not empty", "name a folder that does not exist yet")
    try:
        folder.parent.mkdir(parents=True, exist_ok=True)
        with _unfinished(folder.parent) as copy:
            with as_file(files("justlane.demo") / name) as sample:
                shutil.copytree(sample, copy, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
            os.chmod(copy, 0o777 & ~_umask())
            prepare(copy)
            os.replace(copy, folder)
    except OSError as error:
        reason = error.strerror or str(error)
        raise StorageError(f"{folder} cannot be written: {reason}", "make room, or name another folder") from error


@contextmanager
def _unfinished(parent: Path) -> Iterator[Path]:
    """A new folder, held by a lock as long as somebody fills it; gone afterwards, unless it got a name."""
    for old in parent.glob(f"{UNFINISHED}*"):
        with suppress(OSError), _held(old):
            shutil.rmtree(old, ignore_errors=True)
    made = Path(tempfile.mkdtemp(prefix=UNFINISHED, dir=parent))
    with _held(made):
        try:
            yield made
        finally:
            shutil.rmtree(made, ignore_errors=True)


@contextmanager
def _held(folder: Path) -> Iterator[None]:
    """OSError if somebody else holds it, or it is no folder."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW)
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        yield
    finally:
        os.close(handle)


def _umask() -> int:
    """The bits that the person takes from new files and folders."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
@click.option("--grown", is_flag=True, help="Instead, the people and the export of a platform that has grown.")
def new(folder: Path, grown: bool) -> None:
    """Write a small commented estate into FOLDER, to start from.

    With --grown an estate on its first day, to see how one takes over what is there: the people of a made-up weather
    service, and the export of a work board to which everybody was let in one by one for ten years.

    \b
    Examples:
      justlane new pumphall && justlane check --estate pumphall
      justlane new tideboard --grown && justlane survey tideboard --estate tideboard
    """
    if grown:
        copy_sample("tideboard", folder)
        say(f"{folder} holds an estate on its first day: read estate.yaml first, then try")
        for words in (
            ("survey", "tideboard"),
            ("scope", "pull", "tideboard"),
            ("drift", "tideboard", "--adopt"),
            ("regroup", "tideboard"),
        ):
            tell(f"  {spelt(*words, '--estate', str(folder))}")
        return
    copy_sample("pumphall", folder)
    say(f"{folder} holds an estate: read estate.yaml first, then try")
    tell(f"  {spelt('check', '--estate', str(folder))}")
    tell(f"  {spelt('ask', '--estate', str(folder), 'ada.brook', 'repair-pump', 'pumphall/west/pump-3')}")
    tell(f"  {spelt('verify', '--estate', str(folder))}")


@click.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False), default=Path("schemas"))
@click.option("--outputs", is_flag=True, help="Of what `--format json` writes, for each command.")
def schema(folder: Path, outputs: bool) -> None:
    """Write a JSON Schema for each kind of estate file into FOLDER (./schemas unless named).

    \b
    Examples:
      justlane schema schemas
      justlane schema --outputs schemas/outputs
    Then point your editor's YAML support at them: estate.schema.json for estate.yaml, and so on.
    """
    import json

    from justlane.files.disk.durable import write_atomically
    from justlane.files.reading.schema import schemas
    from justlane.reports.outputs.table import schemas as output_schemas

    for name, content in (output_schemas() if outputs else schemas()).items():
        top, place = options.top_and_name(folder / name)
        write_atomically(top, place, (json.dumps(content, indent=2) + "\n").encode())
        tell(str(folder / name))
