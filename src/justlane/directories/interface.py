"""What every source of people offers, and the table of those there are."""

from __future__ import annotations

from importlib import import_module
from pathlib import Path
from typing import Protocol, cast

from justlane.model.findings import Finding
from justlane.model.people import Directory


class DirectorySource(Protocol):
    """Reads users and groups from one place."""

    def read(self, path: Path, shown: str) -> tuple[Directory, list[Finding]]:
        """Read everything; findings cite the file as `shown`. An incomplete reading has at least one error."""


SOURCES = {"ldif": "justlane.directories.ldif"}
"""Kind of source -> the module whose `source` it is; imported when it is used."""


def read_people(kind: str, path: Path, shown: str) -> tuple[Directory, list[Finding]]:
    """Read one directory of a known kind."""
    source = cast(DirectorySource, import_module(SOURCES[kind]).source)
    return source.read(path, shown)
