"""The pull: all directories of an estate read into one snapshot, or nothing changed at all."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from msgspec import Struct

from justlane.directories.interface import read_people
from justlane.files.people import snapshots
from justlane.files.people.chosen import missing_files, read_now
from justlane.files.reading.estate_files import read_all
from justlane.files.reading.shapes import EstateFile
from justlane.files.reading.yamltext import Text
from justlane.model.errors import EstateError, RefusedError
from justlane.model.findings import Finding, Severity
from justlane.model.names import counted
from justlane.model.people import Snapshot
from justlane.model.progress import Progress
from justlane.outside.secrets import Permit

if TYPE_CHECKING:
    from justlane.engine.arrays.lists import Lists
    from justlane.files.people.population import Population
    from justlane.files.people.store import PeopleStore


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
        if not believe:
            _refuse_without_members(snapshot)
        if before and not believe:
            _believable(snapshots.open_snapshot(folder, before), people, snapshot, root.people.may_vanish)
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


def _refuse_without_members(now: Snapshot) -> None:
    """RefusedError if a directory has groups, and nobody is in any: the account may not see who is."""
    for source in now.sources:
        if source.groups and not source.memberships:
            message = f"the directory {source.name} has {counted(source.groups, 'group')}, and nobody is in any of them"
            hint = "the account that reads may have no right to see members, or `members` names other attributes; "
            raise RefusedError(f"{message}; nothing was changed", f"{hint}if it is right, pull again with --fewer")


def _believable(before: PeopleStore, people: Population, now: Snapshot, may_vanish: str) -> None:
    """RefusedError if a directory has far fewer users, groups or memberships than it had, or one of its groups has."""
    share = int(may_vanish.rstrip(" %"))
    after = {source.name: source for source in now.sources}
    for was in before.snapshot.sources:
        found = after.get(was.name)
        for what in ("users", "groups", "memberships") if found else ():
            had, has = getattr(was, what), getattr(found, what)
            if has < had * (100 - share) / 100:
                _unbelievable(f"the directory {was.name} had {had:,} {what} and has {has:,} now", share)
    sizes = dict(zip(before.numbered().group_names, _direct(before.numbered().columns.members), strict=False))
    numbers = {name: number for number, (name, *_) in enumerate(people.groups)}
    left = _direct(people.memberships()[0])
    for name, had in sizes.items():
        has = left[numbers[name]] if name in numbers else 0
        emptied = had >= _SMALL and not has
        if name in numbers and (emptied or (had >= _LARGE and has < had * (100 - share) / 100)):
            _unbelievable(f"the group {name} had {had:,} people and has {has:,} now", share)


def _direct(members: Lists) -> list[int]:
    """How many people each group holds directly."""
    found: list[int] = (members.start[1:] - members.start[:-1]).tolist()
    return found


def _unbelievable(said: str, share: int) -> NoReturn:
    hint = f"more than {share} % are gone: if that is right, pull again with --fewer"
    raise RefusedError(f"{said}; nothing was changed", hint)


_SMALL, _LARGE = 10, 50
"""A group of so many that is empty, and one of so many from which too many are gone, is not believed."""
