"""The pull: all directories of an estate read into one snapshot, or nothing changed at all."""

from __future__ import annotations

from pathlib import Path

from msgspec import Struct

from justlane.directories.interface import read_people
from justlane.files.people import snapshots
from justlane.files.people.populating import missing_files, read_now
from justlane.files.reading.estate_files import read_all
from justlane.files.reading.shapes import EstateFile
from justlane.files.reading.yamltext import Text
from justlane.model.errors import EstateError, RefusedError
from justlane.model.findings import Finding, Severity
from justlane.model.people import Snapshot
from justlane.model.progress import Progress
from justlane.outside.secrets import Permit


class Pulled(Struct, frozen=True):
    """What a pull did."""

    snapshot: Snapshot
    users: int
    groups: int
    memberships: int
    before: str
    """The name of the snapshot before; empty if this is the first."""
    findings: tuple[Finding, ...]
    """What is worth a warning."""


def pull(folder: Path, progress: Progress, permit: Permit, *, believe: bool = False) -> Pulled:
    """Read everybody and keep it. Unless `believe`, a reading from which too many users vanished is refused.

    EstateError if a file is wrong, OutsideError if a directory fails; then everything is as it was.
    """
    root, text = _root(folder)
    missing = missing_files(folder, root, text)
    if missing:
        raise EstateError(missing)
    try:
        people, snapshot = read_now(
            folder, root, lambda name, shape, at: read_people(name, shape, at, progress, permit)
        )
        errors = [f for f in people.findings if f.severity is Severity.ERROR]
        if errors:
            raise EstateError(errors)
        before = snapshots.newest(folder)
        if before and not believe:
            _believable(snapshots.open_snapshot(folder, before).snapshot, snapshot, root.people.may_vanish)
        progress.start(0, "writing the snapshot")
        name = snapshots.keep(folder, people, snapshot, root.people.keep)
    finally:
        progress.stop()
    kept = snapshots.open_snapshot(folder, name).snapshot
    return Pulled(kept, len(people.users), len(people.groups), people.count, before, tuple(people.findings))


def _root(folder: Path) -> tuple[EstateFile, Text]:
    """The root file alone: people can be pulled while something else is wrong."""
    first = read_all(folder).files[0]
    wrong = [f for f in first.text.findings if f.severity is Severity.ERROR and f.rule != "include"]
    if wrong or not isinstance(first.shape, EstateFile):
        raise EstateError(wrong or first.text.findings)
    return first.shape, first.text


def _believable(before: Snapshot, now: Snapshot, may_vanish: str) -> None:
    """RefusedError if a directory has far fewer users than it had."""
    share = int(may_vanish.rstrip(" %"))
    users = {source.name: source.users for source in now.sources}
    for source in before.sources:
        left = users.get(source.name)
        if left is not None and left < source.users * (100 - share) / 100:
            message = (
                f"the directory {source.name} had {source.users:,} users and has {left:,} now; nothing was changed"
            )
            hint = f"more than {share} % are gone: if that is right, pull again with --fewer"
            raise RefusedError(message, hint)
