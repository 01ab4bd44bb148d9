"""`new` and `schema`: a first estate, and what an editor needs to check one."""

from __future__ import annotations

import shutil
from importlib.resources import as_file, files
from pathlib import Path

import click

from justlane.cli.terminal import say
from justlane.model.errors import StorageError, UsageError


def copy_sample(name: str, folder: Path) -> None:
    """Copy one of the estates that ship with the tool into a new folder."""
    if folder.exists() and (not folder.is_dir() or any(folder.iterdir())):
        raise UsageError(f"FOLDER: {str(folder)!r} exists and is not empty", "name a folder that does not exist yet")
    try:
        with as_file(files("justlane.demo") / name) as sample:
            shutil.copytree(sample, folder, dirs_exist_ok=True, ignore=shutil.ignore_patterns("__pycache__"))
    except OSError as error:
        raise StorageError(f"{folder} cannot be written: {error.strerror}") from error


@click.command()
@click.argument("folder", type=click.Path(path_type=Path))
def new(folder: Path) -> None:
    """Write a small commented estate into FOLDER, to start from.

    \b
    Example:
      justlane new pumphall && justlane check --estate pumphall
    """
    copy_sample("pumphall", folder)
    say(f"{folder} holds an estate: read estate.yaml first, then try")
    click.echo(f"  justlane check --estate {folder}")
    click.echo(f"  justlane ask --estate {folder} ada.brook repair-pump pumphall/west/pump-3")
    click.echo(f"  justlane verify --estate {folder}")


@click.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False), default=Path("schemas"))
def schema(folder: Path) -> None:
    """Write a JSON Schema for each kind of estate file into FOLDER (./schemas unless named).

    \b
    Example:
      justlane schema schemas
    Then point your editor's YAML support at them: estate.schema.json for estate.yaml, and so on.
    """
    import json

    from justlane.files.schema import schemas
    from justlane.files.storing import write_atomically

    for name, content in schemas().items():
        write_atomically(folder / name, (json.dumps(content, indent=2) + "\n").encode())
        click.echo(str(folder / name))
