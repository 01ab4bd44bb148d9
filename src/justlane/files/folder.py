"""An estate's folder: where it is, and which files its root file includes. Kept free of heavy imports."""

from __future__ import annotations

from pathlib import Path, PurePosixPath

from justlane.model.errors import UsageError

ROOT = "estate.yaml"


def find_root(start: Path) -> Path:
    """The folder of the estate that `start` lies in. UsageError if there is none."""
    for folder in (start, *start.parents):
        if (folder / ROOT).is_file():
            return folder
    raise UsageError(
        f"there is no {ROOT} in {start} or above it",
        "go to an estate's folder, name one with --estate FOLDER, or make one with `justlane new FOLDER`",
    )


def included(folder: Path, pattern: str) -> list[str]:
    """The files that one line of `include` stands for, relative to the folder, in the order of their names.

    Nothing outside the folder is included.
    """
    path = PurePosixPath(pattern)
    if path.is_absolute() or ".." in path.parts or not path.parts:
        return []
    return sorted(p.relative_to(folder).as_posix() for p in folder.glob(pattern) if p.is_file())
