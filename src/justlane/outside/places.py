"""Files and folders on this machine that a platform stands for: inside the estate, or allowed by the person.

`place_to_change` is the only way to one outside of the estate.
"""

from __future__ import annotations

import os
import stat
from pathlib import Path
from typing import NamedTuple

from justlane.files.allowed.permissions import permissions
from justlane.files.disk import beneath
from justlane.files.reading.named_files import is_foreign
from justlane.model.errors import RefusedError
from justlane.model.shell import spelt


class Place(NamedTuple):
    """A file or folder: its name beneath a folder that is not itself in question."""

    top: Path
    name: str
    shown: str
    """As the estate writes it."""

    @property
    def path(self) -> Path:
        """For programs that take a path."""
        return self.top / self.name

    @property
    def mode(self) -> int:
        """The mode of the file as it is; that of common files if there is none."""
        try:
            return stat.S_IMODE(os.stat(self.path, follow_symlinks=False).st_mode)
        except OSError:
            return beneath.COMMON

    def read(self) -> bytes:
        """The file's content, reached without a link. OSError if that is impossible."""
        return beneath.read(self.top, self.name)


def place_to_change(folder: Path, name: str) -> Place:
    """A file or folder that an estate names. RefusedError if it lies elsewhere and the person has not allowed it."""
    if not is_foreign(name):
        return Place(Path(os.path.abspath(folder)), name, name)
    whole = os.path.realpath(folder / name)
    allowed = permissions().places
    if not any(whole == place or whole.startswith(place.rstrip("/") + "/") for place in allowed):
        raise RefusedError(
            f"the estate wants to look at and change {whole}, outside of it, and you have not allowed that",
            f"if it is right: {spelt('trust', 'add', '--changes', str(whole))}",
        )
    top, _, last = whole.rpartition("/")
    return Place(Path(top or "/"), last or ".", name)
