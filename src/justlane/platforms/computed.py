"""What everybody may do at each place, worked out, for platforms that decide in another way than is declared.

Such a platform is told the outcome: at every place where it differs from the place around it, everybody whom it
concerns is named, by as few names as possible. Then it does not matter in which order the platform weighs lines. Pure.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from datetime import datetime
from typing import NamedTuple

from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.decision.judge import Judge, Question, cells_of
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.membership import group
from justlane.engine.facts.people import ANONYMOUS_NAME, people_behind
from justlane.model.circumstances import Situation
from justlane.model.findings import Source
from justlane.model.people import PrincipalKind

Rights = frozenset[str]
NONE: Rights = frozenset()


class Outcome(NamedTuple):
    """What people may do at one place."""

    people: Mapping[str, Rights]
    """Login -> actions; only whoever may do something."""
    anonymous: Rights


def outcomes(index: EstateIndex, platform: str, moment: datetime) -> dict[str, Outcome]:
    """What everybody may do at every place of a platform on the day of a moment; people alike are judged once."""
    prepared = index.platform(platform)
    question = Question(moment, Situation())
    held: dict[str, dict[str, Rights]] = {address: {} for address in prepared.platform.scopes}
    anonymous = dict.fromkeys(held, NONE)
    behind = PeopleByName(index, platform, moment, prepared.named)
    for alike in behind.classes():
        judging = Judge(prepared, alike.person, question, index.estate.time_zone)
        logins = behind.logins(alike.users)
        for address, actions in cells_of(judging, platform).items():
            if logins == [ANONYMOUS_NAME]:
                anonymous[address] = frozenset(actions)
            else:
                held[address] |= dict.fromkeys(logins, frozenset(actions))
    return {address: Outcome(people, anonymous[address]) for address, people in held.items()}


class Named(NamedTuple):
    """Who has which rights at a place, by name: groups and people."""

    groups: Mapping[str, Rights]
    people: Mapping[str, Rights]


def in_names(people: Mapping[str, Rights], members: Mapping[str, Collection[str]], levels: Collection[Rights]) -> Named:
    """The fewest names found that give everybody just their rights, where what any of somebody's names gives counts.

    `people` are those who have some, `members` the people of the groups that may be named; a group is named for a level
    of rights only if all its people have at least that. Whoever no group covers is named themselves.
    """
    groups: dict[str, Rights] = {}
    single: dict[str, Rights] = {}
    for level in sorted(levels, key=lambda rights: (-len(rights), sorted(rights))):
        left = {login for login, rights in people.items() if rights == level}
        may = {login for login, rights in people.items() if rights >= level}
        for name in sorted(members, key=lambda known: (-len(members[known]), known)):
            if name not in groups and left & set(members[name]) and set(members[name]) <= may:
                groups[name] = level
                left -= set(members[name])
        single |= dict.fromkeys(sorted(left), level)
    return Named(groups, single)


def lines_at(prepared: PlatformIndex, address: str, to: str = "") -> tuple[Source, ...]:
    """The lines that have a say at a place, those that name somebody first, then the nearest; the habit's own where no
    binding has."""
    own = [b for b in prepared.covering_bindings(address) if not b.built_in]
    own.sort(key=lambda b: str(b.principal) != to)
    found = tuple(dict.fromkeys(b.source for b in own))
    platform = prepared.platform
    return found or (platform.habits.lines.get("unbound", platform.source),)


def members_of(index: EstateIndex, platform: str, moment: datetime) -> Iterator[tuple[str, set[str]]]:
    """The groups that bindings name, each with its enabled people; groups without any are left out."""
    names = {b.principal.name for b in index.platform(platform).bindings if b.principal.kind is PrincipalKind.GROUP}
    for name in sorted(names):
        some = set(people_behind(index, group(name), platform, moment))
        if some:
            yield name, some
