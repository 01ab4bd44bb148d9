"""The days on which what changes between two states of an estate can be another change than today.

A date of a line matters only where something differs at all: at those places, the dates of all lines that count there
on either side, and of what else has a say; in other time zones the days on which clocks are set.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import date

from justlane.engine.classes.changed_scopes import ChangedScopes
from justlane.engine.decision.judge import Question, is_apart
from justlane.engine.facts.clock import on_clock, turning_days
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.model.people import LocalGroup, Principal, PrincipalKind


def days_of_change(sides: Sequence[EstateIndex], question: Question) -> Mapping[str, Sequence[date]]:
    """Platform -> the days after that of the question, in order, on which the change there can be another one."""
    zone = sides[1].estate.time_zone
    day = on_clock(question.dated, zone).date()
    found = {}
    for name in dict.fromkeys(name for side in sides for name in side.estate.platforms):
        prepared = [side.platform(name) if name in side.estate.platforms else None for side in sides]
        days = _days(prepared, day, zone, question, same_clock=sides[0].estate.time_zone == zone)
        if days:
            found[name] = days
    return found


def _days(
    prepared: Sequence[PlatformIndex | None], day: date, zone: str, question: Question, *, same_clock: bool
) -> list[date]:
    if prepared[0] is prepared[1]:
        return []
    there = [side for side in prepared if side]
    ends = [m.last_day for side in there for group in side.platform.local_groups.values() for m in group.members]
    ceilings = [ceiling.condition for side in there for ceiling in side.platform.ceilings]
    if not turning_days([b.condition for side in there for b in side.bindings] + ceilings, ends, day, zone):
        return []  # as on most platforms: nothing there ever begins or ends
    differing = ChangedScopes(prepared, same_clock)
    where = differing.places | differing.covered_by(_other_groups(prepared))
    if not where.any():
        return []
    if any(is_apart(side, question) for side in there):
        bindings = [b for side in there for b in side.bindings]
    else:
        bindings = [b for at in differing.alike(where) for b in differing.counting_at(at[0])]
    named = {b.principal for b in bindings}
    own = [m.last_day for group in _groups(there) if _principal(group) in named for m in group.members]
    return turning_days([b.condition for b in bindings] + ceilings, own, day, zone)


def _groups(there: Sequence[PlatformIndex]) -> Iterator[LocalGroup]:
    for side in there:
        yield from side.platform.local_groups.values()


def _principal(group: LocalGroup) -> Principal:
    return Principal(PrincipalKind.LOCAL_GROUP, group.name)


def _other_groups(prepared: Sequence[PlatformIndex | None]) -> set[Principal]:
    """The local groups that have other members on one side than on the other."""
    held = [
        {_principal(group): frozenset((m.member, m.last_day) for m in group.members) for group in _groups([side])}
        if side
        else {}
        for side in prepared
    ]
    return {name for name in held[0].keys() | held[1].keys() if held[0].get(name) != held[1].get(name)}
