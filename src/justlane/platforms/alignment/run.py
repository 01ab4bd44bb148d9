"""Making the changes of a plan: each written down before it is sent, and what cannot be done stops nothing else.

Where a platform refuses some changes that were to be made together, those that close a door are made by themselves,
then one by one: one that cannot be made never keeps another from being made. What was refused is tried once more at the
end; what is refused then is named, and the next plan finds it again.
"""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from justlane.model.errors import ChangeRefusedError, JustLaneError
from justlane.model.estate import Habits
from justlane.model.progress import Progress
from justlane.platforms.alignment.journal import RunJournal
from justlane.platforms.alignment.order import weighs_plainly
from justlane.platforms.alignment.plan import Plan
from justlane.platforms.interface import Connector, Step


class StepRefusal(Struct, frozen=True):
    """A change that the platform did not make."""

    step: Step
    why: str


def carry_out(
    planned: Plan,
    habits: Habits,
    connector: Connector,
    journal: RunJournal,
    why: str,
    progress: Progress,
    reading: str = "",
) -> tuple[StepRefusal, ...]:
    """Make the changes stroke by stroke; what the platform refused, in order.

    Stops when the platform cannot be reached or changed meanwhile, or when interrupted: what is done is done and noted,
    what is left is found again by the next plan. `reading` is the name under which the reading from before is kept.
    """
    total = len(planned.steps)
    journal.write("started", of=total, why=why, reading=reading)
    progress.start(total, planned.platform)
    run = _Run(planned.revision, connector, journal, progress, total)
    refused: list[StepRefusal] = []
    try:
        apart = weighs_plainly(habits)
        for stroke in planned.strokes:
            refused += run.made(stroke, apart=apart)
        if refused and apart and run.made_some:
            # what stood in the way may be gone now, such as a group that held the one it is to be in
            refused = [one for first in refused for one in run.made((first.step,), apart=apart)]
    except (JustLaneError, KeyboardInterrupt):
        journal.write("stopped", of=total)
        raise
    finally:
        progress.stop()
    journal.write("finished", of=total)
    return tuple(refused)


class _Run:
    def __init__(
        self, revision: str, connector: Connector, journal: RunJournal, progress: Progress, total: int
    ) -> None:
        self._revision, self._connector, self._journal = revision, connector, journal
        self._total, self._progress = total, progress
        self._number = 0

    @property
    def made_some(self) -> bool:
        """Whether anything was made."""
        return self._number > 0

    def made(self, stroke: Sequence[Step], *, apart: bool) -> list[StepRefusal]:
        """A stroke; where it is refused, what closes a door by itself, then one by one. Where one thing turns the
        meaning of others, it is made whole or not at all."""
        try:
            self.send(stroke)
        except ChangeRefusedError as error:
            if len(stroke) == 1 or not apart:
                return [StepRefusal(step, error.message) for step in stroke]
            closing = [step for step in stroke if _closes(step)]
            opening = [step for step in stroke if not _closes(step)]
            parts = [closing, opening] if closing and opening else [[step] for step in stroke]
            return [one for part in parts for one in self.made(part, apart=apart)]
        return []

    def send(self, stroke: Sequence[Step]) -> None:
        """Make some changes together, written down before and after. ChangeRefusedError if none of them came about."""
        numbered = list(enumerate(stroke, self._number + 1))
        self._number += len(stroke)
        for n, step in numbered:
            self._progress.step(f"{step.verb} {step.part}")
            told = {"part": step.part, "name": step.name}
            self._journal.write("sending", n, self._total, before=step.before, after=step.after, **told)
        key = f"{self._journal.run}-{numbered[0][0]}"
        try:
            self._revision = self._connector.change(stroke, self._revision, key)
        except ChangeRefusedError as error:
            self._number -= len(stroke)
            for n, step in numbered:
                self._journal.write("refused", n, self._total, part=step.part, name=step.name, why=error.message)
            raise
        for n, step in numbered:
            self._journal.write("done", n, self._total, part=step.part, name=step.name)


def _closes(step: Step) -> bool:
    """Whether a change only takes away: something that is gone, an account that is shut; or lets what is left alone
    keep what it would lose by that."""
    shut = (step.before or {}).get("enabled") is True and (step.after or {}).get("enabled") is False
    return step.after is None or shut or step.keeps
