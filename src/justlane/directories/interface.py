"""What every source of people offers, and the table of those there are."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple, Protocol, cast

from justlane.model.progress import Progress

if TYPE_CHECKING:
    from justlane.files.people.intake import Intake
    from justlane.files.reading.directory_shapes import DirectoryShape
    from justlane.outside.secrets import Permit


class Surroundings(NamedTuple):
    """Where a source is read."""

    folder: Path
    """The estate's: files and secrets are relative to it."""
    progress: Progress
    permit: Permit
    """Asks the person whether a secret may go where the estate says."""


class DirectorySource(Protocol):
    """Reads users and groups from one place."""

    has_lines: bool
    """Whether it is a text with lines, rather than something that is asked."""

    def read(self, shape: DirectoryShape, intake: Intake, around: Surroundings) -> None:
        """Read everything. What is wrong in a file becomes a finding of the intake, an OutsideError says what else
        failed: after either, the reading is not complete."""


SOURCES = {
    "ldif": "justlane.directories.ldif",
    "csv": "justlane.directories.table_pair",
    "ldap": "justlane.directories.ldap",
    "scim": "justlane.directories.scim",
}
"""Kind of source -> the module whose `source` it is; imported when it is used."""


def read_people(
    name: str,
    shape: DirectoryShape,
    folder: Path,
    progress: Progress | None = None,
    permit: Permit | None = None,
) -> Intake:
    """Read the directory that an estate calls by a name."""
    from justlane.files.people.intake import Intake
    from justlane.outside.secrets import nobody_to_ask

    source = cast(DirectorySource, import_module(SOURCES[shape.kind]).source)
    intake = Intake(name, shape.kind, shape.where if shape.files else name, lines=source.has_lines)
    source.read(shape, intake, Surroundings(folder, progress or Progress(), permit or nobody_to_ask))
    return intake
