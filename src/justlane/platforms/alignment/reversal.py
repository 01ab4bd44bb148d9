"""Taking a run of align back, as a plan of its own; and what a plan must not do to whoever administers a platform."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from msgspec.structs import replace

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.questions.administrators import Administrators, administrators
from justlane.model.errors import RefusedError
from justlane.model.names import counted
from justlane.model.shell import spelt
from justlane.platforms.alignment.journal import RunNote
from justlane.platforms.alignment.new_places import with_new_places
from justlane.platforms.alignment.plan import Plan, counted_plan, settle_steps, totals_between
from justlane.platforms.differences import step_of
from justlane.platforms.interface import Dialect, Entry, Reading, Step, dialect_of


def undoing(
    index: EstateIndex,
    platform: str,
    reading: Reading,
    done: Sequence[RunNote],
    moment: datetime,
    before: Reading | None = None,
) -> Plan:
    """The steps that bring back what a run changed, the last one first, with all that they do. `before` is what was
    read before that run, if it was kept.

    RefusedError if something that the run changed is another way since.
    """
    dialect = dialect_of(index.estate.platforms[platform])
    index, places = with_new_places(index, platform, reading)
    steps: list[Step] = []
    for (part, name), (was, after) in reversed(_changes(done).items()):
        held = reading.part(part).get(name)
        if held == was or (was is not None and dialect.alike(part, held, was)):
            continue  # somebody took it back already
        if not dialect.alike(part, held, after):
            message = f"{part} {name} of {platform} was changed since, so it cannot be taken back"
            raise RefusedError(message, f"see what it is now: {spelt('drift', platform)}; nothing was changed")
        steps.append(step_of(dialect, part, name, held if held is not None else after, was))
    if not steps:
        return Plan(platform, reading.revision, ())
    steps += _exactly(dialect, reading, before, steps)
    steps = settle_steps(index, platform, reading, steps, back=True)
    changes = totals_between(index, platform, reading, reading.after(steps), moment)
    return replace(counted_plan(index, platform, reading, steps, changes), new_places=places)


def refuse_outside(planned: Plan) -> None:
    """RefusedError if taking a run back would give what the estate says nothing of, and so counts in no cell: that
    needs a word of its own."""
    given = [step for step in planned.steps if step.uncounted and step.after is not None]
    if given:
        more = f", and {counted(len(given) - 1, 'change')} more" if len(given) > 1 else ""
        message = f"this gives back what no count of cells shows: {given[0].what} ({given[0].uncounted}){more}"
        raise RefusedError(message, "if it is right all the same: --even-so REASON; nothing was changed")


def _exactly(dialect: Dialect, reading: Reading, before: Reading | None, steps: Sequence[Step]) -> list[Step]:
    """What the places concerned are to hold, exactly as the platform kept it."""
    if before is None or not dialect.exact:
        return []
    places = {(s.after or s.before or {}).get("place") for s in steps}
    now, was = reading.part(dialect.exact), before.part(dialect.exact)
    some = [name for name, entry in was.items() if entry.get("place") in places and name in now]
    return [step_of(dialect, dialect.exact, name, now[name], was[name]) for name in some]


def _changes(done: Sequence[RunNote]) -> dict[tuple[str, str], tuple[Entry | None, Entry | None]]:
    """What each thing was before the first of its changes and after the last."""
    found: dict[tuple[str, str], tuple[Entry | None, Entry | None]] = {}
    for note in done:
        key = (note.part, note.name)
        found[key] = (found[key][0] if key in found else note.before, note.after)
    return {key: (before, after) for key, (before, after) in found.items() if before != after}


def refuse_lockout(
    index: EstateIndex, platform: str, planned: Plan, reading: Reading, acting: str | None, moment: datetime
) -> None:
    """RefusedError if a plan would leave nobody who administers the platform fully, or take from whoever acts some of
    the administration that they hold there."""
    if not index.platform(platform).platform.administration or not planned.steps:
        return
    dialect = dialect_of(index.estate.platforms[platform])
    was, now = (
        administrators(EstateIndex(dialect.as_read(index, platform, some)), platform, Question(moment))
        for some in (reading, reading.after(planned.steps))
    )
    if was.full and not now.full:
        hint = "declare who does, or if it is right all the same: --even-so REASON"
        raise RefusedError(f"nobody would be left who administers {platform} fully; nothing was changed", hint)
    if acting and _rank(was, acting) > _rank(now, acting):
        hint = "let somebody else do it, or if it is right all the same: --even-so REASON"
        raise RefusedError(f"you, {acting}, would administer less of {platform} than now; nothing was changed", hint)


def _rank(found: Administrators, login: str) -> int:
    return 2 if login in found.full else 1 if login in found.limited else 0
