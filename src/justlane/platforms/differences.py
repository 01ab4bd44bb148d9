"""What differs between two states of a platform: the steps from one to the other, and who may do what else. Pure."""

from __future__ import annotations

from datetime import datetime

from justlane.engine.changes.comparison import Differences, differences
from justlane.engine.changes.days import days_of_change
from justlane.engine.decision.judge import Question
from justlane.engine.facts.clock import noon
from justlane.engine.facts.index import EstateIndex
from justlane.model.findings import Source
from justlane.platforms.entries import texts
from justlane.platforms.interface import Declared, Dialect, Entry, Reading, Step, dialect_of


def steps_between(dialect: Dialect, held: Reading, wanted: Declared) -> list[Step]:
    """What has to change so that a platform holds what is wanted: first what is added or changed, in the order of the
    dialect's parts, then what is removed, in the opposite order."""
    steps: list[Step] = []
    for part in dialect.parts:
        there = held.part(part)
        for name, entry in wanted.parts.get(part, {}).items():
            same = dialect.alike(part, there.get(name), entry)
            if not same and (name in there or part not in dialect.only_shown):
                steps.append(step_of(dialect, part, name, there.get(name), entry, wanted.lines_of(part, name)))
    for part in (part for part in reversed(dialect.parts) if part not in dialect.beside):
        gone = [(n, entry) for n, entry in held.part(part).items() if n not in wanted.parts.get(part, {})]
        gone = [(n, entry) for n, entry in gone if not dialect.alike(part, entry, None)]
        steps += [step_of(dialect, part, name, entry, None) for name, entry in gone]
    return steps


def is_account_taken(dialect: Dialect, step: Step) -> bool:
    """Whether a step takes somebody's account, or their sign-in."""
    enabled = [entry is not None and entry.get("enabled") is True for entry in (step.before, step.after)]
    return dialect.sort(step.part).accounts and (step.after is None or enabled == [True, False])


def step_of(
    dialect: Dialect,
    part: str,
    name: str,
    before: Entry | None,
    after: Entry | None,
    lines: tuple[Source, ...] = (),
) -> Step:
    """A change of one thing, in the dialect's words."""
    entry = after if after is not None else before or {}
    what, when = dialect.words(part, name, entry), dialect.condition(part, entry)
    changes = () if before is None or after is None else tuple(dialect.changes_in_words(part, before, after))
    members = texts(entry.get("members")) if before is None and dialect.sort(part).one_by_one else []
    what += f" with {', '.join(members)}" if members else ""
    return Step(part, name, before, after, what, lines, part in dialect.only_shown, when, changes=changes)


def differences_between(
    index: EstateIndex, platform: str, before: Reading, after: Reading | None, moment: datetime
) -> Differences:
    """What differs between two states of a platform on the day of a moment; None for what is declared."""
    return differences(_sides(index, platform, before, after), Question(moment), within=platform)


def differences_on_days(
    index: EstateIndex, platform: str, before: Reading, after: Reading, moment: datetime
) -> list[Differences]:
    """The same on that day, and on each later one on which it can be something else."""
    sides = _sides(index, platform, before, after)
    days = days_of_change(sides, Question(moment)).get(platform, ())
    later = [Question(moment, day=noon(day, index.estate.time_zone)) for day in days]
    return [differences(sides, question, within=platform) for question in (Question(moment), *later)]


def _sides(index: EstateIndex, platform: str, *some: Reading | None) -> list[EstateIndex]:
    dialect = dialect_of(index.estate.platforms[platform])
    return [index if held is None else EstateIndex(dialect.as_read(index, platform, held)) for held in some]


def unlike(dialect: Dialect, wanted: Reading, found: Reading) -> tuple[Step, ...]:
    """Where a platform holds something else than it should after changes; each as what would bring it there."""
    differing: list[Step] = []
    for part in (part for part in dialect.parts if part not in dialect.only_shown & dialect.beside):
        should, there = wanted.part(part), found.part(part)
        for name in {**should, **there}:
            if not dialect.alike(part, there.get(name), should.get(name)):
                differing.append(step_of(dialect, part, name, there.get(name), should.get(name)))
    return tuple(differing)
