"""Options that several commands share, and the estate that they name."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, fields
from functools import wraps
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

from justlane.cli.common.terminal import say, warn
from justlane.directories.interface import read_people
from justlane.engine.facts.index import EstateIndex
from justlane.files.reading.folder import find_root, holds_root
from justlane.jobs.opened import open_for_questions
from justlane.model.errors import UsageError
from justlane.reports.interface import FORMATS

if TYPE_CHECKING:
    from _typeshed import DataclassInstance

Command = TypeVar("Command", bound=Callable[..., object])
Given = TypeVar("Given", bound="DataclassInstance")
T = TypeVar("T")

estate_option = click.option(
    "--estate",
    "folder",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    envvar="JUSTLANE_ESTATE",
    help="The estate's folder; otherwise the current folder or one above it.",
)


def format_option(*forms: str) -> Callable[[Command], Command]:
    """`--format`, with the formats that make sense for the command; the first is what a person reads."""
    assert set(forms) <= set(FORMATS)
    return click.option(
        "--format",
        "form",
        type=click.Choice(forms),
        default=forms[0],
        show_default=True,
        help="How to write the result.",
    )


platform_option = click.option("--on", "platform", metavar="PLATFORM", help="Where several platforms have it.")

as_of_option = click.option(
    "--as-of",
    metavar="WHEN",
    help="As it was then: a day, a time or a snapshot; from snapshots, the journal and git.",
)


def top_and_name(path: Path) -> tuple[Path, Path]:
    """Where a path that the person typed starts, and its name from there: of one that leads down from here, no step is
    followed if it is a link, since an estate may have put it here."""
    down = not path.is_absolute() and ".." not in path.parts
    return (Path(), path) if down else (path.parent, Path(path.name))


def folder_of(folder: Path | None) -> Path:
    """The estate's folder, from the option or from where we are. UsageError if there is no estate."""
    if folder is None:
        try:
            return find_root(Path.cwd())
        except OSError as error:
            message = f"the current folder cannot be used: {error.strerror}"
            raise UsageError(message, "go to a folder that exists, or name one with --estate FOLDER") from error
    if not os.path.isdir(folder):
        raise UsageError(f"--estate: there is no folder {str(folder)!r}", "name the folder that holds estate.yaml")
    if not holds_root(folder):
        raise UsageError(f"--estate: {str(folder)!r} holds no estate.yaml", "name the folder that holds estate.yaml")
    return folder


def open_estate(folder: Path | None, as_of: str | None = None, *, whole: bool = False) -> EstateIndex:
    """The estate, sound and ready for questions, perhaps as it was at an earlier time; what it is from is told."""
    found = open_for_questions(folder_of(folder), read_people, as_of, whole=whole)
    for line in found.told:
        say(line)
    if found.too_old:
        warn(found.too_old)
    return found.index


@dataclass(frozen=True, kw_only=True)
class EditingOptions:
    """What every editing command is given."""

    folder: Path | None
    dry_run: bool = False
    yes: bool = False
    even_so: str = ""
    acting_as: str = ""
    form: str = "text"
    because: str = ""


def typed(kind: type[Given]) -> Callable[[Callable[..., T]], Callable[..., T]]:
    """Gather what a command is given into one value, `given`, of a declared type; what else it is given stays apart.

    A field that the command has no option for keeps its default.
    """
    names = [field.name for field in fields(kind)]

    def wrap(command: Callable[..., T]) -> Callable[..., T]:
        @wraps(command)
        def called(*args: object, **words: object) -> T:
            own = {name: words.pop(name) for name in names if name in words}
            return command(*args, given=kind(**own), **words)

        return called

    return wrap
