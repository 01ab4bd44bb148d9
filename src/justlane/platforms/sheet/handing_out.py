"""Handing a plan out on paper, and noting what came of the sheet before."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from pathlib import Path
from typing import NamedTuple

from justlane.model.estate import Platform
from justlane.model.names import counted
from justlane.platforms.alignment.journal import RunJournal
from justlane.platforms.alignment.plan import Plan
from justlane.platforms.interface import Step
from justlane.platforms.sheet.paper import mark_of, read_ticks, write_sheet


class HandedOut(NamedTuple):
    """What to tell the person."""

    sheet: str
    said: tuple[str, ...]


def hand_out(folder: Path, platform: Platform, planned: Plan, why: str, moment: datetime) -> HandedOut:
    """Write the sheet of a plan. What the last sheet had and this one has not came about, and is noted as done; what is
    ticked and still missing in the export stays ticked. Everything is in the journal before the sheet is written."""
    run, done = read_ticks(folder, platform.name)
    said = list(_settled(folder, platform.name, run, planned.steps))
    still = {mark_of(step) for step in planned.steps} & done
    journal = RunJournal(folder, platform.name)
    journal.write("started", of=len(planned.steps), why=why)
    for number, s in enumerate(planned.steps, 1):
        journal.write("sending", number, len(planned.steps), part=s.part, name=s.name, before=s.before, after=s.after)
    sheet = write_sheet(folder, platform, journal.run, planned.steps, frozenset(still), moment)
    if still:
        waits = f"{counted(len(still), 'step')} ticked, and not in the export yet: export again"
        said.append(waits)
    left = len(planned.steps) - len(still)
    said.append(f"{counted(left, 'step')} to carry out by hand: {sheet}, and beside it the same as CSV")
    return HandedOut(sheet, tuple(said))


def settle(folder: Path, platform: str) -> list[str]:
    """Note that all steps of the last sheet came about, since nothing is left to do."""
    run, _ = read_ticks(folder, platform)
    return list(_settled(folder, platform, run, ()))


def _settled(folder: Path, platform: str, run: str, left: tuple[Step, ...]) -> Iterator[str]:
    if not run:
        return
    journal = RunJournal(folder, platform, run)
    waiting = {(step.part, step.name) for step in left}
    came = [note for note in journal.sent_in(run) if (note.part, note.name) not in waiting]
    for note in came:
        journal.write("done", note.step, note.of, part=note.part, name=note.name)
    if came and not left:
        journal.write("finished", of=came[0].of)
    if came:
        yield f"{counted(len(came), 'step')} of the last sheet came about, as the export shows"
