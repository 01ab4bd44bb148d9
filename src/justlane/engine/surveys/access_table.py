"""All that is allowed on a platform as a table: classes of people, classes of places, and what each pair may do."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from justlane.engine.arrays.lists import Ints
from justlane.engine.classes.class_pairs import ChangeFound, ClassPairs
from justlane.engine.classes.judges import Judges
from justlane.engine.classes.people_by_name import PeopleByName
from justlane.engine.classes.scope_classes import scope_classes
from justlane.engine.decision.circumstances_in_words import Box
from justlane.engine.decision.explanation import in_words
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.people import Person

Allowed = tuple[tuple[str, tuple[Box, ...]], ...]
"""Actions, each with the circumstances in which it may be done; none for all."""


class Block(NamedTuple):
    """What several classes of people may do at one class of places."""

    person_classes: Ints
    place_class: int
    allowed: Allowed


class AccessTable:
    """One platform, with everybody and all places by class."""

    def __init__(self, index: EstateIndex, platform: str, question: Question) -> None:
        self._index, self._platform, self._question = index, platform, question
        self._prepared = index.platform(platform)
        self._numbered = self._prepared.coverage.numbered
        behind = PeopleByName(index, platform, question.dated, self._prepared.named)
        self.logins = [*behind.numbered.logins, behind.login(behind.nobody)]
        self.there = behind.there
        """Whether each of them may do anything at all."""
        users = np.flatnonzero(self.there)
        number, first = behind.class_numbers(users)
        self.person_classes: Ints = np.full(len(self.logins), -1, np.int32)
        """Of each, -1 for who may do nothing at all."""
        self.person_classes[users] = number
        self._one_of_each = users[first]
        self.addresses = self._numbered.addresses
        self.kinds = [self._numbered.kinds[kind] for kind in self._numbered.kind.tolist()]
        """Of each place."""
        self.place_classes: NDArray[np.int64] = scope_classes(self._prepared, self._numbered)

    def blocks(self) -> Iterator[Block]:
        """What each pair of classes may do; a pair that may do nothing is left out."""
        kinds = ClassPairs.of_one(self._index, self._prepared, self._question)
        among = np.zeros(len(self.logins), np.bool_)
        among[self._one_of_each] = True
        for found in kinds.changes(_Allowing(self).at, among, None):
            yield self._block(found)

    def _block(self, found: ChangeFound) -> Block:
        place = self._numbered.number[found.places[0]]
        return Block(self.person_classes[found.users], int(self.place_classes[place]), found.change)

    def judges(self) -> Judges:
        """Judges for classes of people."""
        return Judges(self._prepared, self._question, self._index.estate.time_zone)


class _Allowing:
    def __init__(self, table: AccessTable) -> None:
        self._judges = table.judges()
        self._known: dict[int, Allowed] = {}
        self._same: dict[Allowed, Allowed] = {}

    def at(self, was: Person, now: Person, address: str) -> Allowed:
        """All that people may do at a place."""
        judging = self._judges.of(now)
        profile = judging.at(address)
        if id(profile) not in self._known:
            said = tuple((action, in_words(judging, some)) for action, some in profile.items())
            self._known[id(profile)] = self._same.setdefault(said, said)
        return self._known[id(profile)]
