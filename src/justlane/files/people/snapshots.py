"""The snapshots of an estate's people: one file each, in the folder `snapshots`, named by the time of the reading.

The newest is the one that questions are asked of: the last in the list `order.txt`, to which each pull adds its own, so
that a name with another date never outranks what was pulled after it. Nothing is answered from one that is dated later
than now. A file gets its name when it is complete, so that there is never half a snapshot; nobody but its owner can
read it, and git leaves it out.
"""

from __future__ import annotations

import os
import re
import sqlite3
from contextlib import suppress
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

from justlane.engine.facts.earlier_names import Aliases
from justlane.files.disk.beneath import CLOSED, is_file, open_folder, path_to
from justlane.files.disk.durable import append_durably, lines_of, write_atomically
from justlane.files.disk.tables import Tables
from justlane.files.people.store import SCRIPTS, PeopleStore
from justlane.model.errors import StorageError, UsageError
from justlane.model.people import Snapshot

if TYPE_CHECKING:
    from justlane.files.people.population import Population

FOLDER = "snapshots"
_NAME = re.compile(r"\d{4}-\d\d-\d\dT\d\d-\d\d-\d\dZ(?:-\d+)?")
_LIST = f"{FOLDER}/order.txt"
"""The names, a line each, in the order in which they were pulled."""
_ENDING = ".sqlite"
_FORM = "%Y-%m-%dT%H-%M-%SZ"


class Overview(NamedTuple):
    """How old the picture of the people is, and where it comes from."""

    snapshot: Snapshot
    kept: tuple[str, ...]
    """The names of all snapshots, the oldest first."""
    moment: datetime
    """When this was asked."""


def names(estate: Path) -> list[str]:
    """The names of all snapshots, the oldest first."""
    try:
        with open_folder(estate, (FOLDER,)) as folder:
            found = [name.removesuffix(_ENDING) for name in os.listdir(folder) if name.endswith(_ENDING)]
    except OSError:
        return []
    return sorted((name for name in found if _NAME.fullmatch(name)), key=_order)


def _order(name: str) -> tuple[str, int]:
    moment, _, number = name.partition("Z-")
    return moment.rstrip("Z"), int(number or 0)


def newest(estate: Path) -> str:
    """The name of the newest snapshot that is not dated later than now; empty if there is none."""
    later = set(dated_later(estate))
    return next((name for name in reversed(_as_pulled(estate)) if name not in later), "")


def dated_later(estate: Path) -> tuple[str, ...]:
    """The names of those that are dated later than now: nothing is answered from them."""
    now = datetime.now(UTC).strftime(_FORM)
    return tuple(name for name in names(estate) if _order(name)[0] > now.rstrip("Z"))


def _as_pulled(estate: Path) -> list[str]:
    """The names of all snapshots, each behind those that were there when it was pulled."""
    told = [line.decode("utf-8", "replace") for line in lines_of(estate, _LIST)]
    place = {name: number for number, name in enumerate(told)}
    return sorted(names(estate), key=lambda name: (place.get(name, -1), _order(name)))


def open_snapshot(estate: Path, name: str) -> PeopleStore:
    """A snapshot by its name. StorageError if it is damaged."""
    try:
        path = path_to(estate, _file(name))
        store = PeopleStore(Tables(path, SCRIPTS, keep=True))
        if store.snapshot.taken.strftime(_FORM).rstrip("Z") != _order(name)[0]:
            raise StorageError(f"the snapshot {name} is not of the time that its name says", "pull the people anew")
        return store
    except (sqlite3.Error, OSError) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise StorageError(f"the snapshot {name} cannot be opened: {reason}", "pull the people anew") from error


def _file(name: str) -> str:
    return f"{FOLDER}/{name}{_ENDING}"


def find_snapshot(estate: Path, text: str) -> str:
    """The snapshot that a text names: its name or the beginning of it, or the newest of that day or time or before.

    UsageError if there is none.
    """
    known = names(estate)
    if text in known:
        return text
    upto = re.sub(r"[ T]", "T", text.strip().rstrip("Z")).replace(":", "-")
    before = [name for name in known if name[: len(upto)] <= upto]
    if not _is_moment(upto):
        hint = f"write a day or a time, or a name: {', '.join(known[-5:]) or 'there is no snapshot yet'}"
        raise UsageError(f"there is no snapshot {text!r}", hint)
    if not before:
        first = f"the oldest is {known[0]}" if known else "there is none at all: `justlane people pull` takes one"
        raise UsageError(f"there is no snapshot of {text} or before", first)
    return before[-1]


def _is_moment(text: str) -> bool:
    """Whether a text is a day, or a day and a time, that there is."""
    if not re.fullmatch(r"\d{4}-\d\d-\d\d(T\d\d(-\d\d(-\d\d)?)?)?", text):
        return False
    try:
        datetime.strptime(text + "2000-01-01T00-00-00"[len(text) :], _FORM.rstrip("Z"))
    except ValueError:
        return False
    return True


def keep(estate: Path, people: Population, snapshot: Snapshot, limit: int) -> str:
    """Write a snapshot, then remove the oldest beyond the limit; its name. StorageError if that is impossible."""
    try:
        if not is_file(estate, f"{FOLDER}/.gitignore"):
            write_atomically(estate, f"{FOLDER}/.gitignore", b"*\n", CLOSED)
        name = _written(estate, people, snapshot)
        append_durably(estate, _LIST, name.encode())
        with open_folder(estate, (FOLDER,)) as folder:
            for old in _as_pulled(estate)[:-limit]:
                with suppress(FileNotFoundError):
                    os.unlink(f"{old}{_ENDING}", dir_fd=folder)
    except StorageError as error:
        raise StorageError(error.message, "the one before is still there") from error
    except (OSError, sqlite3.Error) as error:
        reason = getattr(error, "strerror", None) or str(error)
        raise StorageError(f"the snapshot cannot be written: {reason}", "the one before is still there") from error
    return name


def _written(estate: Path, people: Population, snapshot: Snapshot) -> str:
    """Write it under the first name of its second that is behind all that there are."""
    from justlane.files.people.snapshot_file import write_people

    stem = snapshot.taken.strftime(_FORM)
    number = max((_order(name)[1] or 1 for name in names(estate) if name.startswith(stem)), default=0) + 1
    while True:
        name = stem if number == 1 else f"{stem}-{number}"
        with suppress(FileExistsError):
            if name not in names(estate):
                write_people(estate, _file(name), people, snapshot)
                return name
        number += 1


class Former(NamedTuple):
    """What the snapshots know of a name that nobody has now."""

    now: str = ""
    """What its user or group is called now; empty if it is gone, or has no stable id."""
    seen: str = ""
    """The newest snapshot that knows the name; empty if none does."""


def former(estate: Path, people: PeopleStore, what: str, name: str) -> Former:
    """What became of a `group` or a `user` that is not among people: it is the same if it has the same stable id."""
    table = f"{what}s"
    for snapshot in reversed(names(estate)):
        try:
            stable = open_snapshot(estate, snapshot).stable_id(table, name)
        except StorageError:
            continue
        if stable is not None:
            return Former(people.named_by_id(table, stable), snapshot)
    return Former()


def aliases(then: PeopleStore, now: PeopleStore) -> Aliases:
    """Those who had another name in one snapshot than they have in another, by their stable ids."""
    from justlane.files.people.difference import ReadingDifferences

    if then.snapshot == now.snapshot:
        return Aliases({}, {})
    return ReadingDifferences(then, now).aliases()
