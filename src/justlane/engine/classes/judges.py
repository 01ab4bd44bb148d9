"""One judge for each access class of a platform, kept while it is asked again."""

from __future__ import annotations

from justlane.engine.decision.judge import Judge, Question
from justlane.engine.facts.index import PlatformIndex
from justlane.engine.facts.people import Person

_MOST = 20_000
"""So many judges are kept; each remembers what it was asked."""


class Judges:
    """The judges of one platform for one question."""

    def __init__(self, prepared: PlatformIndex, question: Question, zone: str) -> None:
        self._prepared, self._question, self._zone = prepared, question, zone
        self._known: dict[Person, Judge] = {}

    def of(self, somebody: Person) -> Judge:
        """The judge of a person, or of anybody of a class."""
        known = self._known.get(somebody)
        if known is None:
            if len(self._known) >= _MOST:
                self._known.clear()
            known = self._known[somebody] = Judge(self._prepared, somebody, self._question, self._zone)
        return known
