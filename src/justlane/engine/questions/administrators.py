"""Who administers a platform: fully, who may do all of its administration wherever it can be done; or in part."""

from __future__ import annotations

from collections.abc import Collection
from enum import StrEnum

from msgspec import Struct

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import ANONYMOUS_NAME
from justlane.engine.questions.who_may import kinds_who_may, unlike
from justlane.model.patterns import matching


class Fullness(StrEnum):
    """How much of a platform's administration there is in something."""

    FULL = "full"
    LIMITED = "limited"
    NONE = "none"


class Administrators(Struct, frozen=True):
    """The people who administer one platform, in some circumstances."""

    platform: str
    actions: tuple[str, ...]
    full: tuple[str, ...]
    """Logins of those who may do all of it everywhere."""
    limited: tuple[str, ...]
    """Logins of those who may do some of it somewhere."""
    at_most: int | None
    """How many may hold it fully; None if nobody said."""
    people: int
    """How many people hold it fully, some of them by several logins."""

    @property
    def too_many(self) -> bool:
        """Whether more hold it fully than may."""
        return self.at_most is not None and self.people > self.at_most


def administration_of(prepared: PlatformIndex) -> tuple[str, ...]:
    """The actions that are the administration of a platform; none if it does not say."""
    said = prepared.platform.administration
    wanted = {a for pattern in said.actions for a in matching(pattern.text, prepared.platform.actions)} if said else ()
    return tuple(action for action in prepared.platform.actions if action in wanted)


def fullness(prepared: PlatformIndex, held: Collection[str]) -> Fullness:
    """How much of the platform's administration is among some actions."""
    own = administration_of(prepared)
    if not own or not set(own) & set(held):
        return Fullness.NONE
    return Fullness.FULL if set(own) <= set(held) else Fullness.LIMITED


def administrators(index: EstateIndex, platform: str, question: Question) -> Administrators:
    """Everybody who administers a platform, by what they may do in some circumstances."""
    import numpy as np

    prepared = index.platform(platform)
    actions = administration_of(prepared)
    logins = [*index.membership.numbered.logins, ANONYMOUS_NAME]
    counts, cells = np.zeros(len(logins), np.int64), 0
    for action in actions:
        places = [at for at in prepared.platform.scopes if prepared.applies(action, at)]
        for place in unlike(prepared, places) if places else ():
            cells += 1
            for _, alike, _ in kinds_who_may(index, action, place, question):
                counts[alike.users] += 1
    full = np.flatnonzero(counts == cells) if cells else ()
    some = np.flatnonzero((counts > 0) & (counts < cells))
    said = prepared.platform.administration
    named = [tuple(sorted(logins[n] for n in numbers)) for numbers in (full, some)]
    people = len(index.estate.by_person(named[0]))
    return Administrators(platform, actions, named[0], named[1], said.at_most if said else None, people)
