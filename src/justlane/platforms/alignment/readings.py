"""Readings that were kept: what a platform said that it held, and when. The newest few of each platform stay."""

from __future__ import annotations

import os
import re
from datetime import UTC, datetime
from pathlib import Path

import msgspec

from justlane.files.allowed.seals import read_sealed, sealed
from justlane.files.disk.beneath import CLOSED, is_file, open_folder, read
from justlane.files.disk.durable import write_atomically
from justlane.model.errors import StorageError, UsageError
from justlane.model.shell import spelt
from justlane.platforms.interface import Reading

FOLDER = "readings"
MOST = 20
"""So many readings of a platform are kept."""
_NAME = re.compile(r"^\d{4}-\d\d-\d\dT\d\d-\d\d-\d\d(-\d+)?Z?$")
_FORM = "%Y-%m-%dT%H-%M-%S"


def keep(folder: Path, platform: str, reading: Reading, moment: datetime) -> str:
    """Write a reading down and drop the oldest beyond the limit; its name. StorageError if that is impossible."""
    known = names(folder, platform)
    if known and open_own(folder, platform, known[-1]) == reading:
        return known[-1]
    if not is_file(folder, f"{FOLDER}/.gitignore"):
        write_atomically(folder, f"{FOLDER}/.gitignore", b"*\n", CLOSED)
    stem = moment.astimezone(UTC).strftime(_FORM)
    number = max((_order(one)[1] for one in known if one.startswith(stem)), default=-1) + 1
    name = f"{stem}-{number}" if number else stem
    file = _file(platform, name)
    write_atomically(folder, file, sealed(folder, file, msgspec.json.encode(reading)), CLOSED)
    _drop(folder, platform, [*known, name][:-MOST])
    return name


def _drop(folder: Path, platform: str, old: list[str]) -> None:
    if not old:
        return
    with open_folder(folder, (FOLDER, platform)) as handle:
        for name in old:
            os.unlink(f"{name}.json", dir_fd=handle)


def names(folder: Path, platform: str) -> list[str]:
    """The readings of a platform, the oldest first. StorageError if the folder cannot be read."""
    try:
        with open_folder(folder, (FOLDER, platform)) as handle:
            found = [name.removesuffix(".json") for name in os.listdir(handle) if name.endswith(".json")]
    except FileNotFoundError:
        return []
    except OSError as error:
        raise StorageError(f"{FOLDER}/{platform} cannot be read: {error.strerror}", "see who may read it") from error
    return sorted((name for name in found if _NAME.match(name)), key=_order)


def _order(name: str) -> tuple[str, int]:
    return name[:19], int(name[20:] or 0) if len(name) > 20 else 0


def open_reading(folder: Path, platform: str, name: str) -> Reading:
    """A reading by its name, or the last one at or before a day or a time. UsageError if there is none. StorageError if
    it is damaged."""
    known = names(folder, platform)
    match = name if name in known else max((one for one in known if one <= name + "~"), key=_order, default="")
    if not match or not re.match(r"^\d{4}-\d\d-\d\d", name):
        hint = f"there are: {', '.join(known[-5:])}" if known else f"none was kept yet: {spelt('drift', platform)}"
        raise UsageError(f"there is no reading {name!r} of {platform}", hint)
    try:
        return msgspec.json.decode(read(folder, _file(platform, match)), type=Reading)
    except (OSError, ValueError, msgspec.MsgspecError, RecursionError) as error:
        raise StorageError(
            f"{_file(platform, match)} cannot be read: {error}", "take it out; a new one is kept"
        ) from error


def open_own(folder: Path, platform: str, name: str) -> Reading | None:
    """A reading by its name; None if there is none, or if it is not the person's own."""
    file = _file(platform, name)
    try:
        line = read_sealed(folder, file, file)
        return None if line is None else msgspec.json.decode(line, type=Reading)
    except (OSError, ValueError, RecursionError):
        return None


def _file(platform: str, name: str) -> str:
    return f"{FOLDER}/{platform}/{name}.json"
