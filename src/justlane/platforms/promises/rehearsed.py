"""All that is done with a platform, from `align` to `probe`, carried out with a dialect on a platform in memory."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import datetime
from pathlib import Path
from tempfile import TemporaryDirectory

from justlane.engine.decision.judge import Question, cells_of, judge
from justlane.engine.facts.index import EstateIndex
from justlane.model.circumstances import Situation
from justlane.model.errors import PlatformChangedError
from justlane.model.progress import Progress
from justlane.platforms.alignment.drift import drift
from justlane.platforms.alignment.journal import RunJournal
from justlane.platforms.alignment.plan import plan
from justlane.platforms.alignment.reversal import undoing
from justlane.platforms.alignment.run import carry_out
from justlane.platforms.differences import unlike
from justlane.platforms.interface import Dialect, Entry, Reading, Step
from justlane.platforms.proof.choice import everybody
from justlane.platforms.proof.probe import probe

Show = Callable[[str, object], None]
"""Presents a result of a kind in all its formats."""


class InMemory:
    """A platform that holds what it is told, and does it."""

    def __init__(self, dialect: Dialect, index: EstateIndex, platform: str, held: Reading, moment: datetime) -> None:
        self._dialect, self._index, self._platform, self._moment = dialect, index, platform, moment
        self._held, self._count = held, 0

    def read(self) -> Reading:
        """What it holds."""
        return Reading(str(self._count), self._held.parts)

    def change(self, steps: Sequence[Step], revision: str, key: str) -> str:
        """Make the changes, all of them. PlatformChangedError if it holds something else by now."""
        del key
        if revision != str(self._count):
            raise PlatformChangedError("changed meanwhile", "again")
        self._held = self._held.after(steps)
        self._count += 1
        return str(self._count)

    def evaluate(self, user: str, cells: Sequence[tuple[str, str, str]], context: Entry) -> list[bool | None]:
        """What its reading gives to somebody."""
        del context
        read = EstateIndex(self._dialect.as_read(self._index, self._platform, self._held))
        if user not in read.estate.directory.users:
            return [False] * len(cells)
        given = cells_of(judge(read, user, self._platform, Question(self._moment, Situation())), self._platform)
        return [action in given.get(scope, {}) for action, _, scope in cells]

    def can_become(self, user: str) -> bool:
        """Nobody signs in to memory."""
        del user
        return False

    def sign_in(self, user: str, context: Entry) -> None:
        """Nobody can."""

    def close(self) -> None:
        """Nothing is held open."""


def rehearse(dialect: Dialect, index: EstateIndex, platform: str, held: Reading, moment: datetime, show: Show) -> str:
    """Align, look for drift, probe and take back on a platform that holds something; what went wrong, or nothing.

    Whatever the dialect raises is raised.
    """
    connector = InMemory(dialect, index, platform, held, moment)
    habits = index.estate.platforms[platform].habits
    with TemporaryDirectory() as folder:
        journal = RunJournal(Path(folder), platform)
        before = connector.read()
        show("Drifts", (drift(index, platform, before, moment),))
        planned = plan(index, platform, before, moment)
        show("Plan", planned)
        carry_out(planned, habits, connector, journal, "rehearsed", Progress())
        left = plan(index, platform, connector.read(), moment)
        if left.steps:
            return f"after align {len(left.steps)} steps are left, the first {left.steps[0]}"
        show("Drifts", (drift(index, platform, connector.read(), moment),))
        chosen = everybody(index, platform)
        question = Question(moment, Situation())
        show("ProbeResult", probe(index, platform, lambda: connector, Progress(), [("", question)], chosen))
        if not planned.steps:
            return ""
        back = undoing(index, platform, connector.read(), journal.done_in(""), moment, before)
        show("Plan", back)
        carry_out(back, habits, connector, RunJournal(Path(folder), platform), "taken back", Progress())
        wrong = unlike(dialect, before, connector.read())
        return f"after undo it holds something else: {wrong[0].what}" if wrong else ""
