"""Taking a run of align back, as a plan of its own; and what a plan must not do to whoever administers a platform."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from justlane.engine.changes.comparison import Side, compare
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.surveys.administrators import Administrators, administrators
from justlane.model.errors import RefusedError
from justlane.platforms.aligning import Plan, Step, counted_plan
from justlane.platforms.effect import as_read
from justlane.platforms.interface import Reading
from justlane.platforms.journal import Note


def undoing(index: EstateIndex, platform: str, reading: Reading, done: Sequence[Note], moment: datetime) -> Plan:
    """The steps that bring back what a run changed, the last one first, with all that they do.

    RefusedError if something that the run changed is another way since.
    """
    steps: list[Step] = []
    for note in reversed(done):
        held = reading.part(note.part).get(note.name)
        if held == note.before:
            continue  # somebody took it back already
        if held != note.after:
            message = f"{note.part} {note.name} of {platform} was changed since, so it cannot be taken back"
            raise RefusedError(message, f"see what it is now: justlane drift {platform}; nothing was changed")
        steps.append(Step(note.part, note.name, held, note.before))
    if not steps:
        return Plan(platform, reading.revision, ())
    sides = [
        Side(name, EstateIndex(as_read(index, platform, some)))
        for name, some in (("held", reading), ("before", _after(reading, steps)))
    ]
    changes = compare(sides[0], sides[1], Question(moment), within=platform)
    return counted_plan(platform, reading, steps, changes)


def refuse_lockout(
    index: EstateIndex, platform: str, planned: Plan, reading: Reading, acting: str | None, moment: datetime
) -> None:
    """RefusedError if a plan would leave nobody who administers the platform fully, or take from whoever acts some of
    the administration that they hold there."""
    if not index.platform(platform).platform.administration or not planned.steps:
        return
    was, now = (
        administrators(EstateIndex(as_read(index, platform, some)), platform, Question(moment))
        for some in (reading, _after(reading, planned.steps))
    )
    if was.full and not now.full:
        hint = "declare who does, or if it is right all the same: --even-so REASON"
        raise RefusedError(f"nobody would be left who administers {platform} fully; nothing was changed", hint)
    if acting and _rank(was, acting) > _rank(now, acting):
        hint = "let somebody else do it, or if it is right all the same: --even-so REASON"
        raise RefusedError(f"you, {acting}, would administer less of {platform} than now; nothing was changed", hint)


def _after(reading: Reading, steps: Sequence[Step]) -> Reading:
    """What a platform holds once some steps are done."""
    return reading.changed((step.part, step.name, step.after) for step in steps)


def _rank(found: Administrators, login: str) -> int:
    return 2 if login in found.full else 1 if login in found.limited else 0
