"""Making a platform match, from reading it to reading it again: planned, guarded, carried out.

The order of the guards is here and nowhere else: what cannot be expressed, too much that would go, what the estate says
nothing of, and who would be locked out, all before anybody is asked. Asking is left to whoever calls.
"""

from __future__ import annotations

from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path

from msgspec import Struct

from justlane.engine.facts.account_names import account_of, in_accounts
from justlane.engine.facts.index import EstateIndex
from justlane.files.disk.identity import who
from justlane.files.saving.proposal import acting_person
from justlane.jobs import known
from justlane.model.progress import Progress
from justlane.platforms.alignment import plan, readings
from justlane.platforms.alignment.journal import RunJournal, RunNote
from justlane.platforms.alignment.plan import Plan
from justlane.platforms.alignment.reversal import refuse_lockout, refuse_outside, undoing
from justlane.platforms.alignment.run import StepRefusal, carry_out
from justlane.platforms.differences import unlike
from justlane.platforms.interface import Connector, Reading, Step, dialect_of


class Came(Struct, frozen=True):
    """What came of carrying a plan out."""

    made: int
    refused: tuple[StepRefusal, ...]
    other: tuple[Step, ...]
    """What the platform holds otherwise than it should by what was shown."""
    left: Plan


class Alignment:
    """One platform on its way to what is declared, or back to what it held before a run."""

    def __init__(
        self, index: EstateIndex, platform: str, place: Path, connector: Connector, undone: str | None = None
    ) -> None:
        """Read the platform. `undone` is the run to take back, empty for the last; None to match what is declared."""
        self._people, self._platform, self._place, self._connector = index, platform, place, connector
        self._index = in_accounts(index, platform)
        self._journal = RunJournal(place, platform)
        self.undone = None if undone is None else undone or self._journal.last_run()
        """The run that is taken back."""
        self.by_people = dialect_of(index.estate.platforms[platform]).by_people
        """Whether people make the changes, from a sheet."""
        self.unfinished: RunNote | None = None if self.by_people else self._journal.unfinished()
        """The change at which the last run was cut off."""
        self._reading = connector.read()
        self._before = self._read_before()

    def _read_before(self) -> Reading | None:
        """What was read before the run that is taken back, if that is kept, and the person's own."""
        name = self._journal.reading_before(self.undone) if self.undone is not None else ""
        return readings.open_own(self._place, self._platform, name) if name else None

    @cached_property
    def plan(self) -> Plan:
        """What is to be done. RefusedError if something is declared that the platform cannot express."""
        now = datetime.now(UTC)
        if self.undone is None:
            return plan.plan(self._index, self._platform, self._reading, now)
        done = self._journal.done_in(self.undone)
        return undoing(self._index, self._platform, self._reading, done, now, self._before)

    def refuse(self, most_removals: int, acting_as: str, even_so: str, *, undeclared: bool = False) -> None:
        """RefusedError if the plan takes away more than is allowed, or, the first time, what nobody declared, unless
        `undeclared` allows it; or, unless somebody says why it is right all the same, gives somebody something outside
        of what is managed, gives back what no cell counts, or locks somebody out."""
        plan.refuse_too_many_removals(self.plan, most_removals)
        # a sheet that was handed out says all that is to go, and waits until somebody has done it
        before = self._journal.has("started" if self.by_people else "finished")
        if self.undone is None and not undeclared and not before:
            plan.refuse_undeclared(self._index, self.plan)
        if even_so:
            return
        plan.refuse_harm_outside(self.plan)
        if self.undone is not None:
            refuse_outside(self.plan)
        if acting_as:
            known.user(self._people.estate, acting_as)
        acting = account_of(self._index, self._platform, acting_person(self._people, acting_as, who()))
        refuse_lockout(self._index, self._platform, self.plan, self._reading, acting, datetime.now(UTC))

    def carry_out(self, why: str, progress: Progress) -> Came:
        """Make the changes, read again and compare with what was to come, and with what was there before a run that is
        taken back."""
        declared = self._index.estate.platforms[self._platform]
        kept = readings.keep(self._place, self._platform, self._reading, datetime.now(UTC))
        refused = carry_out(self.plan, declared.habits, self._connector, self._journal, why, progress, kept)
        found = self._connector.read()
        gone = {(one.step.part, one.step.name) for one in refused}
        made = [s for s in self.plan.steps if (s.part, s.name) not in gone]
        wanted = self._before or self._reading.after(made)
        other = unlike(dialect_of(declared), wanted, found)
        left = plan.plan(self._index, self._platform, found, datetime.now(UTC))
        return Came(len(made), refused, other, left)
