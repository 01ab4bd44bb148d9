"""Who came to what through which group: from groups over roles to places."""

from __future__ import annotations

from msgspec import Struct

from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.decision.circumstances import in_dates
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.model.people import PrincipalKind


class Flow(Struct, frozen=True):
    """A group is given a role at a place."""

    group: str
    """The principal, as it is written."""
    role: str
    scope: str
    people: int
    """How many people with an enabled account that is; whoever has not signed in is one."""


def flows(index: EstateIndex, platform: str, question: Question) -> list[Flow]:
    """All that the lines of a platform give today, each once, the most people first."""
    prepared = index.platform(platform)
    behind = PeopleByName(index, platform, question.dated, prepared.named)
    counts = behind.counts()
    found: dict[tuple[str, str, str], int] = {}
    for b in prepared.bindings:
        if b.allows and in_dates(b.condition, question.dated, index.estate.time_zone):
            people = 1 if b.principal.kind is PrincipalKind.ANONYMOUS else counts[b.principal]
            if people:
                found[str(b.principal), b.role, b.scope] = people
    listed = [Flow(*key, people) for key, people in found.items()]
    return sorted(listed, key=lambda flow: (-flow.people, flow.group, flow.role, flow.scope))
