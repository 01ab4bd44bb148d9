"""Who came, went, moved or changed between two readings of the people."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from enum import StrEnum
from typing import TypeVar

from msgspec import Struct

from justlane.engine.changes.comparison import Comparison
from justlane.engine.facts.earlier_names import former
from justlane.engine.facts.membership import MembershipIndex
from justlane.model.people import Directory

T = TypeVar("T")


class Move(StrEnum):
    """What happened to somebody, or to a group."""

    JOINED = "joined"
    LEFT = "left"
    RENAMED = "renamed"
    DISABLED = "disabled"
    ENABLED = "enabled"
    MOVED = "moved"


class PersonStanding(Struct, frozen=True):
    """A user or a group in one reading."""

    name: str
    """The login, or the group's name."""
    title: str
    """The name that people know them by, or what the group is for."""
    enabled: bool
    id: str
    """What stays the same when they are renamed; empty if there is no such thing."""
    groups: frozenset[str]
    """The groups that hold it directly."""


class Movement(Struct, frozen=True):
    """What changed about one user or one group."""

    name: str
    title: str
    moves: tuple[Move, ...]
    was: str = ""
    """The name before; empty unless it was renamed, or somebody else has that name now."""
    into: tuple[str, ...] = ()
    """Groups that hold it now and did not."""
    out_of: tuple[str, ...] = ()
    """Groups that held it and do not any more, those that are gone included."""


Pair = tuple[PersonStanding | None, PersonStanding | None]
"""Who had a name before and who has it now; None for nobody."""


def movements(pairs: Iterable[Pair], renamed: Mapping[str, str]) -> list[Movement]:
    """Everything that changed, by name. Pairs that are alike may be left out.

    Who has the same stable id is the same; who has the same name is too, unless the ids say otherwise: then one left
    and another joined. `renamed` gives groups that only have another name now: to be in one of them is no change.
    """
    left: dict[str, PersonStanding] = {}
    joined: dict[str, PersonStanding] = {}
    found: list[Movement] = []
    for was, now in pairs:
        if was is None and now is not None:
            joined[now.name] = now
        elif now is None and was is not None:
            left[was.name] = was
        elif was is not None and now is not None and was != now:
            if was.id and now.id and was.id != now.id:
                left[was.name], joined[now.name] = was, now
            else:
                found += _changed(was, now, renamed)
    by_id = {was.id: was for was in left.values() if was.id}
    for now in joined.values():
        earlier = by_id.get(now.id) if now.id else None
        if earlier is not None:
            del left[earlier.name]
            found += _changed(earlier, now, renamed)
        else:
            found.append(Movement(now.name, now.title, (Move.JOINED,), into=tuple(sorted(now.groups))))
    for was in left.values():
        taken = was.name in joined
        name, known = (former(was.name), was.name) if taken else (was.name, "")
        held = tuple(sorted(renamed.get(group, group) for group in was.groups))
        found.append(Movement(name, was.title, (Move.LEFT,), known, out_of=held))
    return sorted(found, key=lambda m: m.name)


def pair_by_name(
    before: Iterable[T], after: Iterable[T], name: Callable[[T], str]
) -> Iterator[tuple[T | None, T | None]]:
    """Those of the same name side by side. Both come sorted by name."""
    ours, theirs = iter(before), iter(after)
    was, now = next(ours, None), next(theirs, None)
    while was is not None or now is not None:
        if now is None or (was is not None and name(was) < name(now)):
            yield was, None
            was = next(ours, None)
        elif was is None or name(now) < name(was):
            yield None, now
            now = next(theirs, None)
        else:
            yield was, now
            was, now = next(ours, None), next(theirs, None)


def _changed(was: PersonStanding, now: PersonStanding, renamed: Mapping[str, str]) -> Iterator[Movement]:
    held = {renamed.get(group, group) for group in was.groups}
    moves = [Move.RENAMED] if was.name != now.name else []
    if was.enabled != now.enabled:
        moves.append(Move.ENABLED if now.enabled else Move.DISABLED)
    into, out_of = tuple(sorted(now.groups - held)), tuple(sorted(held - now.groups))
    if into or out_of:
        moves.append(Move.MOVED)
    if moves:
        former = was.name if was.name != now.name else ""
        yield Movement(now.name, now.title, tuple(moves), former, into, out_of)


class PeopleChanges(Struct, frozen=True):
    """What changed between two readings, and what access that gave or took."""

    before: str
    after: str
    people: tuple[Movement, ...]
    groups: tuple[Movement, ...]
    touched: tuple[str, ...]
    """Logins of everybody whose access can be another: those who changed, or whose groups did. A group that only has
    another name is the same group, and the estate is taken to have followed it."""
    access: Comparison | None = None
    """None if it cannot be told."""


def people_changes(
    names: tuple[str, str], pairs: Callable[[str], Iterable[Pair]], directories: tuple[Directory, Directory]
) -> PeopleChanges:
    """Compare two readings of the people, by the names that they shall be called by.

    `pairs` gives those `users` or `groups` that differ, or all.
    """
    differing = list(pairs("groups"))
    groups = movements(differing, {})
    renamed = {change.was: change.name for change in groups if change.was}
    if renamed:
        groups = movements(differing, renamed)
    people = movements(pairs("users"), renamed)
    touched = dict.fromkeys(change.name for change in people)
    indexes = [MembershipIndex(directory) for directory in directories]
    for change in groups:
        for index, name in zip(indexes, (change.was or change.name, change.name), strict=True):
            if Move.MOVED in change.moves:
                touched |= dict.fromkeys(index.users_in(name))
    return PeopleChanges(*names, tuple(people), tuple(groups), tuple(touched))
